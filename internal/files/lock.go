package files

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// LockName is the file in a folder that its writer holds while it writes.
const LockName = ".faithful-writing"

// patience is how long a writer waits for another one, look how often it looks.
const (
	patience = 10 * time.Second
	look     = 20 * time.Millisecond
)

// Holder is who holds a lock, as its file says.
type Holder struct {
	Command string    `json:"command"`
	Process int       `json:"process"`
	Since   time.Time `json:"since"`
}

// A BusyError says that another process writes, and went on for longer than a lock was
// waited for.
type BusyError struct {
	Path   string
	Holder Holder // of which nothing is known where Process is 0
}

func (e *BusyError) Error() string {
	who := "another process"
	if e.Holder.Process != 0 {
		who = fmt.Sprintf("faithful %s, process %d, since %s,", e.Holder.Command, e.Holder.Process,
			e.Holder.Since.Format(time.TimeOnly))
	}
	return fmt.Sprintf("%s is writing here and has locked %s: try again when it is done, or end it", who, e.Path)
}

// A Lock is held by the one process that writes. The system frees it when the process
// ends, however that happens.
type Lock struct {
	folder *Folder
	file   *os.File
}

// Acquire waits until no other process holds the lock of a folder, and holds it then. The
// error is a *BusyError after ten seconds. command is what to tell others.
func Acquire(ctx context.Context, folder, command string, now time.Time) (*Lock, error) {
	f, err := Open(folder)
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	for {
		file, err := f.tryLock()
		if err == nil {
			l := &Lock{f, file}
			if err = l.sign(Holder{command, os.Getpid(), now.UTC()}); err == nil {
				return l, nil
			}
			return nil, errors.Join(err, l.Release())
		}
		if !errors.Is(err, errHeld) {
			return nil, errors.Join(err, f.Close())
		}
		select {
		case <-time.After(look):
		case <-ctx.Done():
			busy := &BusyError{Path: filepath.Join(folder, LockName)}
			if text, err := f.Read(LockName, 4096); err == nil {
				_ = json.Unmarshal(text, &busy.Holder) // what can't be read is not known
			}
			return nil, errors.Join(busy, f.Close())
		}
	}
}

// errHeld says that another process holds the lock.
var errHeld = errors.New("the lock is held")

// tryLock opens the file and locks it. What was opened must be what the name says
// afterwards: neither a link, nor a file that its last holder has removed.
func (f *Folder) tryLock() (*os.File, error) {
	file, err := f.root.OpenFile(LockName, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o666)
	if errors.Is(err, fs.ErrExist) {
		var named fs.FileInfo
		if named, err = f.root.Lstat(LockName); errors.Is(err, fs.ErrNotExist) {
			return nil, errHeld // its holder has just removed it
		}
		if err == nil && !named.Mode().IsRegular() {
			return nil, &LinkError{filepath.Join(f.path, LockName)}
		}
		if file, err = f.root.OpenFile(LockName, os.O_RDWR, 0); errors.Is(err, fs.ErrNotExist) {
			return nil, errHeld
		}
	}
	if err != nil {
		return nil, err
	}
	if err := lockFile(file); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	opened, err := file.Stat()
	named, nameErr := f.root.Lstat(LockName)
	if err == nil && nameErr == nil && os.SameFile(opened, named) {
		return file, nil
	}
	return nil, errors.Join(errHeld, file.Close())
}

// sign writes who holds the lock.
func (l *Lock) sign(h Holder) error {
	text, err := json.Marshal(h)
	if err != nil {
		return err
	}
	if err := l.file.Truncate(0); err != nil {
		return err
	}
	_, err = l.file.WriteAt(append(text, '\n'), 0)
	return err
}

// Release lets others write.
func (l *Lock) Release() error {
	removed := l.folder.root.Remove(LockName) // while it is held, so that nobody else's is removed
	return errors.Join(removed, l.file.Close(), l.folder.Close())
}
