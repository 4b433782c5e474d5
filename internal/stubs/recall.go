package stubs

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"os"
	"path/filepath"
	"time"

	"faithfulcourier/internal/files"
)

// memory is what a run remembers of an output, outside of the project, so that
// the next run of the same inputs need not make everything again to see that
// nothing has changed. It is never needed: without it, or where anything is not
// as it says, stubs are made and compared byte by byte.
type memory struct {
	Key   string              `json:"key"` // of all that the stubs were made from
	Saved time.Time           `json:"saved"`
	Files map[string]memorial `json:"files"`
}

// memorial is how a file was when it was known to be right.
type memorial struct {
	Size    int64     `json:"size"`
	Changed time.Time `json:"changed"`
	Hash    string    `json:"hash"` // of all of it
}

// blink is how long after its last change a file must be looked at to be known
// by the time of that change: clocks of file systems are coarse.
const blink = 2 * time.Second

func hashWhole(content []byte) string {
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:])
}

// memoryFile is where the memory of an output folder is, in a folder for such
// things.
func memoryFile(cache, dir string) string {
	return filepath.Join(cache, "outputs", hashWhole([]byte(dir))[:32]+".json")
}

// Recall returns the plan that changes nothing, where a run with the same key has
// left the output as it is now; else nil.
func Recall(cache, dir, key string, now time.Time) *Plan {
	var m memory
	text, err := os.ReadFile(memoryFile(cache, dir))
	if err != nil || json.Unmarshal(text, &m) != nil || m.Key != key || len(m.Files) == 0 {
		return nil
	}
	read := false // whether a file had to be read, since its time told nothing
	for path, f := range m.Files {
		full := filepath.Join(dir, filepath.FromSlash(path))
		info, err := os.Lstat(full)
		if err != nil || !info.Mode().IsRegular() || info.Size() != f.Size || !filepath.IsLocal(filepath.FromSlash(path)) {
			return nil
		}
		if info.ModTime().Equal(f.Changed) && m.Saved.Sub(f.Changed) > blink {
			continue
		}
		content, err := os.ReadFile(full)
		if err != nil || hashWhole(content) != f.Hash {
			return nil
		}
		f.Changed, read = info.ModTime(), true
		m.Files[path] = f
	}
	if read {
		m.Saved = now
		m.write(cache, dir)
	}
	return &Plan{Dir: dir, Unchanged: len(m.Files) - 1} // the record of what was made is not a stub
}

func (m *memory) write(cache, dir string) {
	target := memoryFile(cache, dir)
	if text, err := json.Marshal(m); err == nil && os.MkdirAll(filepath.Dir(target), 0o777) == nil {
		_ = files.Replace(target, text, 0o666)
	}
}

// Remember keeps how an applied plan left its output, at a time. That it can't is
// no failure.
func (p *Plan) Remember(cache, key string, now time.Time) {
	if p.files == nil || len(p.Kept) > 0 {
		return
	}
	m := memory{Key: key, Saved: now, Files: map[string]memorial{}}
	record, err := os.ReadFile(p.path(madeFile))
	if err != nil {
		return
	}
	all := map[string][]byte{madeFile: record}
	for path, content := range p.files {
		all[path] = content
	}
	for path, content := range all {
		info, err := os.Lstat(p.path(path))
		if err != nil || info.Size() != int64(len(content)) {
			return
		}
		m.Files[path] = memorial{Size: info.Size(), Changed: info.ModTime(), Hash: hashWhole(content)}
	}
	m.write(cache, p.Dir)
}
