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
	"strings"

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
}

// Plan is what must happen in one output folder.
type Plan struct {
	Dir       string
	Write     []string // paths that are new or differ
	Remove    []string // paths no longer made
	Kept      []string // no longer made, but edited, so left alone
	Unchanged int
	Conflicts []Conflict

	files  map[string][]byte
	before made
	stale  bool // the record must be written though no file changes
}

// Changes tells whether applying the plan would change anything.
func (p *Plan) Changes() bool { return len(p.Write)+len(p.Remove) > 0 }

// Prepare compares what is made with what is in dir, and changes nothing. With force,
// edited files and files of others count as ours.
func Prepare(dir string, made []File, force bool) (*Plan, error) {
	p := &Plan{Dir: dir, files: map[string][]byte{}}
	if err := p.readMade(); err != nil {
		return nil, err
	}
	for _, f := range made {
		if !filepath.IsLocal(filepath.FromSlash(f.Path)) {
			return nil, fmt.Errorf("%q would lie outside of %s", f.Path, dir)
		}
		p.files[f.Path] = f.Content
		old, err := os.ReadFile(p.path(f.Path))
		switch {
		case errors.Is(err, fs.ErrNotExist):
			p.Write = append(p.Write, f.Path)
		case err != nil:
			return nil, err
		case bytes.Equal(old, f.Content):
			p.Unchanged++
		case force || OwnerOf(old) == Ours:
			p.Write = append(p.Write, f.Path)
		default:
			p.Conflicts = append(p.Conflicts, Conflict{Path: f.Path, Edited: OwnerOf(old) == Edited})
		}
	}
	for _, path := range slices.Concat(p.before.Made, p.before.Writing) {
		if _, still := p.files[path]; still || slices.Contains(p.Remove, path) || !filepath.IsLocal(filepath.FromSlash(path)) {
			continue
		}
		old, err := os.ReadFile(p.path(path))
		if err != nil {
			continue // already gone
		}
		if force || OwnerOf(old) == Ours {
			p.Remove = append(p.Remove, path)
		} else {
			p.Kept = append(p.Kept, path)
		}
	}
	p.stale = !slices.Equal(p.before.Made, p.paths()) || len(p.before.Writing) > 0
	return p, nil
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
	text, err := os.ReadFile(p.path(madeFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil // a fresh clone may well not have it
	}
	if err != nil {
		return err
	}
	if err := json.Unmarshal(text, &p.before); err != nil {
		return fmt.Errorf("%s is damaged (%v): remove it and run generate again", p.path(madeFile), err)
	}
	return nil
}

// Apply writes and removes files. What is about to be written is recorded
// first and every file replaced in one step, so that a run after a crash
// repairs everything. A plan with conflicts is refused whole.
func (p *Plan) Apply() error {
	if len(p.Conflicts) > 0 {
		return fmt.Errorf("%s holds files that are not ours to overwrite", p.Dir)
	}
	for _, path := range p.before.Writing {
		_ = os.Remove(p.path(path) + files.Suffix) // left by a crash, or not there
	}
	if !p.Changes() && !p.stale {
		return nil
	}
	if err := os.MkdirAll(p.Dir, 0o777); err != nil {
		return err
	}
	if p.Changes() {
		if err := p.record(made{Made: p.before.Made, Writing: slices.Concat(p.Write, p.Remove)}); err != nil {
			return err
		}
	}
	for _, path := range p.Write {
		if err := os.MkdirAll(filepath.Dir(p.path(path)), 0o777); err != nil {
			return err
		}
		if err := files.Replace(p.path(path), p.files[path], 0o666); err != nil {
			return err
		}
	}
	for _, path := range p.Remove {
		if err := os.Remove(p.path(path)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		p.removeEmpty(filepath.Dir(p.path(path)))
	}
	return p.record(made{Made: p.paths()})
}

// removeEmpty removes folders that became empty, up to the output folder.
func (p *Plan) removeEmpty(dir string) {
	for strings.HasPrefix(dir, p.Dir+string(filepath.Separator)) && os.Remove(dir) == nil {
		dir = filepath.Dir(dir)
	}
}

func (p *Plan) record(m made) error {
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	return files.Replace(p.path(madeFile), append(text, '\n'), 0o666)
}
