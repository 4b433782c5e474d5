package conformance

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/toolchain"
)

var programs = regexp.MustCompile("\\*\\*In (Go|TypeScript|Python|Java)\\*\\*\n\n```\n((?:[^`]|`{1,2}[^`])*)\n```\n")

// programsIn are the programs that the manual of a project has for its calls, by language.
func programsIn(t *testing.T, project string) map[string][]string {
	t.Helper()
	folder := filepath.Join(t.TempDir(), "manual")
	output, err := toolchain.Faithful(t, project, "manual", "--as", "markdown", "--into", folder).CombinedOutput()
	require.NoError(t, err, "%s", output)
	pages, err := filepath.Glob(filepath.Join(folder, "services", "*.md"))
	require.NoError(t, err)
	found := map[string][]string{}
	for _, page := range pages {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, m := range programs.FindAllSubmatch(text, -1) {
			found[string(m[1])] = append(found[string(m[1])], string(m[2])+"\n")
		}
	}
	return found
}

// TestManualsPrograms compiles the program of every call of the ferries, and of every kind of call, in each language.
func TestManualsPrograms(t *testing.T) {
	t.Parallel() // with the other tests that measure no time, after those that do
	ferry := filepath.Join(toolchain.Root(), "examples", "ferry")
	for _, project := range []struct {
		dir   string
		calls int
	}{{ferry, 15}, {filepath.Join(toolchain.Root(), "conformance"), 40}} {
		found := programsIn(t, project.dir)
		name := filepath.Base(project.dir)
		write := func(t *testing.T, language, parent, file string, change func(string) string) (dir string) {
			require.GreaterOrEqual(t, len(found[language]), project.calls)
			dir, err := os.MkdirTemp(filepath.Join(project.dir, parent), "calling")
			require.NoError(t, err)
			t.Cleanup(func() { assert.NoError(t, os.RemoveAll(dir)) })
			for i, text := range found[language] {
				path := filepath.Join(dir, fmt.Sprintf(file, i))
				require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
				require.NoError(t, os.WriteFile(path, []byte(change(text)), 0o600))
			}
			return dir
		}
		same := func(text string) string { return text }
		t.Run("go "+name, func(t *testing.T) {
			dir := write(t, "Go", "go", "call%d/main.go", same)
			toolchain.Run(t, dir, "go", "vet", "./...")
		})
		t.Run("typescript "+name, func(t *testing.T) {
			toolchain.Require(t, "typescript")
			toolchain.InstallNode(t, filepath.Join(project.dir, "typescript"))
			dir := write(t, "TypeScript", "typescript", "call%d.ts", func(text string) string {
				return strings.ReplaceAll(text, `"./gen/`, `"../src/gen/`)
			})
			config := `{ "extends": "../tsconfig.json", "compilerOptions": { "rootDir": "..", "noEmit": true }, "include": ["*.ts"] }`
			require.NoError(t, os.WriteFile(filepath.Join(dir, "tsconfig.json"), []byte(config), 0o600))
			toolchain.Run(t, dir, filepath.Join(project.dir, "typescript", "node_modules", ".bin", "tsc"), "-p", ".")
		})
		t.Run("python "+name, func(t *testing.T) {
			python := toolchain.Python(t)
			dir := write(t, "Python", "python", "call%d.py", func(text string) string {
				return strings.ReplaceAll(text, "from python.gen.", "from gen.") // as seen from the folder above, where nobody says
			})
			toolchain.Run(t, filepath.Join(project.dir, "python"), python, "-m", "mypy", "--explicit-package-bases",
				filepath.Base(dir))
		})
		t.Run("java "+name, func(t *testing.T) {
			libraries := toolchain.JavaLibraries(t)
			i := 0
			dir := write(t, "Java", "java", "Call%d.java", func(text string) string {
				i++ // whose classes may be called the same
				return fmt.Sprintf("package call%d;\n", i) + strings.Replace(text, "public final class", "final class", 1)
			})
			folders := []string{dir, filepath.Join(project.dir, "java", "src")}
			if name == "conformance" {
				folders[1] = filepath.Join(project.dir, "java", "gen")
			}
			toolchain.CompileJava(t, libraries, t.TempDir(), folders...)
		})
	}
}
