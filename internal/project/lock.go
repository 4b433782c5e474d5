package project

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/files"
	"faithfulcourier/internal/source"
)

// LockName is the file that keeps what servers said that faithful.toml names as
// sources, so that everything works without them.
const LockName = "faithful.lock"

const lockHead = `# What the servers said that faithful.toml names as sources. Written by
# faithful check --remote --update; keep it with your definitions.

`

// lockLimit is how large the file may be, in bytes.
const lockLimit = 256 << 20

// lock is the content of the file.
type lock struct {
	Sources []Locked `toml:"source"`
}

// Locked is one source that is a server, as it was when it was asked.
type Locked struct {
	URL     string         `toml:"url"` // as faithful.toml has it
	Name    string         `toml:"name"`
	Version string         `toml:"version"`
	Digest  string         `toml:"digest"` // of all that the server defines
	Kept    string         `toml:"kept"`   // SHA-256 of the modules below
	Modules []LockedModule `toml:"module"`
}

// LockedModule is the text of one module.
type LockedModule struct {
	Name string `toml:"name"`
	Text string `toml:"text,multiline"`
}

func (l *Locked) hash() string {
	h := sha256.New()
	for _, m := range l.Modules {
		fmt.Fprintf(h, "%s\n%d\n%s", m.Name, len(m.Text), m.Text)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// lockOf keeps what a source needs of what its server said: all of it, or the
// modules after the # of the source, and what they use.
func lockOf(ref string, s *Served) (*Locked, error) {
	l := &Locked{URL: ref, Name: s.Name, Version: s.Version, Digest: s.Digest}
	defs, _ := check.Load(s.Files) // which Fetch has checked
	wanted := defs.Modules
	if _, names, some := strings.Cut(ref, "#"); some {
		wanted = nil
		for name := range strings.SplitSeq(names, ",") {
			m := defs.Module(name)
			if m == nil {
				var known []string
				for _, m := range defs.Modules {
					known = append(known, m.Name)
				}
				return nil, fmt.Errorf("%q has no module %q; its modules are: %s", strings.TrimSuffix(ref, "#"+names), name,
					strings.Join(known, ", "))
			}
			wanted = append(wanted, m)
		}
		for i := 0; i < len(wanted); i++ {
			for _, used := range wanted[i].Uses() {
				if !slices.Contains(wanted, used) {
					wanted = append(wanted, used)
				}
			}
		}
	}
	for _, m := range defs.Modules {
		if slices.Contains(wanted, m) {
			l.Modules = append(l.Modules, LockedModule{m.Name, m.Canonical()})
		}
	}
	l.Kept = l.hash()
	return l, nil
}

// readLock reads the lock of a project; there may be none.
func (p *Project) readLock() (*lock, error) {
	data, err := files.ReadRegular(filepath.Join(p.Dir, LockName), lockLimit)
	if errors.Is(err, fs.ErrNotExist) {
		return &lock{}, nil
	}
	if err != nil {
		return nil, err
	}
	return parseLock(data)
}

func parseLock(data []byte) (*lock, error) {
	l := &lock{}
	d := toml.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(l); err != nil {
		return nil, fmt.Errorf("%s can't be read: %w; take the servers' word again with: faithful check --remote --update",
			LockName, err)
	}
	return l, nil
}

// locked returns the files of a source that is a server, from the lock.
func (p *Project) locked(l *lock, ref string) ([]*source.File, error) {
	i := slices.IndexFunc(l.Sources, func(s Locked) bool { return s.URL == ref })
	if i < 0 {
		return nil, fmt.Errorf("the source %s was not fetched yet; fetch it into %s with: faithful check --remote --update",
			ref, LockName)
	}
	s := &l.Sources[i]
	if s.hash() != s.Kept {
		return nil, fmt.Errorf("%s was edited: its text of %s is not what the server said; fetch it again with: "+
			"faithful check --remote --update", LockName, ref)
	}
	var list []*source.File
	for _, m := range s.Modules {
		list = append(list, source.NewFile(LockName+"#"+m.Name, m.Text))
	}
	return list, nil
}

// Remote is a source that is a server, and how it is kept.
type Remote struct {
	URL  string
	Kept *Locked // nil where it never was fetched
}

// Remotes lists the sources that are servers.
func (p *Project) Remotes() ([]Remote, error) {
	l, err := p.readLock()
	if err != nil {
		return nil, err
	}
	var list []Remote
	for _, s := range p.Config.Sources {
		if !IsURL(s) {
			continue
		}
		r := Remote{URL: s}
		if i := slices.IndexFunc(l.Sources, func(k Locked) bool { return k.URL == s }); i >= 0 {
			r.Kept = &l.Sources[i]
		}
		list = append(list, r)
	}
	return list, nil
}

// Moved says how a server has moved on from what is kept of it: the modules that
// are new, gone or changed, each as a line. now is what would be kept today.
func (r *Remote) Moved(s *Served) (now *Locked, moved []string, err error) {
	now, err = lockOf(r.URL, s)
	if err != nil {
		return nil, nil, err
	}
	if r.Kept == nil {
		return now, []string{"it was not fetched yet"}, nil
	}
	text := func(l *Locked, name string) (string, bool) {
		i := slices.IndexFunc(l.Modules, func(m LockedModule) bool { return m.Name == name })
		if i < 0 {
			return "", false
		}
		return l.Modules[i].Text, true
	}
	for _, m := range now.Modules {
		switch before, known := text(r.Kept, m.Name); {
		case !known:
			moved = append(moved, "new module "+m.Name)
		case before != m.Text:
			moved = append(moved, "changed module "+m.Name)
		}
	}
	for _, m := range r.Kept.Modules {
		if _, still := text(now, m.Name); !still {
			moved = append(moved, "module gone: "+m.Name)
		}
	}
	return now, moved, nil
}

// Keep writes what servers say today into the lock; sources that faithful.toml
// no longer names leave it.
func (p *Project) Keep(list []*Locked) error {
	l := lock{}
	for _, s := range list {
		l.Sources = append(l.Sources, *s)
	}
	data, err := toml.Marshal(l)
	if err != nil {
		return err
	}
	return files.Replace(filepath.Join(p.Dir, LockName), append([]byte(lockHead), data...), 0o666)
}
