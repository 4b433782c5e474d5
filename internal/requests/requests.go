// Package requests keeps a folder of requests, a file a call, in step with
// definitions. The folder belongs to the user: a file that somebody changed is
// never touched. It must not know how requests are made.
package requests

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
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

// Record is the file in which a folder remembers what was written into it.
const Record = ".faithful-requests.json"

// File is one file as definitions would have it.
type File struct {
	Name string // without folders
	Data []byte
	// Check says what definitions have against other content, or "".
	Check func(data []byte) string
}

// State is what became of a file.
type State string

// The states of a file.
const (
	New     State = "new"
	Changed State = "changed"
	Gone    State = "gone"
	Same    State = "unchanged"
	Yours   State = "yours" // somebody changed it, so it was left alone
)

// Result is one file and what became of it.
type Result struct {
	Name  string `json:"file"`
	State State  `json:"state"`
	Note  string `json:"note,omitempty"` // what definitions have against a file of the user's
}

// record is what the folder remembers: the SHA-256 of each file as it was written.
type record struct {
	Files map[string]string `json:"files"`
}

// Update writes what is new or changed into dir, takes away what is gone, and
// leaves alone what somebody changed. dry only says what it would do.
func Update(dir string, wanted []File, dry bool) ([]Result, error) {
	before, err := read(dir)
	if err != nil {
		return nil, err
	}
	if !dry {
		if err := os.MkdirAll(dir, 0o777); err != nil {
			return nil, err
		}
	}
	after := record{Files: map[string]string{}}
	var results []Result
	for _, f := range wanted {
		result, err := update(dir, f, before.Files[f.Name], dry)
		if err != nil {
			return results, err
		}
		results = append(results, result)
		if result.State != Yours {
			after.Files[f.Name] = digest(f.Data)
		} else if known, ok := before.Files[f.Name]; ok {
			after.Files[f.Name] = known
		}
	}
	for name, known := range before.Files {
		if slices.ContainsFunc(wanted, func(f File) bool { return f.Name == name }) {
			continue
		}
		path := filepath.Join(dir, name)
		data, err := os.ReadFile(path)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			continue // somebody took it away
		case err != nil:
			return results, err
		case digest(data) != known:
			results = append(results, Result{name, Yours, "its call is gone; the file is left, since it was edited"})
			after.Files[name] = known
			continue
		case !dry:
			if err := os.Remove(path); err != nil {
				return results, err
			}
		}
		results = append(results, Result{Name: name, State: Gone})
	}
	slices.SortFunc(results, func(a, b Result) int { return strings.Compare(a.Name, b.Name) })
	if dry {
		return results, nil
	}
	return results, after.write(dir, before)
}

func update(dir string, f File, known string, dry bool) (Result, error) {
	path := filepath.Join(dir, f.Name)
	result := Result{Name: f.Name, State: New}
	data, err := os.ReadFile(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return result, err
	case bytes.Equal(data, f.Data):
		return Result{Name: f.Name, State: Same}, nil
	case digest(data) != known:
		return Result{f.Name, Yours, f.Check(data)}, nil
	default:
		result.State = Changed
	}
	if dry {
		return result, nil
	}
	return result, files.Replace(path, f.Data, 0o666)
}

func read(dir string) (record, error) {
	r := record{Files: map[string]string{}}
	path := filepath.Join(dir, Record)
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return r, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &r)
	}
	if err != nil {
		return r, fmt.Errorf("%s can't be read: %w; take it away, and every file in the folder counts as yours", path, err)
	}
	for name := range r.Files {
		if name != filepath.Base(name) || strings.HasPrefix(name, ".") {
			return r, fmt.Errorf("%s names %q, which is no file of its folder", path, name)
		}
	}
	return r, nil
}

func (r record) write(dir string, before record) error {
	if len(r.Files) == len(before.Files) {
		same := true
		for name, d := range r.Files {
			same = same && before.Files[name] == d
		}
		if same {
			return nil
		}
	}
	data, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	return files.Replace(filepath.Join(dir, Record), append(data, '\n'), 0o666)
}

func digest(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}
