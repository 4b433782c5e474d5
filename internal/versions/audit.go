package versions

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
)

// NotesFolder holds notes of versions that people write and edit, a Markdown file
// a version: versions/notes/1.4.0.md.
const NotesFolder = "notes"

// Flaw is something that an audit found: a line of the ledger (0: none) or a
// version, and what is wrong.
type Flaw struct {
	Line    int    `json:"line,omitempty"`
	Version string `json:"version,omitempty"`
	Message string `json:"message"`
}

// Audit hashes everything again: that each line of the ledger follows the one
// before it, that the files of each version are those that were sealed, and that
// nothing lies there which no line knows of. It returns how many versions there
// are and every flaw. digest computes what the definitions in some files are
// identified by, of several versions at the same time; it may be nil. trusted are
// the public keys, by ParseSigner, that may sign lines: with any, each line must be
// signed from the first on that is. Without, each signature that is there must fit.
func Audit(dir string, trusted []string, digest func(files []File) (string, error)) (count int, flaws []Flaw, err error) {
	l := &Ledger{dir: filepath.Join(dir, Folder)}
	text, err := os.ReadFile(filepath.Join(l.dir, ledgerName))
	if errors.Is(err, fs.ErrNotExist) {
		text, err = nil, nil
	}
	if err != nil {
		return 0, nil, err
	}
	known := map[string]bool{}
	previous := ""
	var before numbers
	var sealed []*sealedFiles
	torn, signing := false, false
	for i, line := range bytes.Split(bytes.TrimSuffix(text, []byte("\n")), []byte("\n")) {
		if len(text) == 0 {
			break
		}
		line = bytes.TrimSuffix(line, []byte("\r"))
		flaw := func(version, format string, args ...any) {
			flaws = append(flaws, Flaw{i + 1, version, fmt.Sprintf(format, args...)})
		}
		var e Entry
		if err := json.Unmarshal(line, &e); err != nil {
			flaw("", "%s", unreadable(line, err))
			if torn = isConflict(line); torn {
				break // all that follows is of two ledgers
			}
			previous = hash(line)
			continue
		}
		count++
		if e.Previous != previous {
			flaw(e.Version, "the line does not follow the one before it: a line was changed, added, removed or moved, or two branches sealed a version each")
		}
		previous = hash(line)
		signing = signing || e.Signature != ""
		if e.Signature != "" || e.Signer != "" {
			if wrong := checkSignature(&e, trusted); wrong != "" {
				flaw(e.Version, "%s", wrong)
			}
		} else if signing {
			flaw(e.Version, "the line is not signed, though one before it is")
		}
		n, ok := parse(e.Version)
		switch {
		case !ok:
			flaw(e.Version, "%q is no version", e.Version)
			continue
		case known[e.Version]:
			flaw(e.Version, "the version stands in the ledger twice")
			continue
		case compareNumbers(n, before) < 0:
			flaw(e.Version, "the version is lower than the one before it")
		}
		known[e.Version], before = true, n
		sealed = append(sealed, &sealedFiles{line: i + 1, entry: e})
	}
	if len(trusted) > 0 && count > 0 && !signing {
		flaws = append(flaws, Flaw{Message: "no line is signed, though faithful.toml names signers"})
	}
	flaws = append(flaws, l.auditFiles(sealed, digest)...)
	slices.SortStableFunc(flaws, func(a, b Flaw) int { return a.Line - b.Line })
	if torn {
		return count, flaws, nil
	}
	more, err := l.unknown(known)
	return count, append(flaws, more...), err
}

// sealedFiles are the files of a line of the ledger, and what is wrong with them.
type sealedFiles struct {
	line  int
	entry Entry
	flaw  string
}

// auditFiles reads the files of versions again, of several at a time.
func (l *Ledger) auditFiles(sealed []*sealedFiles, digest func([]File) (string, error)) (flaws []Flaw) {
	var group sync.WaitGroup
	next := make(chan *sealedFiles)
	for range runtime.GOMAXPROCS(0) {
		group.Go(func() {
			for s := range next {
				s.flaw = l.auditVersion(&s.entry, digest)
			}
		})
	}
	for _, s := range sealed {
		next <- s
	}
	close(next)
	group.Wait()
	for _, s := range sealed {
		if s.flaw != "" {
			flaws = append(flaws, Flaw{s.line, s.entry.Version, s.flaw})
		}
	}
	return flaws
}

func (l *Ledger) auditVersion(e *Entry, digest func([]File) (string, error)) (flaw string) {
	files, err := l.Read(e)
	if err != nil {
		return err.Error()
	}
	if digest == nil {
		return ""
	}
	if d, err := digest(files); err != nil {
		return fmt.Sprintf("its definitions can't be read: %v", err)
	} else if d != e.Digest {
		return fmt.Sprintf("the ledger says that its digest is %s, and it is %s", e.Digest, d)
	}
	return ""
}

func compareNumbers(a, b numbers) int {
	for i := range a {
		if a[i] != b[i] {
			return a[i] - b[i]
		}
	}
	return 0
}

// unknown finds what lies among the versions and is none.
func (l *Ledger) unknown(known map[string]bool) (flaws []Flaw, err error) {
	list, err := os.ReadDir(l.dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	for _, d := range list {
		name := d.Name()
		switch {
		case name == ledgerName, name == NotesFolder, known[name]:
		case strings.HasPrefix(name, sealing), strings.HasSuffix(name, ".faithful-new"):
			// What a crash has left; the next seal takes it away.
		default:
			flaws = append(flaws, Flaw{Version: name, Message: fmt.Sprintf("%s/%s is in no line of the ledger: a line was removed, or the folder was added by hand", Folder, name)})
		}
	}
	return flaws, nil
}

// Note is what somebody wrote about a version in the folder of notes, or "".
func Note(dir, version string) (string, error) {
	text, err := os.ReadFile(filepath.Join(dir, Folder, NotesFolder, version+".md"))
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	return strings.TrimSpace(string(text)), err
}
