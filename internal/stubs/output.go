package stubs

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"faithfulcourier/internal/files"
)

// madeFile lists, in each output folder, what was made there.
const madeFile = ".faithful-made.json"

type made struct {
	Made    []string `json:"made"`
	Writing []string `json:"writing,omitempty"` // recorded before files are written
}

// Conflict is a file that stands in the way and is not ours to overwrite.
type Conflict struct {
	Path   string // relative to the output folder
	Edited bool   // made by generate and edited since; else somebody else's
	Link   bool   // a link, whatever it leads to
}

// Plan is what must happen in one output folder.
type Plan struct {
	Dir       string
	Write     []string // paths that are new or differ
	Remove    []string // paths no longer made
	Kept      []string // no longer made, but edited, so left alone
	Unchanged int
	Conflicts []Conflict

	made   []File
	force  bool
	base   string // below which nothing is reached through links
	files  map[string][]byte
	before made
	stale  bool // the record must be written though no file changes
}

// Changes tells whether applying the plan would change anything.
func (p *Plan) Changes() bool { return len(p.Write)+len(p.Remove) > 0 }

// recordLimit is how large the record may be, in bytes.
const recordLimit = 16 << 20

// Prepare compares what is made with what is in dir, and changes nothing. With force,
// edited files and files of others count as ours. What is written goes through no
// link below base, the project's folder.
func Prepare(base, dir string, made []File, force bool) (*Plan, error) {
	p := &Plan{Dir: dir, made: made, force: force, base: base, files: map[string][]byte{}}
	if err := p.readMade(); err != nil {
		return nil, err
	}
	for _, f := range made {
		if !filepath.IsLocal(filepath.FromSlash(f.Path)) {
			return nil, fmt.Errorf("%q would lie outside of %s", f.Path, dir)
		}
		p.files[f.Path] = f.Content
		old, link, err := p.read(f.Path)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			p.Write = append(p.Write, f.Path)
		case err != nil:
			return nil, err
		case link && !force:
			p.Conflicts = append(p.Conflicts, Conflict{Path: f.Path, Link: true})
		case link:
			p.Write = append(p.Write, f.Path)
		case bytes.Equal(withoutReturns(old), withoutReturns(f.Content)): // line ends are version control's
			p.Unchanged++
		case force || OwnerOf(old) == Ours:
			p.Write = append(p.Write, f.Path)
		default:
			p.Conflicts = append(p.Conflicts, Conflict{Path: f.Path, Edited: OwnerOf(old) == Edited})
		}
	}
	for _, path := range slices.Concat(p.before.Made, p.before.Writing) {
		if _, still := p.files[path]; still || slices.Contains(p.Remove, path) {
			continue
		}
		old, link, err := p.read(path)
		if err != nil {
			continue // already gone
		}
		if !link && (force || OwnerOf(old) == Ours) {
			p.Remove = append(p.Remove, path)
		} else {
			p.Kept = append(p.Kept, path)
		}
	}
	p.stale = !slices.Equal(p.before.Made, p.paths()) || len(p.before.Writing) > 0
	return p, nil
}

// read reads a file of the output folder; a link is not followed.
func (p *Plan) read(path string) (content []byte, link bool, err error) {
	info, err := os.Lstat(p.path(path))
	if err != nil {
		return nil, false, err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		return nil, true, nil
	}
	content, err = os.ReadFile(p.path(path))
	return content, false, err
}

func (p *Plan) path(relative string) string {
	return filepath.Join(p.Dir, filepath.FromSlash(relative))
}

func (p *Plan) paths() []string {
	var list []string
	for path := range p.files {
		list = append(list, path)
	}
	slices.Sort(list)
	return list
}

func (p *Plan) readMade() error {
	text, link, err := p.read(madeFile)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // a fresh clone may well not have it
	}
	if err != nil {
		return err
	}
	if link {
		return &files.LinkError{Path: p.path(madeFile)}
	}
	if len(text) > recordLimit {
		return fmt.Errorf("%s has more than %d bytes: remove it and run generate again", p.path(madeFile), recordLimit)
	}
	if err := json.Unmarshal(text, &p.before); err != nil {
		return fmt.Errorf("%s is damaged (%v): remove it and run generate again", p.path(madeFile), err)
	}
	// The record may come with a repository of somebody else's.
	for _, path := range slices.Concat(p.before.Made, p.before.Writing) {
		if !filepath.IsLocal(filepath.FromSlash(path)) {
			return fmt.Errorf("%s names %q, which is not in its folder: remove the record and run generate again",
				p.path(madeFile), path)
		}
	}
	return nil
}

// Writes tells whether applying the plan would write anything, its record included.
func (p *Plan) Writes() bool { return p.Changes() || p.stale }

// Apply writes and removes files. What is about to be written is recorded
// first and every file replaced in one step, so that a run after a crash
// repairs everything. A plan with conflicts is refused whole. The caller holds the
// project's lock; what others wrote since the plan was made is looked at again.
func (p *Plan) Apply() (err error) {
	if len(p.Conflicts) > 0 || !p.Writes() {
		return p.blocked()
	}
	now, err := Prepare(p.base, p.Dir, p.made, p.force)
	if err != nil {
		return err
	}
	*p = *now
	if len(p.Conflicts) > 0 || !p.Writes() {
		return p.blocked()
	}
	folder, err := files.Make(p.base, p.Dir)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, folder.Close()) }()
	if len(p.before.Writing) > 0 { // a run was interrupted
		if err := folder.RemoveLeftovers(append(local(p.before.Writing), madeFile)); err != nil {
			return err
		}
	}
	if p.Changes() {
		if err := record(folder, made{Made: p.before.Made, Writing: slices.Concat(p.Write, p.Remove)}); err != nil {
			return err
		}
	}
	for _, path := range p.Write {
		if err := folder.Replace(filepath.FromSlash(path), p.files[path], 0o666); err != nil {
			return err
		}
	}
	for _, path := range local(p.Remove) {
		if err := folder.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		// Folders that became empty go, too.
		for dir := filepath.Dir(path); dir != "." && folder.Remove(dir) == nil; dir = filepath.Dir(dir) {
		}
	}
	if len(p.made) == 0 && len(p.Kept) == 0 { // pruned: the record goes as well
		return errors.Join(folder.Remove(madeFile), removeEmpty(p.Dir))
	}
	return record(folder, made{Made: p.paths()})
}

// removeEmpty removes a folder in which nothing is left.
func removeEmpty(dir string) error {
	entries, err := os.ReadDir(dir)
	if err != nil || len(entries) > 0 {
		return err
	}
	return os.Remove(dir)
}

// blocked is the error of a plan that has conflicts.
func (p *Plan) blocked() error {
	if len(p.Conflicts) == 0 {
		return nil
	}
	return fmt.Errorf("%s contains files that are not ours to overwrite, such as %s", p.Dir, p.Conflicts[0].Path)
}

// local is paths with the separators of the system.
func local(paths []string) []string {
	list := make([]string, len(paths))
	for i, path := range paths {
		list[i] = filepath.FromSlash(path)
	}
	return list
}

func record(folder *files.Folder, m made) error {
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	return folder.Replace(madeFile, append(text, '\n'), 0o666)
}

// Folders finds the folders of stubs below a project that known does not name, with their
// paths from there. Other projects below it, hidden folders and those of package
// managers are left out.
func Folders(project string, known func(folder string) bool) (list []string, err error) {
	err = filepath.WalkDir(project, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // what can't be read is not ours
		}
		relative, err := filepath.Rel(project, path)
		switch {
		case err != nil:
			return err
		case d.IsDir() && path != project && (d.Name()[0] == '.' || d.Name() == "node_modules" || isProject(path)):
			return filepath.SkipDir
		case d.IsDir() && known(relative):
			return filepath.SkipDir
		case !d.IsDir() && d.Name() == madeFile && filepath.Dir(path) != project:
			list = append(list, filepath.Dir(relative))
		}
		return nil
	})
	return list, err
}

func isProject(folder string) bool {
	_, err := os.Lstat(filepath.Join(folder, "faithful.toml"))
	return err == nil
}
