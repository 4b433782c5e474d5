package project

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"faithfulcourier/internal/source"
	"faithfulcourier/internal/versions"
)

// isRevision tells what the git program takes for a revision.
func isRevision(dir, name string) bool {
	_, err := git{context.Background(), dir}.run("rev-parse", "--verify", "--quiet", "--end-of-options", name+"^{commit}")
	return err == nil
}

// Revision reads the definition files of a project as they were at a git
// revision, by way of the git program, which touches no file: with the sources
// that faithful.toml named then.
func Revision(ctx context.Context, dir, revision string) ([]*source.File, error) {
	p, err := Open(dir)
	if err != nil {
		return nil, err
	}
	g := git{ctx, p.Dir}
	if _, err := exec.LookPath("git"); err != nil {
		return nil, errors.New("rev:… reads the project's history with the program git, which is not installed here")
	}
	prefix, err := g.run("rev-parse", "--show-prefix")
	if err != nil {
		return nil, fmt.Errorf("%s is not in a git repository: %w", p.Dir, err)
	}
	if revision == "" || strings.HasPrefix(revision, "-") {
		return nil, fmt.Errorf("rev:%s names no revision; write, for example, rev:HEAD or rev:main", revision)
	}
	commit, err := g.run("rev-parse", "--verify", "--quiet", "--end-of-options", revision+"^{commit}")
	if err != nil {
		return nil, g.unknown(revision)
	}
	id := strings.TrimSpace(string(commit))
	own := Project{Dir: p.Dir}
	if text, err := g.run("cat-file", "blob", id+":"+strings.TrimSpace(string(prefix))+ConfigName); err != nil {
		return nil, fmt.Errorf("at %s there was no %s here", revision, ConfigName)
	} else if err := own.readConfig(string(text)); err != nil {
		return nil, fmt.Errorf("%s at %s: %w", ConfigName, revision, err)
	}
	list, err := g.run("ls-tree", "-r", "-z", "--name-only", id, "./")
	if err != nil {
		return nil, g.incomplete(revision, err)
	}
	var files []*source.File
	for _, name := range strings.Split(strings.TrimSuffix(string(list), "\x00"), "\x00") {
		if !own.isSource(name) {
			continue
		}
		if err := checkName(name); err != nil {
			return nil, err
		}
		text, err := g.run("cat-file", "blob", id+":./"+name)
		if err != nil {
			return nil, g.incomplete(revision, err)
		}
		if len(text) > source.MaxFileSize {
			return nil, fmt.Errorf("%s at %s has %d bytes; a definition file has at most %d", name, revision, len(text),
				source.MaxFileSize)
		}
		files = append(files, source.NewFile(name+"@"+revision, string(text)))
	}
	served, err := g.served(&own, id, revision)
	if err != nil {
		return nil, err
	}
	files = append(files, served...)
	if len(files) == 0 {
		return nil, fmt.Errorf("at %s there was no definition file (*.faithful) in %s", revision,
			strings.Join(own.Config.Sources, ", "))
	}
	slices.SortFunc(files, func(a, b *source.File) int { return strings.Compare(a.Name, b.Name) })
	return files, nil
}

// served reads the definitions of sources that are servers, as they were kept then.
func (g git) served(p *Project, id, revision string) (files []*source.File, err error) {
	var kept *lock
	for _, s := range p.Config.Sources {
		if !IsURL(s) {
			continue
		}
		if kept == nil {
			text, err := g.run("cat-file", "blob", id+":./"+LockName)
			if err != nil {
				return nil, fmt.Errorf("at %s there was no %s, which keeps what %s said", revision, LockName, s)
			}
			if kept, err = parseLock(text); err != nil {
				return nil, fmt.Errorf("at %s: %w", revision, err)
			}
		}
		list, err := p.locked(kept, s)
		if err != nil {
			return nil, fmt.Errorf("at %s: %w", revision, err)
		}
		for _, f := range list {
			files = append(files, source.NewFile(f.Name+"@"+revision, f.Text))
		}
	}
	return files, nil
}

// isSource tells whether a file that is named as seen from the project is one of
// its definitions: as find does it on disk.
func (p *Project) isSource(name string) bool {
	if path.Ext(name) != ".faithful" || strings.HasPrefix(name, versions.Folder+"/") {
		return false
	}
	return slices.ContainsFunc(p.Config.Sources, func(s string) bool {
		s = path.Clean(filepath.ToSlash(s))
		rest := name
		if s != "." {
			var below bool
			if rest, below = strings.CutPrefix(name, s+"/"); !below {
				return name == s
			}
		}
		for step := range strings.SplitSeq(path.Dir(rest), "/") {
			if step != "." && strings.HasPrefix(step, ".") || step == "node_modules" {
				return false
			}
		}
		return !strings.HasPrefix(path.Base(rest), ".") || rest == name
	})
}

// git runs the git program in a folder.
type git struct {
	ctx context.Context
	dir string
}

func (g git) run(args ...string) ([]byte, error) {
	c := exec.CommandContext(g.ctx, "git", args...)
	c.Dir = g.dir
	var out, said bytes.Buffer
	c.Stdout, c.Stderr = &out, &said
	if err := c.Run(); err != nil {
		line, _, _ := strings.Cut(strings.TrimSpace(said.String()), "\n")
		if line == "" {
			return nil, err
		}
		return nil, errors.New(printable(line))
	}
	return out.Bytes(), nil
}

// unknown says that there is no such revision, and, of a repository that was
// cloned in part, that it may be elsewhere.
func (g git) unknown(revision string) error {
	if shallow, err := g.run("rev-parse", "--is-shallow-repository"); err == nil &&
		strings.TrimSpace(string(shallow)) == "true" {
		return fmt.Errorf("there is no revision %q here; the repository is a shallow clone, and git fetch --unshallow "+
			"gets the rest of its history", revision)
	}
	return fmt.Errorf("there is no revision %q in this repository; git log shows those that there are", revision)
}

func (g git) incomplete(revision string, err error) error {
	return fmt.Errorf("the files at %s can't be read: %w", revision, err)
}
