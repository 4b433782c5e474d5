package conformance

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/stubs/rust"
	"faithfulcourier/internal/toolchain"
)

var rustProgram struct {
	sync.Once
	path string
}

// rustVectors builds the program that holds Rust's types against vectors, once, and returns its path.
func rustVectors(t testing.TB) string {
	t.Helper()
	toolchain.Require(t, "rust")
	rustProgram.Do(func() {
		dir := filepath.Join(outputs(t), "rust")
		require.NoError(t, os.CopyFS(dir, os.DirFS("rust")))
		defs, err := definitions()
		require.NoError(t, err)
		files, err := rust.Generate(defs)
		require.NoError(t, err)
		for _, f := range files {
			path := filepath.Join(dir, "src", filepath.FromSlash(f.Path))
			require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
			require.NoError(t, os.WriteFile(path, f.Content, 0o666))
		}
		target := filepath.Join(dir, "target")
		toolchain.Run(t, dir, "cargo", "build", "--quiet", "--offline", "--target-dir", target)
		rustProgram.path = filepath.Join(target, "debug", "vectors")
	})
	require.NotEmpty(t, rustProgram.path, "it did not compile before")
	return rustProgram.path
}

func TestRustTypes(t *testing.T) {
	t.Parallel() // with the other tests that measure no time, after those that do
	program := rustVectors(t)
	list, file := vectorsFile(t)
	assert.Equal(t, fmt.Sprintf("%d payloads agree\n", len(list)), toolchain.Run(t, "rust", program, file))
}

func FuzzRustTypes(f *testing.F) {
	fuzz(f, asked(f, exec.Command(rustVectors(f), "-")))
}
