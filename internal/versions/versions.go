// Package versions keeps sealed versions of definitions in the user's own
// repository: a folder of canonical files a version, and a ledger with a line
// a version, each of which holds the hash of the line before.
//
//	versions/1.4.0/skerry.booking.faithful
//	versions/ledger.jsonl
//
// The ledger decides: a folder without a line is not a version. It is either what a
// seal has left that was interrupted, which versions/.sealing.json tells, or
// somebody's files, which are never touched. A ledger may come with a repository of
// somebody else's: what it says is checked when it is read.
package versions

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode"

	"faithfulcourier/internal/files"
)

// Folder is the name of the folder below the project.
const Folder = "versions"

const ledgerName = "ledger.jsonl"

// sealing begins the name of a version's folder while it is written.
const sealing = ".sealing-"

// Entry is a line of the ledger.
type Entry struct {
	Version  string    `json:"version"`
	Follows  string    `json:"follows,omitempty"` // the version that it was compared with; "" for the line before
	Time     time.Time `json:"time"`
	Digest   string    `json:"digest"`   // of the definitions
	Files    string    `json:"files"`    // SHA-256 over the sealed files
	Previous string    `json:"previous"` // SHA-256 of the line before, "" for the first
	Verdict  string    `json:"verdict"`  // of the comparison with the version before, "first" for the first
	Note     string    `json:"note,omitempty"`
	Promise  *Promise  `json:"promise,omitempty"` // by which the verdict was found

	Signer    string `json:"signer,omitempty"`    // the public key of who signed the line, as OpenSSH writes it
	Signature string `json:"signature,omitempty"` // of the line without this, in base64
}

// Promise is the compatibility promise that a verdict was found by.
type Promise struct {
	Rollout   string   `json:"rollout"`
	Stored    string   `json:"stored"`
	Covers    []string `json:"covers"`
	Languages []string `json:"languages,omitempty"`
}

// hexes is what hashes consist of.
const hexes = "0123456789abcdef"

// check says what is wrong with what an entry says of itself, or "".
func (e *Entry) check() string {
	switch {
	case !isVersion(e.Version):
		return fmt.Sprintf("%q is not a version", e.Version)
	case e.Follows != "" && !isVersion(e.Follows):
		return fmt.Sprintf("%q is not a version", e.Follows)
	case strings.Trim(e.Digest+e.Files+e.Previous, hexes) != "":
		return "a digest or hash is not written in hexadecimal digits"
	case !slices.Contains(verdicts, e.Verdict):
		return fmt.Sprintf("%q is not a verdict", e.Verdict)
	case strings.ContainsAny(e.Signer+e.Signature, "\r\n"):
		return "its signature has more than one line"
	}
	return ""
}

// verdicts are what the line of a version may say of the comparison with the one before.
var verdicts = []string{"first", "compatible", "altering", "breaking"}

// Ledger is the ledger of a project.
type Ledger struct {
	Entries []Entry // oldest first
	Line    string  // of versions that Latest looks at, such as 1; "" for all

	project string // the folder of the project
	lines   [][]byte
}

// The limits of what is read, in bytes: of a ledger, and of a file of a version.
const (
	ledgerLimit = 256 << 20
	fileLimit   = 64 << 20
)

// Open reads the ledger of the project in dir. A project without one has an
// empty ledger.
func Open(dir string) (*Ledger, error) {
	l := &Ledger{project: dir}
	lines, err := readLines(dir)
	if err != nil {
		return nil, err
	}
	for i, line := range lines {
		wrong := func(what string) error { return fmt.Errorf("%s/%s:%d: %s", Folder, ledgerName, i+1, what) }
		var e Entry
		if isConflict(line) {
			return nil, conflictIn(lines, i)
		}
		if err := json.Unmarshal(line, &e); err != nil {
			return nil, wrong(unreadable(err))
		}
		if what := e.check(); what != "" {
			return nil, wrong(what + "; " + restoreLedger)
		}
		if before := l.lastHash(); e.Previous != before {
			return nil, fmt.Errorf("%s/%s:%d does not follow the line before it: the ledger was changed by hand, or two "+
				"branches sealed a version each; faithful history --audit says more", Folder, ledgerName, i+1)
		}
		if l.Find(e.Version) != nil {
			return nil, wrong(fmt.Sprintf("version %s is there twice; %s", e.Version, restoreLedger))
		}
		l.Entries = append(l.Entries, e)
		l.lines = append(l.lines, line)
	}
	return l, nil
}

// readLines reads the lines of a ledger; there may be none.
func readLines(dir string) ([][]byte, error) {
	folder, err := files.Open(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	text, err := folder.Read(filepath.Join(Folder, ledgerName), ledgerLimit)
	if errors.Is(err, fs.ErrNotExist) || err == nil && len(text) == 0 {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	lines := bytes.Split(bytes.TrimSuffix(text, []byte("\n")), []byte("\n"))
	for i := range lines {
		lines[i] = bytes.TrimSuffix(lines[i], []byte("\r"))
	}
	return lines, nil
}

func (l *Ledger) lastHash() string {
	if len(l.lines) == 0 {
		return ""
	}
	return hash(l.lines[len(l.lines)-1])
}

// unreadable says what is wrong with a line of the ledger that is not JSON.
func unreadable(err error) string {
	return fmt.Sprintf("the line can't be read: %v; %s", err, restoreLedger)
}

const restoreLedger = "restore the ledger from your repository, for example with: git restore " + Folder + "/" +
	ledgerName

func isConflict(line []byte) bool {
	return bytes.HasPrefix(line, []byte("<<<<<<<"))
}

func hash(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// Latest returns the highest release of the ledger's line, or nil.
func (l *Ledger) Latest() *Entry { return l.Newest(l.Line) }

// Newest returns the highest release of a line, or nil.
func (l *Ledger) Newest(line string) (latest *Entry) {
	for i, e := range l.Entries {
		if IsRelease(e.Version) && InLine(e.Version, line) && (latest == nil || Compare(latest.Version, e.Version) < 0) {
			latest = &l.Entries[i]
		}
	}
	return latest
}

// last returns the entry of the last line, or nil.
func (l *Ledger) last() *Entry {
	if len(l.Entries) == 0 {
		return nil
	}
	return &l.Entries[len(l.Entries)-1]
}

// Followed returns the entry that one was compared with when it was sealed; nil for a
// first one.
func (l *Ledger) Followed(e *Entry) *Entry {
	if e.Follows != "" {
		return l.Find(e.Follows)
	}
	if i := slices.IndexFunc(l.Entries, func(x Entry) bool { return x.Version == e.Version }); i > 0 &&
		e.Verdict != "first" {
		return &l.Entries[i-1]
	}
	return nil
}

// Releases lists the releases of the ledger's line, lowest first.
func (l *Ledger) Releases() (list []string) {
	for _, e := range l.Entries {
		if IsRelease(e.Version) && InLine(e.Version, l.Line) {
			list = append(list, e.Version)
		}
	}
	slices.SortFunc(list, Compare)
	return list
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
		slices.SortFunc(names, Compare)
		place, _ := slices.BinarySearchFunc(names, wanted, func(name string, wanted number) int {
			n, _ := parse(name)
			return n.compare(wanted)
		})
		first := max(0, min(place-few/2, len(names)-few))
		return fmt.Errorf("there is no version %q; the nearest of %d sealed ones are: %s", version, len(names),
			strings.Join(names[first:first+few], ", "))
	case len(names) > few:
		return fmt.Errorf("there is no version %q; the last sealed ones are: %s", version,
			strings.Join(names[len(names)-few:], ", "))
	}
	return fmt.Errorf("there is no version %q; the sealed versions are: %s", version, strings.Join(names, ", "))
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
	list, err := readFiles(l.project, e.Version)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("version %[2]s is in the ledger, and its folder %[1]s/%[2]s is not here; restore it from "+
			"your repository, for example with: git restore %[1]s/%[2]s", Folder, e.Version)
	}
	if err != nil {
		return nil, fmt.Errorf("the files of version %s can't be read: %w", e.Version, err)
	}
	if hashFiles(list) != e.Files {
		return nil, fmt.Errorf("the files in %[1]s/%[2]s are not those that were sealed; restore them from your "+
			"repository, for example with: git restore %[1]s/%[2]s", Folder, e.Version)
	}
	return list, nil
}

// readFiles reads the files in the folder of a version, sorted by name.
func readFiles(project, version string) ([]File, error) {
	folder, err := files.Open(project)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	folder, err = folder.In(filepath.Join(Folder, version))
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	names, err := folder.List(".")
	if err != nil {
		return nil, err
	}
	var list []File
	for _, d := range names {
		if strings.ContainsFunc(d.Name(), unicode.IsControl) { // a line break would forge what is hashed
			return nil, fmt.Errorf("the name %q has control characters in it", d.Name())
		}
		text, err := folder.Read(d.Name(), fileLimit)
		if err != nil {
			return nil, err
		}
		list = append(list, File{Name: d.Name(), Text: string(bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n")))})
	}
	return list, nil
}

func hashFiles(files []File) string {
	var b strings.Builder
	for _, f := range files {
		fmt.Fprintf(&b, "%s %s\n", hash([]byte(f.Text)), f.Name)
	}
	return hash([]byte(b.String()))
}

// skew is how far the clocks of those who seal may differ.
const skew = 10 * time.Minute

// Seal writes the files of a version and adds its line to the ledger, whole
// or not at all: the ledger is replaced last, in one step. Digest, verdict, promise
// and note of e are kept; files, hashes and time are filled in. A signer, which may
// be nil, signs the line. Whoever seals holds the project's lock. It returns what an
// earlier seal had left that was interrupted, and that was removed.
func (l *Ledger) Seal(_ *files.Lock, e Entry, list []File, now time.Time, signer *Signer) (removed []string,
	err error) {
	list = slices.Clone(list)
	slices.SortFunc(list, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
	e.Time = now.UTC().Truncate(time.Second)
	if last := l.last(); last != nil && e.Time.Before(last.Time) {
		if last.Time.Sub(e.Time) > skew {
			return nil, fmt.Errorf("the clock says %s, and version %s was sealed at %s: set the clock first",
				e.Time.Format(time.RFC3339), last.Version, last.Time.Format(time.RFC3339))
		}
		e.Time = last.Time
	}
	e.Files = hashFiles(list)
	e.Previous = l.lastHash()
	if signer != nil {
		e.Signer = signer.Public()
	}
	if wrong := e.check(); wrong != "" {
		return nil, errors.New(wrong)
	}
	line, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	if signer != nil {
		line = signer.sign(&e, line)
	}
	if err := l.stillLatest(); err != nil {
		return nil, err
	}
	folder, err := files.Make(l.project, filepath.Join(l.project, Folder))
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, folder.Close()) }()
	if removed, err = l.clear(folder); err != nil {
		return removed, err
	}
	if err := l.ledgerIsThere(folder); err != nil {
		return removed, err
	}
	if err := l.writeFiles(folder, e.Version, list); err != nil {
		return removed, err
	}
	lines := append(slices.Clone(l.lines), line)
	text := append(bytes.Join(lines, []byte("\n")), '\n')
	if err := folder.ReplaceDurably(ledgerName, text, 0o644); err != nil {
		return removed, err
	}
	l.Entries, l.lines = append(l.Entries, e), lines
	return removed, folder.Remove(journalName)
}

// stillLatest refuses when someone else sealed a version since Open, which
// would be lost.
func (l *Ledger) stillLatest() error {
	lines, err := readLines(l.project)
	if err != nil {
		return err
	}
	if !slices.EqualFunc(lines, l.lines, bytes.Equal) {
		return fmt.Errorf("%s/%s changed while this version was sealed; nothing was sealed, so try again", Folder, ledgerName)
	}
	return nil
}

// journalName is the file that says what a seal is about to put among the versions, so
// that what an interrupted one has left is told from somebody's files.
const journalName = ".sealing.json"

// journal is what is in the file.
type journal struct {
	Version string `json:"version"`
	Files   string `json:"files"` // as in Entry
}

// leftovers says what a seal has left that was interrupted: folders that are in no line
// of the ledger.
func (l *Ledger) leftovers(folder *files.Folder) (names []string, err error) {
	present, err := folder.List(".")
	if err != nil {
		return nil, err
	}
	for _, d := range present {
		if d.IsDir() && strings.HasPrefix(d.Name(), sealing) {
			names = append(names, d.Name())
		}
	}
	text, err := folder.Read(journalName, 4096)
	if errors.Is(err, fs.ErrNotExist) {
		return names, nil
	}
	var j journal
	if err != nil || json.Unmarshal(text, &j) != nil || !isVersion(j.Version) || l.Find(j.Version) != nil {
		return names, err // it says nothing that helps
	}
	if list, err := readFiles(l.project, j.Version); err == nil && hashFiles(list) == j.Files {
		names = append(names, j.Version)
	}
	return names, nil
}

// clear removes what an interrupted seal has left.
func (l *Ledger) clear(folder *files.Folder) (removed []string, err error) {
	names, err := l.leftovers(folder)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		// Half a version would not be known again for what it is.
		temporary := sealing + strings.ToLower(rand.Text())
		if err := folder.Rename(name, temporary); err != nil {
			return removed, err
		}
		if err := folder.RemoveAll(temporary); err != nil {
			return removed, err
		}
		removed = append(removed, Folder+"/"+name)
	}
	return removed, folder.RemoveLeftovers([]string{ledgerName, journalName})
}

// ledgerIsThere refuses to begin a ledger where versions lie: theirs was lost.
func (l *Ledger) ledgerIsThere(folder *files.Folder) error {
	if len(l.lines) > 0 {
		return nil
	}
	present, err := folder.List(".")
	if err != nil {
		return err
	}
	for _, d := range present {
		if d.IsDir() && isVersion(d.Name()) {
			return fmt.Errorf("%[1]s/%[2]s is there, and the ledger %[1]s/%[3]s is not; %[4]s", Folder, d.Name(), ledgerName,
				restoreLedger)
		}
	}
	return nil
}

// writeFiles makes the folder of a version, which must not be there.
func (l *Ledger) writeFiles(folder *files.Folder, version string, list []File) error {
	if _, err := folder.Lstat(version); !errors.Is(err, fs.ErrNotExist) {
		return errors.Join(err, fmt.Errorf("%[1]s/%[2]s is there, and no line of %[1]s/%[3]s knows it: restore the "+
			"ledger if its line was lost, else move the folder away", Folder, version, ledgerName))
	}
	temporary, err := folder.MakeTemporary(sealing, 0o755)
	if err != nil {
		return err
	}
	defer func() { _ = folder.RemoveAll(temporary) }() // not there once it has its name
	for _, f := range list {
		if err := folder.ReplaceDurably(filepath.Join(temporary, f.Name), []byte(f.Text), 0o644); err != nil {
			return err
		}
	}
	note, err := json.Marshal(journal{version, hashFiles(list)})
	if err != nil {
		return err
	}
	if err := folder.ReplaceDurably(journalName, append(note, '\n'), 0o644); err != nil {
		return err
	}
	if err := folder.Rename(temporary, version); err != nil {
		return err
	}
	return folder.Sync()
}
