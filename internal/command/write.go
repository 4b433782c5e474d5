package command

import (
	"errors"
	"fmt"
	"path/filepath"

	"faithfulcourier/internal/files"
	"faithfulcourier/internal/source"
)

// writing runs what changes files while this process alone may do so in the project
// that a folder belongs to, or in the folder.
func (w *World) writing(command, dir string, do func(lock *files.Lock) (int, error)) (status int, err error) {
	if p, err := openProject(dir); err == nil {
		dir = p.Dir
	}
	lock, err := files.Acquire(w.Context, dir, command, w.Now())
	if err != nil {
		return trouble, err
	}
	defer func() {
		if failed := lock.Release(); failed != nil {
			status, err = trouble, errors.Join(err, failed)
		}
	}()
	return do(lock)
}

// changedFile is a definition file that a command writes anew.
type changedFile struct {
	file *source.File
	text string
}

// changedFiles pairs files with what is to be in them, where that differs.
func changedFiles(before, after []*source.File) (list []changedFile) {
	for i, f := range before {
		if f.Text != after[i].Text {
			list = append(list, changedFile{f, after[i].Text})
		}
	}
	return list
}

// rewrite writes definition files anew, all under one lock.
func (w *World) rewrite(command string, list []changedFile) error {
	if len(list) == 0 {
		return nil
	}
	_, err := w.writing(command, w.Dir, func(*files.Lock) (int, error) {
		base := w.Dir
		if p, err := openProject(w.Dir); err == nil {
			base = p.Dir
		}
		for _, c := range list {
			path := c.file.Path()
			if path == "" {
				return trouble, fmt.Errorf("standard input can't be written; leave out --write")
			}
			if absolute, err := filepath.Abs(path); err == nil {
				path = absolute
			}
			if err := files.Rewrite(base, path, []byte(c.file.Text), []byte(c.text)); err != nil {
				return trouble, err
			}
		}
		return fine, nil
	})
	return err
}
