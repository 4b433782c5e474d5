package files

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReplace(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.txt")
	for _, write := range []func(string, []byte, fs.FileMode) error{Replace, ReplaceDurably} {
		require.NoError(t, os.WriteFile(path+Suffix, []byte("what a crash left, and longer"), 0o644))
		require.NoError(t, write(path, []byte("new"), 0o644))
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, "new", string(text))
		assert.NoFileExists(t, path+Suffix)
	}
	require.NoError(t, ReplaceDurably(path, []byte("new"), 0o666))
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o666), info.Mode().Perm(), "exactly this mode, whatever the umask")
	folder := filepath.Join(t.TempDir(), "folder")
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "full"), 0o755))
	require.Error(t, Replace(folder, []byte("x"), 0o644), "a folder is not replaced")
	assert.NoFileExists(t, folder+Suffix, "nothing is left behind")
	assert.DirExists(t, filepath.Join(folder, "full"))
	require.Error(t, ReplaceDurably(filepath.Join(folder, "none", "x"), nil, 0o644))
}
