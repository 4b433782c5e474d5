// Package madefiles keeps a folder of files that are made from definitions in step with
// them: requests, one per call, and the pages of a manual. The folder belongs to the user: a file that
// somebody changed is never touched. It must not know how the files are made.
package madefiles

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"faithfulcourier/internal/files"
)

// Kind is what a folder is kept for.
type Kind struct {
	Record string // the file in which the folder remembers what was written into it
	Left   string // why a file that somebody changed is left where definitions have it no more
}

// The kinds of folders.
var (
	Requests = Kind{".faithful-requests.json", "its call is gone; the file is left, since it was edited"}
	Manual   = Kind{".faithful-manual.json", "its page is gone; the file is left, since it was edited"}
)

// File is one file as definitions would have it.
type File struct {
	Name string // with slashes, below the folder
	Data []byte
	// Check says what definitions have against other content, or ""; nil has nothing to say.
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
// Below base nothing is reached through links.
func (k Kind) Update(base, dir string, wanted []File, dry bool) (results []Result, err error) {
	before, err := k.read(dir)
	if err != nil {
		return nil, err
	}
	var folder *files.Folder
	if !dry {
		if folder, err = files.Make(base, dir); err != nil {
			return nil, err
		}
		defer func() { err = errors.Join(err, folder.Close()) }()
	}
	after := record{Files: map[string]string{}}
	stays := map[string]bool{}
	for _, f := range wanted {
		stays[f.Name] = true
		result, err := update(folder, dir, f, before.Files[f.Name])
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
		if stays[name] {
			continue
		}
		data, err := readPlain(filepath.Join(dir, name))
		switch {
		case errors.Is(err, fs.ErrNotExist):
			continue // somebody took it away
		case err != nil:
			return results, err
		case digest(data) != known:
			results = append(results, Result{name, Yours, k.Left})
			after.Files[name] = known
			continue
		case !dry:
			if err := folder.Remove(name); err != nil {
				return results, err
			}
		}
		results = append(results, Result{Name: name, State: Gone})
	}
	slices.SortFunc(results, func(a, b Result) int { return strings.Compare(a.Name, b.Name) })
	if dry {
		return results, nil
	}
	return results, after.write(folder, k.Record, before)
}

// readPlain reads a file that is not a link.
func readPlain(path string) ([]byte, error) {
	info, err := os.Lstat(path)
	if err == nil && info.Mode()&fs.ModeSymlink != 0 {
		return nil, &files.LinkError{Path: path}
	}
	if err != nil {
		return nil, err
	}
	return os.ReadFile(path)
}

// update writes one file, where folder is not nil.
func update(folder *files.Folder, dir string, f File, known string) (Result, error) {
	result := Result{Name: f.Name, State: New}
	data, err := readPlain(filepath.Join(dir, f.Name))
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return result, err
	case bytes.Equal(data, f.Data):
		return Result{Name: f.Name, State: Same}, nil
	case digest(data) != known:
		if f.Check != nil {
			result.Note = f.Check(data)
		}
		result.State = Yours
		return result, nil
	default:
		result.State = Changed
	}
	if folder == nil {
		return result, nil
	}
	return result, folder.Replace(f.Name, f.Data, 0o666)
}

func (k Kind) read(dir string) (record, error) {
	r := record{Files: map[string]string{}}
	path := filepath.Join(dir, k.Record)
	data, err := readPlain(path)
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
		if !filepath.IsLocal(filepath.FromSlash(name)) || strings.HasPrefix(name, ".") {
			return r, fmt.Errorf("%s names %q, which is not a file of its folder", path, name)
		}
	}
	return r, nil
}

func (r record) write(folder *files.Folder, name string, before record) error {
	if maps.Equal(r.Files, before.Files) {
		return nil
	}
	data, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	return folder.Replace(name, append(data, '\n'), 0o666)
}

func digest(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}
