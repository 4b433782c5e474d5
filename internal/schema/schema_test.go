package schema

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/source"
)

// loadFiles parses and resolves files.
func loadFiles(files []*source.File) (*Definitions, []source.Finding) {
	findings := &source.Findings{}
	return Resolve(Parse(files, findings), findings), findings.Sorted()
}

func load(t *testing.T, texts ...string) (*Definitions, []source.Finding) {
	t.Helper()
	var files []*source.File
	for i, text := range texts {
		files = append(files, source.NewFile(fmt.Sprintf("file%d.faithful", i+1), text))
	}
	return loadFiles(files)
}

func TestTenMistakesGiveTenErrors(t *testing.T) {
	_, findings := load(t, `module m
message A {
  #1 a strin
  #2 B text
  #2 c text
  #4 d [text
  #5 e text = 1
}
mesage B { #1 a text }
enum C { #1 a #1 b }
service D {
  call e(F) -> A
  call g() A
  call h(A) -> A fails A
}`)
	var lines []int
	for _, f := range findings {
		lines = append(lines, f.Place.File.Position(f.Place.Span.Start).Line)
	}
	assert.Equal(t, []int{3, 4, 5, 7, 7, 9, 10, 12, 13, 14}, lines)
}

func TestErrorsOfAllFiles(t *testing.T) {
	_, findings := load(t, "module a\nuse b\nmessage A { #1 x b.Nothing }",
		"module b\nuse a\nmessage B { #1 x a.Nothing }", "", "module b\nmessage B { }")
	var got []string
	for _, f := range findings {
		got = append(got, f.Place.File.Name+" "+f.Name)
	}
	assert.Equal(t, []string{"file1.faithful no-such-name", "file2.faithful use-cycle", "file2.faithful no-such-name",
		"file3.faithful no-module", "file4.faithful declared-twice"}, got)
}

func TestSeveralFilesOfOneModule(t *testing.T) {
	defs, findings := load(t, "/// One.\nmodule m\nmessage A { #1 deck Deck = car }",
		"module m\nconst LIMIT int32 = 7\nenum Deck { #0 open #1 car }\nmessage B { #1 a A #2 n int32 = LIMIT }")
	require.Empty(t, findings)
	assert.Equal(t, Count{Modules: 1, Messages: 2, Enums: 1, Consts: 1}, defs.Count())
	assert.Equal(t, "car", defs.Module("m").Messages[0].Fields[0].Default.(*Member).Name)
	assert.EqualValues(t, 7, defs.Module("m").Messages[1].ByName("n").Default)
}

func TestPositions(t *testing.T) {
	_, findings := load(t, "module m\r\nmessage A {\r\n\t// é世\r\n\t#1 é text\r\n}")
	require.Len(t, findings, 1)
	assert.Equal(t, source.Position{Line: 4, Column: 5}, findings[0].Place.File.Position(findings[0].Place.Span.Start))
}

func TestOddFiles(t *testing.T) {
	for name, text := range map[string]string{"not-text": "module m\x00", "not-text ": "module m // \xff",
		"syntax": "%!PS", "no-module": "// nothing\n"} {
		_, findings := load(t, text)
		require.Len(t, findings, 1, name)
		assert.Equal(t, strings.TrimSpace(name), findings[0].Name)
	}
	deep := "module m\nmessage A { #1 a " + strings.Repeat("[", 5000) + "text" + strings.Repeat("]", 5000) + " }"
	_, findings := load(t, deep)
	require.Len(t, findings, 1)
	assert.Equal(t, "too-deep", findings[0].Name)
	_, findings = load(t, "\uFEFFmodule m\nmessage A { }")
	assert.Empty(t, findings, "a byte order mark is passed over")
}

func ferry(t testing.TB) []*source.File {
	paths, err := filepath.Glob("../../examples/ferry/definitions/*.faithful")
	require.NoError(t, err)
	require.NotEmpty(t, paths)
	var files []*source.File
	for _, path := range paths {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		files = append(files, source.NewFile(path, string(text)))
	}
	return files
}

func TestCanonicalTextIsReadBack(t *testing.T) {
	defs, findings := loadFiles(ferry(t))
	require.Empty(t, findings)
	var texts []string
	for _, m := range defs.Modules {
		texts = append(texts, m.Canonical())
	}
	again, findings := load(t, texts...)
	require.Empty(t, findings)
	assert.Equal(t, defs.Digest(), again.Digest())
	for i, m := range again.Modules {
		assert.Equal(t, texts[i], m.Canonical())
	}
}

func TestDigest(t *testing.T) {
	digest := func(texts ...string) string {
		defs, findings := load(t, texts...)
		require.Empty(t, findings)
		return defs.Digest()
	}
	one := digest("module a\nuse b\nmessage A { #1 x b.B #2 y text }\nmessage C { }", "module b\nmessage B { }")
	same := digest("module b // layout\nmessage B { }",
		"module a\nuse b as other\n/// Documented.\nmessage C { }\nmessage A { #2 y text #1 x other.B }")
	assert.Equal(t, one, same, "order, aliases, files and documentation don't count")
	assert.NotEqual(t, one, digest("module a\nuse b\nmessage A { #1 x b.B #2 y text? }\nmessage C { }",
		"module b\nmessage B { }"))
	assert.Len(t, one, 64)
}

// TestFerryUsesTheWholeLanguage holds that the example project has every word,
// mark and scalar of the language at least once.
func TestFerryUsesTheWholeLanguage(t *testing.T) {
	all := ""
	for _, f := range ferry(t) {
		all += f.Text
	}
	words := []string{"module", "use", "as", "const", "type", "enum", "union", "message", "example", "of", "error",
		"credential", "service", "call", "retired", "where", "length", "count", "pattern", "unique",
		"deprecated", "json", "secret", "stored", "in query", "in header", "in cookie", "key header", "key query",
		"key cookie", "bearer", "basic", "stream", "http GET", "http POST", "http PUT", "http PATCH", "http DELETE",
		"fails", "needs", "needs nothing", "safe", "idempotent", "true", "false"}
	for _, s := range Scalars {
		words = append(words, s.Word)
	}
	for _, word := range words {
		assert.Regexp(t, `\b`+word+`\b`, all)
	}
	for _, mark := range []string{">=", "<=", "..", "[", "{", "()", "#0", "///", " + ", " | ", "?", "(stream",
		"-> stream"} {
		assert.Contains(t, all, mark)
	}
}
