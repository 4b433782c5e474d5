package command

import (
	"go/scanner"
	"go/token"
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
			raw := rawLines(content)
			for i, line := range strings.Split(string(content), "\n") {
				row := strings.HasSuffix(path, "_test.go") && strings.HasPrefix(strings.TrimLeft(line, "\t{"), `"`)
				if row || raw[i+1] || strings.HasPrefix(line, "//go:") {
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

// rawLines are the numbers of the lines that hold a part of a raw text.
func rawLines(content []byte) map[int]bool {
	lines := map[int]bool{}
	file := token.NewFileSet().AddFile("", -1, len(content))
	var s scanner.Scanner
	s.Init(file, content, nil, 0)
	for {
		at, kind, text := s.Scan()
		switch {
		case kind == token.EOF:
			return lines
		case kind == token.STRING && text[0] == '`':
			for i := range strings.Count(text, "\n") + 1 {
				lines[file.Line(at)+i] = true
			}
		}
	}
}
