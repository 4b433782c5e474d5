// Package files replaces files in one step, so that a crash leaves the old or
// the new content and never a part. It is the one writer of files that others
// rely on; it knows nothing of what they hold.
package files

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// Suffix is what the name of a file has while it is written. A crash may leave
// such a file behind; the next Replace of the same path takes its place.
const Suffix = ".faithful-new"

// Replace writes content beside its place and moves it there.
func Replace(path string, content []byte, mode fs.FileMode) error {
	return replace(path, content, mode, false)
}

// ReplaceDurably is Replace that gives the file exactly this mode, whatever the
// umask, and returns when the file and its name are on disk.
func ReplaceDurably(path string, content []byte, mode fs.FileMode) error {
	if err := replace(path, content, mode, true); err != nil {
		return err
	}
	return SyncFolder(filepath.Dir(path))
}

func replace(path string, content []byte, mode fs.FileMode, durable bool) error {
	f, err := os.OpenFile(path+Suffix, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if durable {
		err = errors.Join(err, f.Chmod(mode), f.Sync())
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(path+Suffix, path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(path+Suffix))
	}
	return nil
}

// SyncFolder returns when the names in a folder are on disk.
func SyncFolder(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}
