// Package toolchain lets tests use the built program and the compilers of
// other languages. Only tests import it.
package toolchain

import (
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// programs are what each language's tests need, and those in a browser.
var programs = map[string][]string{"go": {"go"}, "typescript": {"node", "npm"}, "python": {"python3"},
	"java":    {"java", "javac", "mvn"},
	"rust":    {"cargo"},
	"browser": {"chromium"}}

// Require skips a test whose language is not there, and says so; a language
// that FAITHFUL_REQUIRE lists fails it instead.
func Require(t testing.TB, language string) {
	t.Helper()
	if testing.Short() && language != "go" {
		t.Skipf("skipped: -short leaves out %s", language)
	}
	for _, program := range programs[language] {
		if _, err := exec.LookPath(program); err != nil {
			if slices.Contains(strings.Split(os.Getenv("FAITHFUL_REQUIRE"), ","), language) {
				t.Fatalf("FAITHFUL_REQUIRE lists %s, and %s is not there", language, program)
			}
			t.Skipf("skipped: %s needs %s, which is not there", language, program)
		}
	}
}

// Browser skips a test where there is no browser, and says to the programs of a test which one there is.
func Browser(t *testing.T) {
	t.Helper()
	Require(t, "browser")
	chromium, err := exec.LookPath(programs["browser"][0])
	require.NoError(t, err)
	t.Setenv("CHROMIUM", chromium)
}

// Root is the folder of the repository.
func Root() string {
	_, file, _, _ := runtime.Caller(0)
	return filepath.Dir(filepath.Dir(filepath.Dir(file)))
}

var built struct {
	sync.Once
	path string
	err  error
	log  []byte
}

// Program builds the program once and returns its path.
func Program(t testing.TB) string {
	t.Helper()
	built.Do(func() {
		dir, err := os.MkdirTemp("", "faithful-test-")
		if err != nil {
			built.err = err
			return
		}
		built.path = filepath.Join(dir, "faithful")
		build := exec.Command("go", "build", "-o", built.path, "./cmd/faithful")
		build.Dir = Root()
		built.log, built.err = build.CombinedOutput()
		if built.err == nil {
			// Tests run it as another user, too.
			built.err = os.Chmod(dir, 0o755)
		}
	})
	require.NoError(t, built.err, "%s", built.log)
	return built.path
}

// Faithful is the program, to be run in a folder.
func Faithful(t testing.TB, dir string, args ...string) *exec.Cmd {
	t.Helper()
	c := exec.Command(Program(t), args...)
	c.Dir = dir
	return c
}

// BuildTypeScript compiles a TypeScript project, with what it needs from the
// registry, into a folder, and returns that.
func BuildTypeScript(t testing.TB, dir, out string) string {
	t.Helper()
	InstallNode(t, dir)
	require.NoError(t, os.MkdirAll(out, 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(out, "package.json"), []byte(`{"type":"module"}`), 0o666))
	modules, err := filepath.Abs(filepath.Join(dir, "node_modules"))
	require.NoError(t, err)
	require.NoError(t, os.Symlink(modules, filepath.Join(out, "node_modules")))
	Run(t, dir, "node_modules/.bin/tsc", "--outDir", out)
	// Stubs must compile where people demand less, too.
	Run(t, dir, "node_modules/.bin/tsc", "--noEmit", "--exactOptionalPropertyTypes", "false",
		"--noUncheckedIndexedAccess", "false", "--noPropertyAccessFromIndexSignature", "false")
	return out
}

// InstallNode installs what a project for Node needs from the
// registry. Test binaries run side by side, so one waits for the other.
func InstallNode(t testing.TB, dir string) {
	t.Helper()
	file, err := os.Open(filepath.Join(dir, "package.json"))
	require.NoError(t, err)
	defer file.Close() // which gives up the lock, too
	require.NoError(t, syscall.Flock(int(file.Fd()), syscall.LOCK_EX))
	wanted, err := os.ReadFile(filepath.Join(dir, "package.json"))
	require.NoError(t, err)
	installed := filepath.Join(dir, "node_modules", ".installed.json")
	if have, err := os.ReadFile(installed); err == nil && string(have) == string(wanted) {
		return
	}
	Run(t, dir, "npm", "install", "--no-audit", "--no-fund", "--no-package-lock")
	require.NoError(t, os.WriteFile(installed, wanted, 0o666))
}

// Python returns an interpreter with what the tests of Python stubs need from
// the registry; it skips the test where there is no Python.
func Python(t testing.TB) string {
	t.Helper()
	Require(t, "python")
	dir := filepath.Join(Root(), "conformance", "python")
	requirements := filepath.Join(dir, "requirements.txt")
	file, err := os.Open(requirements)
	require.NoError(t, err)
	defer file.Close() // which gives up the lock, too
	require.NoError(t, syscall.Flock(int(file.Fd()), syscall.LOCK_EX))
	python := filepath.Join(dir, ".venv", "bin", "python")
	wanted, err := os.ReadFile(requirements)
	require.NoError(t, err)
	installed := filepath.Join(dir, ".venv", "requirements.txt")
	if have, err := os.ReadFile(installed); err == nil && string(have) == string(wanted) {
		return python
	}
	Run(t, dir, "python3", "-m", "venv", ".venv")
	Run(t, dir, python, "-m", "pip", "install", "--quiet", "--disable-pip-version-check", "-r", "requirements.txt")
	require.NoError(t, os.WriteFile(installed, wanted, 0o666))
	return python
}

// Measured measures a ratio until it is good enough, three times at most: what
// else the machine does can only get in the way.
func Measured(goodEnough func(ratio float64) bool, measure func() float64) float64 {
	ratio := measure()
	for tries := 1; tries < 3 && !goodEnough(ratio); tries++ {
		ratio = measure()
	}
	return ratio
}

// Run runs a program that must succeed, and returns what it printed.
func Run(t testing.TB, dir, program string, args ...string) string {
	t.Helper()
	if strings.Contains(program, "/") && !filepath.IsAbs(program) {
		full, err := filepath.Abs(filepath.Join(dir, program))
		require.NoError(t, err)
		program = full
	}
	c := exec.Command(program, args...)
	c.Dir = dir
	output, err := c.CombinedOutput()
	require.NoError(t, err, "%s %s:\n%s", program, strings.Join(args, " "), output)
	return string(output)
}
