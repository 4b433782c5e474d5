package conformance

import (
	"path/filepath"
	"testing"

	"faithfulcourier/internal/toolchain"
)

// linted are the projects whose programs and stubs every linter passes.
func linted(language string) []string {
	root := toolchain.Root()
	parcels := map[string]string{"python": "python", "typescript": "page"}[language]
	return []string{filepath.Join(root, "conformance", language), filepath.Join(root, "examples", "ferry", language),
		filepath.Join(root, "examples", "parcels", parcels)}
}

// TestPythonLint runs the type checkers, the linter and the formatter of
// Python. The settings are the projects' own, pyproject.toml. One of the type checkers is a
// program for Node.
func TestPythonLint(t *testing.T) {
	t.Parallel() // with the other tests that measure no time, after those that do
	interpreter := toolchain.Python(t)
	tools := filepath.Join(toolchain.Root(), "conformance", "lint")
	t.Run("pyright", func(t *testing.T) {
		toolchain.Require(t, "typescript")
		toolchain.InstallNode(t, tools)
		for _, dir := range linted("python") {
			toolchain.Run(t, dir, filepath.Join(tools, "node_modules", ".bin", "pyright"), "--pythonpath", interpreter)
		}
	})
	for _, dir := range linted("python") {
		toolchain.Run(t, dir, interpreter, "-m", "mypy", ".")
		toolchain.Run(t, dir, interpreter, "-m", "ruff", "check", ".")
		toolchain.Run(t, dir, interpreter, "-m", "ruff", "format", "--check", ".")
	}
}

// TestJavaLint runs the compiler with all of its warnings, and the checks of Error Prone, on stubs and programs, and a
// newer compiler on stubs.
func TestJavaLint(t *testing.T) {
	t.Parallel() // with the other tests that measure no time, after those that do
	libraries := toolchain.JavaLibraries(t)
	ferry := filepath.Join(toolchain.Root(), "examples", "ferry", "java", "src", "main", "java")
	toolchain.ErrorProne(t, libraries, t.TempDir(), "conformance.gen.*", "java/gen", "java/src")
	toolchain.ErrorProne(t, libraries, t.TempDir(), "ferry.gen.*", ferry)
	t.Run("newer", func(t *testing.T) {
		toolchain.Run(t, ".", toolchain.NewerJava(t), append([]string{"-proc:none", "--release", "17", "-Xlint:all",
			"-Xdoclint:all/protected", "-Werror", "-cp", libraries, "-d", t.TempDir()},
			toolchain.JavaFiles(t, "java/gen")...)...)
	})
}

// TestTypeScriptLint runs the linter of TypeScript. The compiler runs wherever
// the stubs are built.
func TestTypeScriptLint(t *testing.T) {
	t.Parallel() // with the other tests that measure no time, after those that do
	toolchain.Require(t, "typescript")
	tools := filepath.Join(toolchain.Root(), "conformance", "lint")
	toolchain.InstallNode(t, tools)
	for _, dir := range linted("typescript") {
		toolchain.InstallNode(t, dir)
		// A configuration from elsewhere holds for what is below the folder that
		// the linter runs in.
		toolchain.Run(t, filepath.Dir(dir), filepath.Join(tools, "node_modules", ".bin", "eslint"), "--config",
			filepath.Join(tools, "eslint.config.js"), filepath.Join(dir, "src"))
	}
	// The script of the manual's pages is for browsers alone, and has nothing installed.
	manual := filepath.Join(toolchain.Root(), "internal", "manual")
	toolchain.InstallNode(t, "typescript")
	toolchain.Run(t, manual, filepath.Join(toolchain.Root(), "conformance", "typescript", "node_modules", ".bin", "tsc"),
		"-p", "page")
	toolchain.Run(t, manual, filepath.Join(tools, "node_modules", ".bin", "eslint"), "--config",
		filepath.Join(tools, "eslint.config.js"), "page")
}
