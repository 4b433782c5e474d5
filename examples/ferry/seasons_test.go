package ferry

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/toolchain"
)

// TestOneProgramServesTwoVersions lays out the project of the seasons, makes the
// stubs of the draft and those of 1.0.0 next to them, and runs its own tests.
func TestOneProgramServesTwoVersions(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out what takes long")
	}
	dir := t.TempDir()
	for _, folder := range []string{"seasons", "ferry/definitions"} {
		source := filepath.Join("..", folder)
		require.NoError(t, filepath.WalkDir(source, func(path string, d os.DirEntry, err error) error {
			if err != nil {
				return err
			}
			inside, err := filepath.Rel(source, path)
			if err != nil {
				return err
			}
			if d.IsDir() {
				if d.Name() == "gen" || d.Name() == "gen_1_0_0" {
					return filepath.SkipDir // made by hand, and not kept
				}
				return os.MkdirAll(filepath.Join(dir, folder, inside), 0o777)
			}
			text, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			return os.WriteFile(filepath.Join(dir, folder, inside), text, 0o666)
		}))
	}
	project := filepath.Join(dir, "seasons")
	for _, args := range [][]string{{"history", "--audit"}, {"generate"}, {"generate", "--of", "1.0.0"}} {
		output, err := toolchain.Faithful(t, project, args...).CombinedOutput()
		require.NoError(t, err, "%s", output)
	}
	toolchain.Run(t, project, "go", "vet", "./...")
	toolchain.Run(t, project, "go", "test", "./...")
}
