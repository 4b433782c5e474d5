package versions

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"faithfulcourier/internal/files"
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

// A Report is what an audit found.
type Report struct {
	Versions int
	Flaws    []Flaw
	// Remarks are what an audit can't decide, or can't show at all.
	Remarks []Flaw
	// LastLine is the SHA-256 of the ledger's last line, which stands for everything
	// before it; "" without one.
	LastLine string
}

// An Auditor is what an audit needs that versions don't know.
type Auditor struct {
	// Trusted are the public keys, by ParseSigner, that may sign lines: with any, each
	// line must be signed from the first on that is. Without, each signature that is
	// there must fit.
	Trusted []string
	// Load reads the definitions in some files, and computes what they are identified
	// by; it is called by several goroutines. It may be nil: then neither digests nor
	// verdicts are looked at.
	Load func(list []File) (definitions any, digest string, err error)
	// Judge compares definitions, under a promise, or that of today where it is nil. An
	// error says why it can't; the report has it as a remark.
	Judge func(old, new any, promise *Promise) (verdict string, size Size, err error)
	// Now is the time, which no line may be after.
	Now time.Time
}

// Audit hashes everything again: that each line of the ledger follows the one
// before it, that the files of each version are those that were sealed, and that
// nothing lies there which no line knows of. It compares each version with the one
// before it again, and holds the verdict and the version against what comes out.
func (a *Auditor) Audit(dir string) (*Report, error) {
	l := &Ledger{project: dir}
	lines, err := readLines(dir)
	if err != nil {
		return nil, err
	}
	r := &Report{}
	known := map[string]bool{}
	var before Entry
	var sealed []*sealedFiles
	torn, signing := false, false
	for i, line := range lines {
		flaw := func(version, format string, args ...any) {
			r.Flaws = append(r.Flaws, Flaw{i + 1, version, fmt.Sprintf(format, args...)})
		}
		var e Entry
		if torn = isConflict(line); torn {
			_, what, _ := strings.Cut(conflictIn(lines, i).Error(), ": ")
			flaw("", "%s; faithful history says how to put it right", what)
			break // all that follows is of two ledgers
		}
		if err := json.Unmarshal(line, &e); err != nil {
			flaw("", "%s", unreadable(err))
			r.LastLine = hash(line)
			continue
		}
		r.Versions++
		if e.Previous != r.LastLine {
			flaw(e.Version, "the line does not follow the one before it: a line was changed, added, removed or moved, or "+
				"two branches sealed a version each")
		}
		r.LastLine = hash(line)
		signing = signing || e.Signature != ""
		if e.Signature != "" || e.Signer != "" {
			if wrong := checkSignature(&e, line, a.Trusted); wrong != "" {
				flaw(e.Version, "%s", wrong)
			}
		} else if signing {
			flaw(e.Version, "the line is not signed, though one before it is")
		}
		if wrong := e.check(); wrong != "" {
			flaw(e.Version, "%s", wrong)
			continue
		}
		if known[e.Version] {
			flaw(e.Version, "the version is in the ledger twice")
			continue
		}
		follows := e.Follows
		if follows == "" && e.Verdict != "first" {
			follows = before.Version
		}
		switch {
		case follows != "" && !known[follows]:
			flaw(e.Version, "it follows version %s, which is in no line before it", follows)
		case follows != "" && Compare(e.Version, follows) < 0:
			flaw(e.Version, "the version is lower than %s, which it follows", follows)
		}
		switch {
		case e.Time.Before(before.Time):
			flaw(e.Version, "it says that it was sealed at %s, before the version before it, at %s",
				e.Time.Format(time.RFC3339), before.Time.Format(time.RFC3339))
		case e.Time.After(a.Now.Add(skew)):
			flaw(e.Version, "it says that it was sealed at %s, which is still to come", e.Time.Format(time.RFC3339))
		}
		known[e.Version], before = true, e
		sealed = append(sealed, &sealedFiles{line: i + 1, entry: e})
	}
	l.Entries = entriesOf(sealed)
	a.auditVersions(l, sealed, r)
	if len(a.Trusted) > 0 && r.Versions > 0 && !signing {
		r.Flaws = append(r.Flaws, Flaw{Message: "no line is signed, though faithful.toml names signers"})
	}
	slices.SortStableFunc(r.Flaws, func(a, b Flaw) int { return a.Line - b.Line })
	if !torn {
		if err := l.unknown(known, r); err != nil {
			return nil, err
		}
	}
	if r.Versions > 0 {
		r.Remarks = append(r.Remarks, a.limits(signing)...)
	}
	return r, nil
}

// limits says what no chain shows, and what one without signatures does not.
func (a *Auditor) limits(signing bool) (list []Flaw) {
	if !signing {
		list = append(list, Flaw{Message: "the versions are not signed: an audit can't see that the note or time of the " +
			"last line was changed, or that somebody made the whole chain again"})
	}
	return append(list, Flaw{Message: "an audit can't see that the newest versions were removed: compare the last " +
		"line with what others have"})
}

// sealedFiles are the files of a line of the ledger, and what was found in them.
type sealedFiles struct {
	line  int
	entry Entry
	flaws []string
	notes []string
}

func entriesOf(sealed []*sealedFiles) (list []Entry) {
	for _, s := range sealed {
		list = append(list, s.entry)
	}
	return list
}

// auditVersions reads and compares versions again. Each of several goroutines has a
// stretch of them, so that it reads each version but the first once.
func (a *Auditor) auditVersions(l *Ledger, sealed []*sealedFiles, r *Report) {
	var group sync.WaitGroup
	stretch := max(1, (len(sealed)+runtime.GOMAXPROCS(0)-1)/runtime.GOMAXPROCS(0))
	for first := 0; first < len(sealed); first += stretch {
		group.Go(func() {
			var before any
			if first > 0 && a.Load != nil {
				if list, err := l.Read(&sealed[first-1].entry); err == nil {
					before, _, _ = a.Load(list) // an error is found by who has the version
				}
			}
			for i := first; i < min(first+stretch, len(sealed)); i++ {
				older := l.Followed(&sealed[i].entry)
				if older != nil && a.Load != nil && (i == 0 || older.Version != sealed[i-1].entry.Version) {
					before = nil // it follows another one than the line before
					if list, err := l.Read(older); err == nil {
						before, _, _ = a.Load(list)
					}
				}
				before = a.auditVersion(l, sealed[i], older, before)
			}
		})
	}
	group.Wait()
	for _, s := range sealed {
		for _, text := range s.flaws {
			r.Flaws = append(r.Flaws, Flaw{s.line, s.entry.Version, text})
		}
		for _, text := range s.notes {
			r.Remarks = append(r.Remarks, Flaw{s.line, s.entry.Version, text})
		}
	}
}

// auditVersion reads a version again, and compares it with the one before it, which may
// be nil. It returns its definitions, or nil.
func (a *Auditor) auditVersion(l *Ledger, s *sealedFiles, older *Entry, before any) any {
	list, err := l.Read(&s.entry)
	if err != nil {
		s.flaws = append(s.flaws, err.Error())
		return nil
	}
	if a.Load == nil {
		return nil
	}
	definitions, digest, err := a.Load(list)
	if err != nil {
		s.flaws = append(s.flaws, fmt.Sprintf("its definitions can't be read: %v", err))
		return nil
	}
	if digest != s.entry.Digest {
		s.flaws = append(s.flaws, fmt.Sprintf("the ledger says that its digest is %s, and it is %s", s.entry.Digest, digest))
	}
	verdict, size := "first", Patch
	switch {
	case older == nil:
	case older.Digest == digest:
		verdict = "compatible"
	case before == nil || a.Judge == nil:
		return definitions
	default:
		var err error
		if verdict, size, err = a.Judge(before, definitions, s.entry.Promise); err != nil {
			s.notes = append(s.notes, fmt.Sprintf("its verdict was not looked at: %v", err))
			return definitions
		}
	}
	// Under another promise another verdict may be right: the line says which one it was.
	found := &s.flaws
	if s.entry.Promise == nil {
		found = &s.notes
	}
	if verdict != s.entry.Verdict {
		*found = append(*found, fmt.Sprintf("the ledger says of what it changed %q, and compared again it is %q",
			s.entry.Verdict, verdict))
	}
	if older == nil {
		return definitions
	}
	if needs, err := Next(older.Version, size); err == nil && Check(s.entry.Version, needs) != nil {
		*found = append(*found, fmt.Sprintf("what it changed since %s needs version %s or higher", older.Version, needs))
	}
	return definitions
}

// unknown finds what lies among the versions and is none.
func (l *Ledger) unknown(known map[string]bool, r *Report) error {
	project, err := files.Open(l.project)
	if err != nil {
		return err
	}
	defer project.Close()
	folder, err := project.In(Folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer folder.Close()
	left, err := l.leftovers(folder)
	if err != nil {
		return err
	}
	for _, name := range left {
		r.Remarks = append(r.Remarks, Flaw{Version: name,
			Message: fmt.Sprintf("%s/%s was left by a seal that was interrupted; the next one removes it", Folder, name)})
	}
	list, err := folder.List(".")
	if err != nil {
		return err
	}
	for _, d := range list {
		name := d.Name()
		switch {
		case name == ledgerName, name == NotesFolder, known[name], slices.Contains(left, name):
		case name == journalName, strings.HasSuffix(name, files.Suffix): // of such a seal, too
		default:
			r.Flaws = append(r.Flaws, Flaw{Version: name,
				Message: fmt.Sprintf("%s/%s is in no line of the ledger: a line was removed, or the folder was added by hand",
					Folder, name)})
		}
	}
	return nil
}

// Note is what somebody wrote about a version in the folder of notes, or "".
func Note(dir, version string) (string, error) {
	folder, err := files.Open(dir)
	if err != nil {
		return "", err
	}
	defer folder.Close()
	text, err := folder.Read(filepath.Join(Folder, NotesFolder, version+".md"), fileLimit)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	return strings.TrimSpace(string(text)), err
}
