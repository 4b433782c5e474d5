package command

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/toolchain"
)

// forgetful is a language that forgets a scalar.
type forgetful struct{ stubs.Language }

func (f forgetful) Scalar(k schema.Kind) bool { return k != schema.KindDate && f.Language.Scalar(k) }

// TestEveryLanguageKnowsEveryScalar walks the tables of all languages.
func TestEveryLanguageKnowsEveryScalar(t *testing.T) {
	for _, l := range languages {
		assert.Empty(t, stubs.Lacking(l), l.Name())
		assert.Equal(t, "date", stubs.Lacking(forgetful{l}), "a gap is seen")
	}
}

// TestMadeUpScalar adds a scalar to the list of them alone, in a copy: tests of every layer
// name what it lacks.
func TestMadeUpScalar(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out what compiles a copy")
	}
	root, dir := toolchain.Root(), t.TempDir()
	for _, folder := range []string{"internal", "examples"} {
		require.NoError(t, os.CopyFS(filepath.Join(dir, folder), os.DirFS(filepath.Join(root, folder))))
	}
	for _, name := range []string{"go.mod", "go.sum"} {
		text, err := os.ReadFile(filepath.Join(root, name))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), text, 0o666))
	}
	file := filepath.Join(dir, "internal/schema/schema.go")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	with := strings.Replace(string(text), "\n\tKindAny\n", "\n\tKindAngle\n\tKindAny\n", 1)
	with = strings.Replace(with, `{"any", KindAny},`, `{"angle", KindAngle}, {"any", KindAny},`, 1)
	require.NotEqual(t, string(text), with)
	require.NoError(t, os.WriteFile(file, []byte(with), 0o666))
	for folder, test := range map[string]string{"value": "TestEveryScalarIsAValue",
		"compare/wire": "TestEveryScalarIsCompared", "command": "TestEveryLanguageKnowsEveryScalar"} {
		run := exec.Command("go", "test", "-vet=off", "-run", test, "./internal/"+folder)
		run.Dir = dir
		out, err := run.CombinedOutput()
		assert.Error(t, err, folder)
		assert.Contains(t, string(out), "angle", folder)
		for _, l := range languages {
			if folder == "command" {
				assert.Contains(t, string(out), l.Name())
			}
		}
	}
}
