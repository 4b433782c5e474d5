package versions

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
)

// Line is a line of a ledger as it is written, and the version that it is of.
type Line struct {
	Version string
	Text    string
}

// Lines reads the lines of a ledger, wherever it was found; what is not a line is left out.
func Lines(text []byte) (list []Line) {
	for line := range bytes.Lines(text) {
		line = bytes.TrimRight(line, "\r\n")
		var e Entry
		if json.Unmarshal(line, &e) == nil && e.check() == "" {
			list = append(list, Line{e.Version, string(line)})
		}
	}
	return list
}

// ReadLines reads the lines of a project's ledger.
func ReadLines(dir string) (list []Line, err error) {
	lines, err := readLines(dir)
	for _, line := range lines {
		list = append(list, Lines(line)...)
	}
	return list, err
}

// Conflict is the error of a ledger in which a merge of version control stopped: two
// branches sealed versions after the same one.
type Conflict struct {
	At     int    // the line where it begins
	Ours   []Line // what the branch has that is merged into
	Theirs []Line // what the branch has that is merged
}

func (c *Conflict) Error() string {
	return fmt.Sprintf("%s/%s:%d: two branches sealed versions after the same one, and their merge stopped here: this "+
		"branch has %s, the other one %s", Folder, ledgerName, c.At, named(c.Ours), named(c.Theirs))
}

func named(list []Line) string {
	if len(list) == 0 {
		return "none"
	}
	var names []string
	for _, l := range list {
		names = append(names, l.Version)
	}
	return strings.Join(names, ", ")
}

// conflictIn reads the two sides between the marks that begin at a line.
func conflictIn(lines [][]byte, at int) *Conflict {
	c := &Conflict{At: at + 1}
	side := &c.Ours
	for _, line := range lines[at+1:] {
		switch {
		case bytes.HasPrefix(line, []byte("|||||||")):
			side = new([]Line) // what both came from
		case bytes.HasPrefix(line, []byte("=======")):
			side = &c.Theirs
		case bytes.HasPrefix(line, []byte(">>>>>>>")):
			return c
		default:
			*side = append(*side, Lines(line)...)
		}
	}
	return c
}
