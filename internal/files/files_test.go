package files

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func open(t *testing.T, dir string) *Folder {
	t.Helper()
	f, err := Open(dir)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	return f
}

func names(t *testing.T, dir string) (list []string) {
	t.Helper()
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range entries {
		list = append(list, e.Name())
	}
	return list
}

func TestReplace(t *testing.T) {
	dir := t.TempDir()
	f := open(t, dir)
	for _, write := range []func(string, []byte, fs.FileMode) error{f.Replace, f.ReplaceDurably} {
		require.NoError(t, write("sub/a.txt", []byte("new"), 0o644))
		text, err := f.Read("sub/a.txt", 3)
		require.NoError(t, err)
		assert.Equal(t, "new", string(text))
		assert.Equal(t, []string{"a.txt"}, names(t, filepath.Join(dir, "sub")), "nothing is left beside it")
	}
	require.NoError(t, f.ReplaceDurably("sub/a.txt", []byte("new"), 0o666))
	info, err := f.Lstat("sub/a.txt")
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o666), info.Mode().Perm(), "exactly this mode, whatever the umask")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "folder/full"), 0o755))
	require.Error(t, f.Replace("folder", []byte("x"), 0o644), "a folder is not replaced")
	assert.Equal(t, []string{"folder", "sub"}, names(t, dir), "nothing is left over")
	require.Error(t, f.Replace("sub/a.txt/b", nil, 0o644))
	for _, outside := range []string{"../x", "/x", "sub/../../x"} {
		assert.ErrorContains(t, f.Replace(outside, nil, 0o644), "is not below", outside)
	}
	_, err = f.Read("sub/a.txt", 2)
	assert.ErrorContains(t, err, "more than 2 bytes")
}

func TestCreateTakesNobodysPlace(t *testing.T) {
	f := open(t, t.TempDir())
	require.NoError(t, f.Create("a/b.txt", []byte("mine"), 0o666))
	assert.ErrorIs(t, f.Create("a/b.txt", []byte("theirs"), 0o666), fs.ErrExist)
	require.NoError(t, os.Symlink("nowhere", filepath.Join(f.path, "a/dangling")))
	assert.ErrorIs(t, f.Create("a/dangling", []byte("theirs"), 0o666), fs.ErrExist)
	assert.NoFileExists(t, filepath.Join(f.path, "a/nowhere"))
	assert.Equal(t, []string{"b.txt", "dangling"}, names(t, filepath.Join(f.path, "a")))
}

// TestLinksAreNotFollowed has links at every step of a way.
func TestLinksAreNotFollowed(t *testing.T) {
	dir, victim := t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(victim, "file"), []byte("precious"), 0o666))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "real"), 0o777))
	for path, to := range map[string]string{"out": victim, "real/out": victim, "inside": "real",
		"file": filepath.Join(victim, "file"), "self": "."} {
		require.NoError(t, os.Symlink(to, filepath.Join(dir, path)))
	}
	f := open(t, dir)
	var link *LinkError
	for _, name := range []string{"out/file", "real/out/file", "inside/out/file", "inside/file", "self/file",
		"self/out/file"} {
		assert.ErrorAs(t, f.Replace(name, []byte("x"), 0o666), &link, name)
		assert.ErrorAs(t, f.Create(name, []byte("x"), 0o666), &link, name)
		assert.ErrorAs(t, f.Remove(name), &link, name)
		assert.ErrorAs(t, f.RemoveAll(name), &link, name)
		_, err := f.Read(name, 100)
		assert.ErrorAs(t, err, &link, name)
	}
	_, err := f.Read("file", 100)
	assert.ErrorAs(t, err, &link)
	_, err = f.Append("file", 0o666)
	assert.ErrorAs(t, err, &link)
	log, err := f.Append("real/log", 0o666)
	require.NoError(t, err)
	require.NoError(t, log.Close())
	assert.ErrorAs(t, Rewrite(dir, filepath.Join(dir, "file"), []byte("precious"), []byte("x")), &link)
	assert.ErrorAs(t, Rewrite(dir, filepath.Join(dir, "out/file"), []byte("precious"), []byte("x")), &link)
	for _, path := range []string{"out", "out/new", "real/out/new/deep", "self/new"} {
		_, err := Make(dir, filepath.Join(dir, path))
		assert.ErrorAs(t, err, &link, path)
	}
	require.NoError(t, f.RemoveAll("real"), "a link in a folder goes with it")
	require.NoError(t, f.Replace("file", []byte("x"), 0o666), "a link at the name itself is replaced")
	assert.Equal(t, []string{"file"}, names(t, victim))
	text, err := os.ReadFile(filepath.Join(victim, "file"))
	require.NoError(t, err)
	assert.Equal(t, "precious", string(text))
}

// TestSwappedFolders has somebody exchange a folder for a link all the time.
func TestSwappedFolders(t *testing.T) {
	dir, victim := t.TempDir(), t.TempDir()
	f := open(t, dir)
	stop := make(chan struct{})
	var group sync.WaitGroup
	group.Go(func() {
		a := filepath.Join(dir, "a")
		for {
			select {
			case <-stop:
				return
			default:
				// The writer makes a missing folder, so each step may find the other's work.
				_, _ = os.RemoveAll(a), os.Symlink(victim, a)
				_, _ = os.Remove(a), os.Mkdir(a, 0o777)
			}
		}
	})
	written, refused := 0, 0
	start := time.Now()
	for i := 0; i < 3000 || (written == 0 || refused == 0) && time.Since(start) < 30*time.Second; i++ {
		if f.Replace("a/file", []byte("x"), 0o666) == nil {
			written++
		} else {
			refused++
		}
	}
	close(stop)
	group.Wait()
	assert.Empty(t, names(t, victim))
	assert.Positive(t, written)
	assert.Positive(t, refused, "the test must meet links")
}

func TestRewriteKeepsWhatChanged(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.txt")
	require.NoError(t, os.WriteFile(path, []byte("edited since"), 0o640))
	require.ErrorContains(t, Rewrite("/elsewhere", path, []byte("as read"), []byte("new")),
		"changed while it was worked on")
	require.NoError(t, Rewrite("/elsewhere", path, []byte("edited since"), []byte("new")))
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o640), info.Mode().Perm())
}

func TestLeftovers(t *testing.T) {
	f := open(t, t.TempDir())
	for _, name := range []string{"a.txt.abc" + Suffix, "a.txt", "b.txt.abc" + Suffix, "a.txt" + Suffix} {
		require.NoError(t, os.WriteFile(filepath.Join(f.path, name), nil, 0o666))
	}
	require.NoError(t, f.RemoveLeftovers([]string{"a.txt", "gone/c.txt", "../d.txt"}))
	assert.Equal(t, []string{"a.txt", "a.txt" + Suffix, "b.txt.abc" + Suffix}, names(t, f.path))
}

func TestLock(t *testing.T) {
	dir := t.TempDir()
	at := time.Date(2026, 7, 15, 7, 15, 0, 0, time.UTC)
	first, err := Acquire(t.Context(), dir, "seal", at)
	require.NoError(t, err)
	short, stop := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer stop()
	_, err = Acquire(short, dir, "generate", at)
	var busy *BusyError
	require.ErrorAs(t, err, &busy)
	assert.Equal(t, Holder{"seal", os.Getpid(), at}, busy.Holder)
	assert.ErrorContains(t, err, "faithful seal, process")
	require.NoError(t, first.Release())
	assert.Empty(t, names(t, dir))

	// What a killed process left, and what a hostile repository could have laid there.
	require.NoError(t, os.WriteFile(filepath.Join(dir, LockName),
		[]byte("not JSON, and longer than what is written in its place, by far"), 0o666))
	again, err := Acquire(t.Context(), dir, "seal", at)
	require.NoError(t, err)
	require.NoError(t, again.Release())
	victim := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.Symlink(victim, filepath.Join(dir, LockName)))
	_, err = Acquire(t.Context(), dir, "seal", at)
	var link *LinkError
	require.ErrorAs(t, err, &link)
	assert.NoFileExists(t, victim)
}

// TestOneAtATime has many writers count in a file, which fails if two of them overlap.
func TestOneAtATime(t *testing.T) {
	dir := t.TempDir()
	inside, most := 0, 0
	var counting sync.Mutex
	var group sync.WaitGroup
	var failed error
	for range 20 {
		group.Go(func() {
			for range 5 {
				lock, err := Acquire(t.Context(), dir, "seal", time.Now())
				counting.Lock()
				failed = errors.Join(failed, err)
				inside++
				most = max(most, inside)
				counting.Unlock()
				if err == nil {
					time.Sleep(time.Millisecond)
					counting.Lock()
					inside--
					counting.Unlock()
					err = lock.Release()
					counting.Lock()
					failed = errors.Join(failed, err)
					counting.Unlock()
				}
			}
		})
	}
	group.Wait()
	require.NoError(t, failed)
	assert.Equal(t, 1, most)
}
