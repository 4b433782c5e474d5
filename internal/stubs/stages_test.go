package stubs_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestStagesAreNamedAlike: who knows where something is in one language knows it in
// all of them.
func TestStagesAreNamedAlike(t *testing.T) {
	entries, err := os.ReadDir(".")
	require.NoError(t, err)
	languages := 0
	for _, language := range entries {
		if !language.IsDir() {
			continue
		}
		languages++
		stages := []string{"names", "scalars", "types", "named", "unions", "codec", "bounds", language.Name()}
		if language.Name() != "rust" { // which has types alone so far
			stages = append(stages, "service", "scaffold", "compatible")
		}
		for _, stage := range stages {
			assert.FileExists(t, filepath.Join(language.Name(), stage+".go"))
		}
		assert.DirExists(t, filepath.Join(language.Name(), "support"))
	}
	assert.GreaterOrEqual(t, languages, 3)
}
