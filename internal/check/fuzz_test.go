package check

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

// holdCheck holds what the whole check promises of any text: no panic, time
// that grows with the length, places that lie in the text; and of definitions
// that are right, that neither the canonical layout nor the canonical text
// changes their meaning.
func holdCheck(t testing.TB, text string) {
	start := time.Now()
	file := source.NewFile("f", text)
	defs, findings := Load([]*source.File{file})
	for _, f := range findings {
		require.NotEmpty(t, f.Message)
		if f.Place.File != nil {
			require.LessOrEqual(t, f.Place.Span.Start, f.Place.Span.End, f.Message)
			require.LessOrEqual(t, int(f.Place.Span.End), len(text)+1, f.Message)
		}
		for _, e := range f.Edits {
			require.LessOrEqual(t, e.Place.Span.Start, e.Place.Span.End, f.Message)
			require.LessOrEqual(t, int(e.Place.Span.End), len(text), f.Message)
		}
	}
	_, _, _, left := Fix([]*source.File{file})
	require.LessOrEqual(t, source.Errors(left), source.Errors(findings), "fixing fixes")
	require.Less(t, time.Since(start), 3*time.Second+time.Duration(len(text))*200*time.Microsecond)
	if source.Errors(findings) > 0 {
		return
	}
	tidied, wrong := syntax.Tidy(file)
	require.Empty(t, wrong)
	again, findings := Load([]*source.File{source.NewFile("f", tidied)})
	require.Zero(t, source.Errors(findings), "%s", tidied)
	require.Equal(t, defs.Digest(), again.Digest(), "tidy keeps the meaning:\n%s\n---\n%s", text, tidied)
	for _, m := range defs.Modules {
		canonical := m.Canonical()
		whole, findings := Load([]*source.File{source.NewFile("f", canonical)})
		require.Zero(t, source.Errors(findings), "%v\n%s", findings, canonical)
		require.Equal(t, defs.Digest(), whole.Digest(), "the canonical text keeps the meaning:\n%s\n---\n%s", text, canonical)
		require.Equal(t, canonical, whole.Module(m.Name).Canonical(), "what is canonical stays so")
	}
}

func checkSeeds(t testing.TB) []string {
	paths, err := filepath.Glob("../../*/*/definitions/*.faithful")
	require.NoError(t, err)
	var list []string
	for _, path := range paths {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		list = append(list, string(text))
	}
	for _, s := range readSlips(t) {
		list = append(list, inModule([]string{s.wrong[0], s.fixed[0]})...)
	}
	return list
}

// TestSeedsHold holds the same of real definitions and of every slip.
func TestSeedsHold(t *testing.T) {
	for _, s := range checkSeeds(t) {
		holdCheck(t, s)
	}
}

func FuzzCheck(f *testing.F) {
	for _, s := range checkSeeds(f) {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) { holdCheck(t, text) })
}
