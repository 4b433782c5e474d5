// Package files writes files so that a crash leaves the old or the new content and
// never a part, and so that nothing that lies in a folder can lead a write out of
// it: what is below a Folder is reached by handles and never through a link, and the
// names of files that are being written are random. It is the one writer of files
// that others rely on; it knows nothing of what they hold.
//
//	files.go   folders, and files that are replaced
//	lock.go    one writer at a time
package files

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Suffix ends the name of a file while it is written. A crash may leave such a
// file.
const Suffix = ".faithful-new"

// A LinkError says that a write would go through a link.
type LinkError struct{ Path string }

func (e *LinkError) Error() string {
	return fmt.Sprintf("%q is a link, and nothing is written through a link: replace it by what it leads to, or name "+
		"that instead", e.Path)
}

// A Folder is an open folder below which files are written. Names below it are as
// filepath.IsLocal has them, with the separators of the system.
type Folder struct {
	root *os.Root
	path string // for messages
}

// Open opens a folder that somebody named: links on the way to it are followed.
func Open(path string) (*Folder, error) {
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, err
	}
	return &Folder{root, path}, nil
}

// Make is Open, and makes the folder where it is missing. What lies below base is not
// reached through links: base is what somebody named, and what is below it may be
// somebody else's. A path that is not below base is only opened.
func Make(base, path string) (*Folder, error) {
	below, err := filepath.Rel(base, path)
	if err != nil || !filepath.IsLocal(below) {
		if err := os.MkdirAll(path, 0o777); err != nil {
			return nil, err
		}
		return Open(path)
	}
	if err := os.MkdirAll(base, 0o777); err != nil {
		return nil, err
	}
	f, err := Open(base)
	if err != nil {
		return nil, err
	}
	root, err := f.descend(below, true)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	if root == f.root {
		return f, nil
	}
	return &Folder{root, path}, f.Close()
}

// Close closes the folder.
func (f *Folder) Close() error { return f.root.Close() }

// descend opens a folder below this one, step by step. The result is f.root for ".",
// else it is closed by the caller.
func (f *Folder) descend(name string, make bool) (*os.Root, error) {
	at, shown := f.root, f.path
	if name = filepath.Clean(name); name == "." {
		return at, nil
	}
	if !filepath.IsLocal(name) {
		return nil, fmt.Errorf("%q is not below %s", name, f.path)
	}
	for step := range strings.SplitSeq(name, string(filepath.Separator)) {
		shown = filepath.Join(shown, step)
		next, err := enter(at, step, shown, make)
		if at != f.root {
			err = errors.Join(err, at.Close())
		}
		if err != nil {
			return nil, err
		}
		at = next
	}
	return at, nil
}

// enter opens one folder in another, and refuses it where it is a link. The handle is
// compared with what its name said to be a folder, so that exchanging one for the
// other in between is found.
func enter(at *os.Root, step, shown string, make bool) (*os.Root, error) {
	if make {
		if err := at.Mkdir(step, 0o777); err != nil && !errors.Is(err, fs.ErrExist) {
			return nil, err
		}
	}
	named, err := at.Lstat(step)
	if err != nil {
		return nil, err
	}
	if named.Mode()&fs.ModeSymlink != 0 {
		return nil, &LinkError{shown}
	}
	if !named.IsDir() {
		return nil, fmt.Errorf("%s is a file, and a folder is needed there", shown)
	}
	next, err := at.OpenRoot(step)
	if err != nil {
		return nil, err
	}
	opened, err := next.Stat(".")
	if err == nil && !os.SameFile(named, opened) {
		err = &LinkError{shown}
	}
	if err != nil {
		return nil, errors.Join(err, next.Close())
	}
	return next, nil
}

// In opens a folder below this one, which stays open.
func (f *Folder) In(name string) (*Folder, error) {
	root, err := f.descend(name, false)
	if err == nil && root == f.root {
		root, err = f.root.OpenRoot(".")
	}
	if err != nil {
		return nil, err
	}
	return &Folder{root, filepath.Join(f.path, name)}, nil
}

// within runs do in the folder that holds a name.
func (f *Folder) within(name string, make bool, do func(dir *os.Root, base string) error) error {
	dir, err := f.descend(filepath.Dir(filepath.Clean(name)), make)
	if err != nil {
		return err
	}
	err = do(dir, filepath.Base(name))
	if dir != f.root {
		err = errors.Join(err, dir.Close())
	}
	return err
}

// Read returns what is in a file of at most limit bytes. Neither links nor what is no
// file are read: a *LinkError, or an error that says what it is.
func (f *Folder) Read(name string, limit int64) (content []byte, err error) {
	err = f.within(name, false, func(dir *os.Root, base string) error {
		shown := filepath.Join(f.path, name)
		named, err := dir.Lstat(base)
		if err != nil {
			return err
		}
		if named.Mode()&fs.ModeSymlink != 0 {
			return &LinkError{shown}
		}
		if !named.Mode().IsRegular() {
			return fmt.Errorf("%s is not a file", shown)
		}
		file, err := dir.Open(base)
		if err != nil {
			return err
		}
		defer file.Close()
		if opened, err := file.Stat(); err != nil || !os.SameFile(named, opened) {
			return errors.Join(err, &LinkError{shown})
		}
		content, err = readAll(file, shown, limit)
		return err
	})
	return content, err
}

func readAll(file *os.File, shown string, limit int64) ([]byte, error) {
	content, err := io.ReadAll(io.LimitReader(file, limit+1))
	if err == nil && int64(len(content)) > limit {
		return nil, fmt.Errorf("%s has more than %d bytes", shown, limit)
	}
	return content, err
}

// Lstat says what is at a name.
func (f *Folder) Lstat(name string) (info fs.FileInfo, err error) {
	err = f.within(name, false, func(dir *os.Root, base string) error {
		info, err = dir.Lstat(base)
		return err
	})
	return info, err
}

// List lists what is in the folder at a name, sorted by name.
func (f *Folder) List(name string) (list []fs.DirEntry, err error) {
	dir, err := f.descend(name, false)
	if err != nil {
		return nil, err
	}
	if dir != f.root {
		defer dir.Close()
	}
	return fs.ReadDir(dir.FS(), ".")
}

// Replace gives a file new content in one step, and makes the folders that it needs. A
// link at its name is replaced, not followed.
func (f *Folder) Replace(name string, content []byte, mode fs.FileMode) error {
	return f.within(name, true, func(dir *os.Root, base string) error {
		return replace(dir, base, content, mode, false)
	})
}

// ReplaceDurably is Replace that gives the file exactly this mode, whatever the
// umask, and returns when the file and its name are on disk.
func (f *Folder) ReplaceDurably(name string, content []byte, mode fs.FileMode) error {
	return f.within(name, true, func(dir *os.Root, base string) error {
		if err := replace(dir, base, content, mode, true); err != nil {
			return err
		}
		return syncNames(dir)
	})
}

func replace(dir *os.Root, base string, content []byte, mode fs.FileMode, durable bool) error {
	temporary, err := write(dir, base, content, mode, durable)
	if err != nil {
		return err
	}
	if err := dir.Rename(temporary, base); err != nil {
		return errors.Join(err, dir.Remove(temporary))
	}
	return nil
}

// write writes content under a random name. O_EXCL follows no link.
func write(dir *os.Root, base string, content []byte, mode fs.FileMode, durable bool) (temporary string, err error) {
	temporary = base + "." + strings.ToLower(rand.Text()) + Suffix
	file, err := dir.OpenFile(temporary, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return "", err
	}
	_, err = file.Write(content)
	if durable {
		err = errors.Join(err, file.Chmod(mode), file.Sync())
	}
	if err = errors.Join(err, file.Close()); err != nil {
		return "", errors.Join(err, dir.Remove(temporary))
	}
	return temporary, nil
}

// Create is Replace of a file that must not be there: else the error is fs.ErrExist, and
// what is there stays, whenever it came.
func (f *Folder) Create(name string, content []byte, mode fs.FileMode) error {
	return f.within(name, true, func(dir *os.Root, base string) error {
		if _, err := dir.Lstat(base); err == nil {
			return &fs.PathError{Op: "create", Path: filepath.Join(f.path, name), Err: fs.ErrExist}
		}
		temporary, err := write(dir, base, content, mode, false)
		if err != nil {
			return err
		}
		err = dir.Link(temporary, base) // the one step that refuses to take another's place
		if err == nil || errors.Is(err, fs.ErrExist) {
			return errors.Join(err, dir.Remove(temporary))
		}
		// A file system without hard links: only a rename is left.
		if err := dir.Rename(temporary, base); err != nil {
			return errors.Join(err, dir.Remove(temporary))
		}
		return nil
	})
}

// Append opens a file, which is made where it is missing, to write at its end. It must not
// be a link.
func (f *Folder) Append(name string, mode fs.FileMode) (file *os.File, err error) {
	err = f.within(name, false, func(dir *os.Root, base string) error {
		file, err = dir.OpenFile(base, os.O_WRONLY|os.O_CREATE|os.O_EXCL|os.O_APPEND, mode)
		if !errors.Is(err, fs.ErrExist) {
			return err
		}
		named, err := dir.Lstat(base)
		if err == nil && !named.Mode().IsRegular() {
			err = &LinkError{filepath.Join(f.path, name)}
		}
		if err != nil {
			return err
		}
		if file, err = dir.OpenFile(base, os.O_WRONLY|os.O_APPEND, mode); err != nil {
			return err
		}
		if opened, err := file.Stat(); err != nil || !os.SameFile(named, opened) {
			return errors.Join(err, &LinkError{filepath.Join(f.path, name)}, file.Close())
		}
		return nil
	})
	return file, err
}

// Remove removes a file or an empty folder. A link is removed itself.
func (f *Folder) Remove(name string) error {
	return f.within(name, false, func(dir *os.Root, base string) error { return dir.Remove(base) })
}

// RemoveAll removes a folder with all that is in it. Links in it are removed, not
// followed.
func (f *Folder) RemoveAll(name string) error {
	return f.within(name, false, func(dir *os.Root, base string) error { return dir.RemoveAll(base) })
}

// Rename gives what is in this folder another name in it.
func (f *Folder) Rename(old, new string) error { return f.root.Rename(old, new) }

// MakeTemporary makes a folder with a random name that begins so, and returns the name.
func (f *Folder) MakeTemporary(prefix string, mode fs.FileMode) (name string, err error) {
	name = prefix + strings.ToLower(rand.Text())
	if err := f.root.Mkdir(name, mode); err != nil {
		return "", err
	}
	return name, f.root.Chmod(name, mode) // whatever the umask
}

// RemoveLeftovers removes what writes of these files that were interrupted have left.
func (f *Folder) RemoveLeftovers(names []string) error {
	byFolder := map[string][]string{}
	for _, name := range names {
		if name = filepath.Clean(name); filepath.IsLocal(name) {
			byFolder[filepath.Dir(name)] = append(byFolder[filepath.Dir(name)], filepath.Base(name))
		}
	}
	for folder, bases := range byFolder {
		list, err := f.List(folder)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		for _, entry := range list {
			base := leftoverOf(entry.Name())
			if entry.Type().IsRegular() && base != "" && slices.Contains(bases, base) {
				if err := f.Remove(filepath.Join(folder, entry.Name())); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// leftoverOf is the name of the file that was being written under a name, or "".
func leftoverOf(name string) string {
	rest, ok := strings.CutSuffix(name, Suffix)
	if !ok {
		return ""
	}
	i := strings.LastIndexByte(rest, '.')
	if i < 1 {
		return ""
	}
	return rest[:i]
}

// Sync returns when the names in the folder are on disk.
func (f *Folder) Sync() error { return syncNames(f.root) }

func syncNames(dir *os.Root) error {
	d, err := dir.Open(".")
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// ReadRegular reads a file of at most limit bytes that somebody named, links followed. A
// device or a pipe, which may have no end, is refused.
func ReadRegular(path string, limit int64) ([]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is not a file", path)
	}
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return readAll(file, path, limit)
}

// Replace is Folder.Replace of one file in a folder that is there.
func Replace(path string, content []byte, mode fs.FileMode) error {
	return one(path, func(f *Folder, base string) error { return f.Replace(base, content, mode) })
}

func one(path string, do func(f *Folder, base string) error) error {
	f, err := Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	return errors.Join(do(f, filepath.Base(path)), f.Close())
}

// Rewrite replaces, durably, the content of a file that is there and keeps its mode. Below
// base it goes through no link, and the file itself must not be one: what a link leads to
// is not what somebody named. What is no longer as it was read stays.
func Rewrite(base, path string, before, content []byte) error {
	below, err := filepath.Rel(base, path)
	if err != nil || !filepath.IsLocal(below) {
		base, below = filepath.Dir(path), filepath.Base(path)
	}
	f, err := Open(base)
	if err != nil {
		return err
	}
	info, err := f.Lstat(below)
	if err == nil {
		var now []byte
		now, err = f.Read(below, int64(len(before)))
		var link *LinkError
		if err == nil && !bytes.Equal(now, before) || err != nil && !errors.As(err, &link) {
			err = fmt.Errorf("%s changed while it was worked on, and was left as it is: try again", path)
		}
	}
	if err == nil {
		err = f.ReplaceDurably(below, content, info.Mode().Perm())
	}
	return errors.Join(err, f.Close())
}
