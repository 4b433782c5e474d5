package conformance

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/stubs/rust"
	"faithfulcourier/internal/toolchain"
)

var rustProgram struct {
	sync.Once
	path string
}

// rustCrate writes a crate of this folder with stubs into a folder of its own, which it returns.
func rustCrate(t testing.TB, name string, options stubs.Options) string {
	t.Helper()
	dir, err := os.MkdirTemp(outputs(t), "rust-"+name)
	require.NoError(t, err)
	require.NoError(t, os.CopyFS(dir, os.DirFS(filepath.Join("rust", name))))
	defs, err := definitions()
	require.NoError(t, err)
	files, err := rust.Generate(defs, stubs.About{Name: "conformance", Version: "draft"}, options)
	require.NoError(t, err)
	for _, f := range files {
		path := filepath.Join(dir, "src", filepath.FromSlash(f.Path))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
		require.NoError(t, os.WriteFile(path, f.Content, 0o666))
	}
	return dir
}

// rustVectors builds the program that holds Rust's types against vectors, once, and returns its path.
func rustVectors(t testing.TB) string {
	t.Helper()
	toolchain.Require(t, "rust")
	rustProgram.Do(func() {
		dir := rustCrate(t, "types", stubs.Options{Types: true})
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

// rustLacks are the cases of the matrix that stubs in Rust are not written for yet.
var rustLacks = []string{"raw bodies", "watching", "both ways", "heads", "late failure"}

// rustCalls makes the crate of clients and servers and fetches what it needs; it returns its folder.
func rustCalls(t *testing.T) string {
	toolchain.Require(t, "rust")
	dir := rustCrate(t, "calls", stubs.Everything("conformance"))
	fetch := exec.Command("cargo", "fetch", "--locked", "--quiet")
	fetch.Dir = dir
	if output, err := fetch.CombinedOutput(); err != nil {
		t.Skipf("skipped: the crates that clients and servers in Rust need can't be fetched: %s", output)
	}
	return dir
}

// TestRustCalls lets Go's client call a server in Rust, and a client in Rust call that server and Go's, which must say
// the same. Linters are silent about what they are made of.
func TestRustCalls(t *testing.T) {
	t.Parallel() // with the other tests that measure no time, after those that do
	dir := rustCalls(t)
	target := filepath.Join(dir, "target")
	toolchain.Run(t, dir, "cargo", "build", "--quiet", "--offline", "--locked", "--target-dir", target)
	program := func(name string) string { return filepath.Join(target, "debug", name) }
	goDir := t.TempDir()
	toolchain.Run(t, ".", "go", "build", "-o", goDir+"/", "./go/matrix/server", "./go/matrix/client")
	inRust := listening(t, exec.Command(program("server")), "listening on ")
	inGo := listening(t, exec.Command(filepath.Join(goDir, "server")), "listening on ")
	for _, encoding := range []string{"cbor", "json"} {
		client := exec.Command(filepath.Join(goDir, "client"), "-server", inRust, fmt.Sprintf("-json=%t", encoding == "json"))
		output, _ := client.CombinedOutput() // fails for the cases that are left out
		said := map[string]string{}
		for line := range strings.Lines(string(output)) {
			if name, result, ok := strings.Cut(strings.TrimSpace(line), ": "); ok {
				said[name] = result
			}
		}
		for _, name := range cases {
			if slices.Contains(rustLacks, name) {
				t.Logf("left out: go > rust %s: %s", encoding, name)
				assert.NotEqual(t, "ok", said[name], "%s: take it off the list of what is left out", name)
				continue
			}
			assert.Equal(t, "ok", said[name], "go > rust %s: %s", encoding, name)
		}
	}
	assert.Equal(t, toolchain.Run(t, dir, program("client"), inGo), toolchain.Run(t, dir, program("client"), inRust))
	t.Run("clippy", func(t *testing.T) {
		if output, err := exec.Command("cargo", "clippy", "--version").CombinedOutput(); err != nil {
			t.Skipf("skipped: clippy is not there: %s", output)
		}
		toolchain.Run(t, dir, "cargo", "clippy", "--quiet", "--offline", "--locked", "--lib", "--target-dir", target, "--",
			"-D", "warnings", "-W", "clippy::pedantic")
	})
	t.Run("rustdoc", func(t *testing.T) {
		doc := exec.Command("cargo", "doc", "--quiet", "--offline", "--locked", "--no-deps", "--lib", "--target-dir", target)
		doc.Dir, doc.Env = dir, append(os.Environ(), "RUSTDOCFLAGS=-D warnings")
		output, err := doc.CombinedOutput()
		require.NoError(t, err, "%s", output)
	})
}
