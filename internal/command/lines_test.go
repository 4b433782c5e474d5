package command

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestLinesFit holds our own Go code to lines of 120 characters, a tab counted as
// one, save where a raw text, a directive or a row of a table of texts can't be
// broken.
func TestLinesFit(t *testing.T) {
	const most = 120
	read := 0
	for _, root := range []string{"cmd", "internal", "conformance", "examples"} {
		err := filepath.WalkDir(filepath.Join("..", "..", root), func(path string, d os.DirEntry, err error) error {
			switch {
			case err != nil:
				return err
			case d.IsDir() && (strings.HasPrefix(d.Name(), "gen") || d.Name() == "node_modules" || d.Name() == "testdata" ||
				d.Name() == ".venv"):
				return filepath.SkipDir
			case filepath.Ext(path) != ".go":
				return nil
			}
			content, err := os.ReadFile(path)
			require.NoError(t, err)
			read++
			raw := false
			for i, line := range strings.Split(string(content), "\n") {
				if ticks := strings.Count(line, "`"); ticks > 0 || raw {
					raw = raw != (ticks%2 == 1)
					continue
				}
				row := strings.HasSuffix(path, "_test.go") && strings.HasPrefix(strings.TrimLeft(line, "\t{"), `"`)
				if row || strings.HasPrefix(line, "//go:") {
					continue
				}
				assert.LessOrEqual(t, utf8.RuneCountInString(line), most, "%s:%d", path, i+1)
			}
			return nil
		})
		require.NoError(t, err)
	}
	assert.Greater(t, read, 150, "files were read")
}
