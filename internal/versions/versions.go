// Package versions keeps sealed versions of definitions in the user's own
// repository: a folder of canonical files a version, and a ledger with a line
// a version, each of which holds the hash of the line before.
//
//	versions/1.4.0/skerry.booking.faithful
//	versions/ledger.jsonl
//
// The ledger decides: a folder without a line is no version, only what a
// crash has left.
package versions

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	onDisk "faithfulcourier/internal/files"
)

// Folder is the name of the folder below the project.
const Folder = "versions"

const ledgerName = "ledger.jsonl"

// sealing begins the name of a version's folder while it is written.
const sealing = ".sealing-"

// Entry is a line of the ledger.
type Entry struct {
	Version  string    `json:"version"`
	Time     time.Time `json:"time"`
	Digest   string    `json:"digest"`   // of the definitions
	Files    string    `json:"files"`    // SHA-256 over the sealed files
	Previous string    `json:"previous"` // SHA-256 of the line before, "" for the first
	Verdict  string    `json:"verdict"`  // of the comparison with the version before, "first" for the first
	Note     string    `json:"note,omitempty"`

	Signer    string `json:"signer,omitempty"`    // the public key of who signed the line, as OpenSSH writes it
	Signature string `json:"signature,omitempty"` // of the line without this, in base64
}

// Ledger is the ledger of a project.
type Ledger struct {
	Entries []Entry // oldest first

	dir   string // versions/
	lines [][]byte
}

// Open reads the ledger of the project in dir. A project without one has an
// empty ledger.
func Open(dir string) (*Ledger, error) {
	l := &Ledger{dir: filepath.Join(dir, Folder)}
	text, err := os.ReadFile(filepath.Join(l.dir, ledgerName))
	if errors.Is(err, fs.ErrNotExist) {
		return l, nil
	}
	if err != nil {
		return nil, err
	}
	for i, line := range bytes.Split(bytes.TrimSuffix(text, []byte("\n")), []byte("\n")) {
		var e Entry
		line = bytes.TrimSuffix(line, []byte("\r"))
		if err := json.Unmarshal(line, &e); err != nil {
			return nil, fmt.Errorf("%s/%s:%d: %s", Folder, ledgerName, i+1, unreadable(line, err))
		}
		if before := l.lastHash(); e.Previous != before {
			return nil, fmt.Errorf("%s/%s:%d does not follow the line before it: the ledger was changed by hand, or two branches sealed a version each; faithful history --audit says more", Folder, ledgerName, i+1)
		}
		l.Entries = append(l.Entries, e)
		l.lines = append(l.lines, line)
	}
	return l, nil
}

func (l *Ledger) lastHash() string {
	if len(l.lines) == 0 {
		return ""
	}
	return hash(l.lines[len(l.lines)-1])
}

// unreadable says what is wrong with a line of the ledger that is no JSON, which
// most often is what a merge left.
func unreadable(line []byte, err error) string {
	if isConflict(line) {
		return "two branches sealed a version each, and their merge stopped here; " +
			"take the versions of the branch that is merged, and seal yours after them: " +
			"git restore --source MERGE_HEAD --staged --worktree versions (in a rebase: --source HEAD), then faithful seal"
	}
	return fmt.Sprintf("the line can't be read: %v; restore the ledger from your repository, for example with: git restore %s/%s", err, Folder, ledgerName)
}

func isConflict(line []byte) bool {
	return bytes.HasPrefix(line, []byte("<<<<<<<"))
}

func hash(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// Latest returns the newest entry, or nil.
func (l *Ledger) Latest() *Entry {
	if len(l.Entries) == 0 {
		return nil
	}
	return &l.Entries[len(l.Entries)-1]
}

// Find returns the entry of a version, or nil.
func (l *Ledger) Find(version string) *Entry {
	for i := range l.Entries {
		if l.Entries[i].Version == version {
			return &l.Entries[i]
		}
	}
	return nil
}

// Missing says that a version is not sealed here, and which near it are.
func (l *Ledger) Missing(version string) error {
	const few = 4
	names := l.Names()
	switch wanted, ok := parse(version); {
	case len(names) == 0:
		return errors.New("no version is sealed yet; seal the first with: faithful seal")
	case ok && len(names) > few:
		// Versions only grow: those around its place are the nearest.
		place, _ := slices.BinarySearchFunc(names, wanted, func(name string, wanted numbers) int {
			n, _ := parse(name)
			return compareNumbers(n, wanted)
		})
		first := max(0, min(place-few/2, len(names)-few))
		return fmt.Errorf("there is no version %s; the nearest of %d sealed ones are: %s", version, len(names), strings.Join(names[first:first+few], ", "))
	case len(names) > few:
		return fmt.Errorf("there is no version %s; the last sealed ones are: %s", version, strings.Join(names[len(names)-few:], ", "))
	}
	return fmt.Errorf("there is no version %s; the sealed versions are: %s", version, strings.Join(names, ", "))
}

// Names lists the sealed versions, oldest first.
func (l *Ledger) Names() []string {
	var names []string
	for _, e := range l.Entries {
		names = append(names, e.Version)
	}
	return names
}

// File is one sealed file.
type File struct {
	Name string
	Text string
}

// Read returns the files of a version, sorted by name, and refuses them when
// they are not those that were sealed.
func (l *Ledger) Read(e *Entry) ([]File, error) {
	dir := filepath.Join(l.dir, e.Version)
	list, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("version %[2]s is in the ledger, and its folder %[1]s/%[2]s is not here; restore it from your repository, for example with: git restore %[1]s/%[2]s", Folder, e.Version)
	}
	if err != nil {
		return nil, fmt.Errorf("the files of version %s can't be read: %w", e.Version, err)
	}
	var files []File
	for _, d := range list {
		text, err := os.ReadFile(filepath.Join(dir, d.Name()))
		if err != nil {
			return nil, err
		}
		files = append(files, File{Name: d.Name(), Text: string(bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n")))})
	}
	if hashFiles(files) != e.Files {
		return nil, fmt.Errorf("the files in %[1]s/%[2]s are not those that were sealed; restore them from your repository, for example with: git restore %[1]s/%[2]s", Folder, e.Version)
	}
	return files, nil
}

func hashFiles(files []File) string {
	var b strings.Builder
	for _, f := range files {
		fmt.Fprintf(&b, "%s %s\n", hash([]byte(f.Text)), f.Name)
	}
	return hash([]byte(b.String()))
}

// Size says how much a change asks of a version number.
type Size uint8

// The sizes.
const (
	Patch Size = iota
	Minor
	Major
)

func (s Size) String() string { return [...]string{"patch", "minor", "major"}[s] }

// numbers are the three parts of a version. Sealed versions have no others, so
// this is all of the arithmetic that they need.
type numbers [3]int

func parse(version string) (n numbers, ok bool) {
	parts := strings.Split(version, ".")
	if len(parts) != len(n) {
		return n, false
	}
	for i, part := range parts {
		v, err := strconv.ParseUint(part, 10, 31)
		if err != nil || strconv.FormatUint(v, 10) != part {
			return n, false
		}
		n[i] = int(v)
	}
	return n, true
}

// Next returns the lowest version that a change of a size needs after a
// version. Under 1.0.0 everything counts one place lower.
func Next(version string, size Size) (string, error) {
	n, ok := parse(version)
	if !ok {
		return "", fmt.Errorf("the ledger has a version %q, which is none", version)
	}
	if n[0] == 0 && size > Patch {
		size--
	}
	place := int(Major - size)
	n[place]++
	clear(n[place+1:])
	return fmt.Sprintf("%d.%d.%d", n[0], n[1], n[2]), nil
}

// Check refuses what is no version, or is lower than the one needed.
func Check(version, needed string) error {
	n, ok := parse(version)
	if !ok {
		return fmt.Errorf("%q is no version; write three numbers, such as 1.4.0", version)
	}
	if least, ok := parse(needed); ok && slices.Compare(n[:], least[:]) < 0 {
		return fmt.Errorf("%s is too low: what changed needs %s or higher", version, needed)
	}
	return nil
}

// Seal writes the files of a version and adds its line to the ledger, whole
// or not at all: the ledger is replaced last, in one step. Digest, verdict
// and note of e are kept; files, hashes and time are filled in. A signer, which may
// be nil, signs the line.
func (l *Ledger) Seal(e Entry, files []File, now time.Time, signer *Signer) (*Entry, error) {
	files = slices.Clone(files)
	slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
	e.Time = now.UTC().Truncate(time.Second)
	e.Files = hashFiles(files)
	e.Previous = l.lastHash()
	if signer != nil {
		if err := signer.sign(&e); err != nil {
			return nil, err
		}
	}
	line, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(l.dir, 0o777); err != nil {
		return nil, err
	}
	if err := l.stillLatest(); err != nil {
		return nil, err
	}
	if err := l.writeFiles(e.Version, files); err != nil {
		return nil, err
	}
	if err := l.stillLatest(); err != nil {
		return nil, err
	}
	lines := append(slices.Clone(l.lines), line)
	text := append(bytes.Join(lines, []byte("\n")), '\n')
	if err := onDisk.ReplaceDurably(filepath.Join(l.dir, ledgerName), text, 0o644); err != nil {
		return nil, err
	}
	l.Entries, l.lines = append(l.Entries, e), lines
	return l.Latest(), nil
}

// stillLatest refuses when someone else sealed a version since Open, which
// would be lost.
func (l *Ledger) stillLatest() error {
	text, err := os.ReadFile(filepath.Join(l.dir, ledgerName))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	last := ""
	if text = bytes.TrimRight(text, "\r\n"); len(text) > 0 {
		last = hash(text[bytes.LastIndexByte(text, '\n')+1:])
	}
	if last != l.lastHash() {
		return fmt.Errorf("%s/%s changed while this version was sealed; nothing was sealed, so try again", Folder, ledgerName)
	}
	return nil
}

// writeFiles makes the folder of a version. One that a crash left behind is
// no version, since the ledger does not know it, and is replaced.
func (l *Ledger) writeFiles(version string, files []File) error {
	present, err := os.ReadDir(l.dir)
	if err != nil {
		return err
	}
	for _, d := range present {
		if !strings.HasPrefix(d.Name(), sealing) {
			continue
		}
		if err := os.RemoveAll(filepath.Join(l.dir, d.Name())); err != nil { // left by a crash
			return err
		}
	}
	temporary, err := os.MkdirTemp(l.dir, sealing)
	if err != nil {
		return err
	}
	defer os.RemoveAll(temporary)
	if err := os.Chmod(temporary, 0o755); err != nil {
		return err
	}
	for _, f := range files {
		if err := onDisk.ReplaceDurably(filepath.Join(temporary, f.Name), []byte(f.Text), 0o644); err != nil {
			return err
		}
	}
	target := filepath.Join(l.dir, version)
	if err := os.RemoveAll(target); err != nil {
		return err
	}
	if err := os.Rename(temporary, target); err != nil {
		return err
	}
	return onDisk.SyncFolder(l.dir)
}
