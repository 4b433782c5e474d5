package schema

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

var update = flag.Bool("update", false, "write what is found into testdata/slips.txt and docs/errors.md")

const slipsFile = "testdata/slips.txtar"

// slip is a typical mistake, how it is mended, and the error that it must give
// as "line:column name: message | mend". wrong and mended are texts of files.
type slip struct {
	name          string
	wrong, mended []string
	want          string
}

// readSlips reads the cases of an archive: NAME/wrong.faithful,
// NAME/mended.faithful and NAME/error, and more files than one where the mistake
// lies between them.
func readSlips(t testing.TB) []slip {
	archive, err := txtar.ParseFile(slipsFile)
	require.NoError(t, err)
	var list []slip
	for _, f := range archive.Files {
		name, kind, ok := strings.Cut(f.Name, "/")
		require.True(t, ok, f.Name)
		if len(list) == 0 || list[len(list)-1].name != name {
			list = append(list, slip{name: name})
		}
		s, text := &list[len(list)-1], string(f.Data)
		switch {
		case strings.HasPrefix(kind, "wrong"):
			s.wrong = append(s.wrong, text)
		case strings.HasPrefix(kind, "mended"):
			s.mended = append(s.mended, text)
		default:
			require.Equal(t, "error", kind)
			s.want = strings.TrimSuffix(string(f.Data), "\n")
		}
	}
	return list
}

// inModule begins texts without a module with one.
func inModule(texts []string) []string {
	out := slices.Clone(texts)
	for i, text := range out {
		if !strings.HasPrefix(text, "module") {
			out[i] = "module m\n" + text
		}
	}
	return out
}

func said(f source.Finding) string {
	at := f.Place.File.Position(f.Place.Span.Start)
	line := fmt.Sprintf("%d:%d %s: %s", at.Line, at.Column, f.Name, f.Message)
	if f.Mend != "" {
		line += " | " + f.Mend
	}
	return line
}

func TestSlips(t *testing.T) {
	slips := readSlips(t)
	found := map[string]string{}
	mends := 0
	for _, s := range slips {
		t.Run(s.name, func(t *testing.T) {
			var got []string
			_, findings := load(t, inModule(s.wrong)...)
			for _, f := range findings {
				if f.Severity == source.Error {
					got = append(got, said(f))
				}
			}
			require.Len(t, got, 1, "one mistake gives one error: %q", got)
			found[s.name+"/error"] = got[0] + "\n"
			if !*update {
				assert.Equal(t, s.want, got[0])
			}
			_, findings = load(t, inModule(s.mended)...)
			for _, f := range findings {
				assert.Equal(t, source.Advice, f.Severity, "mended: %s", said(f))
			}
		})
		if strings.Contains(s.want, " | ") {
			mends++
		}
	}
	assert.Equal(t, len(slips), mends, "every error names its mend")
	if *update {
		archive, err := txtar.ParseFile(slipsFile)
		require.NoError(t, err)
		for i, f := range archive.Files {
			if text, ok := found[f.Name]; ok {
				archive.Files[i].Data = []byte(text)
			}
		}
		require.NoError(t, os.WriteFile(slipsFile, txtar.Format(archive), 0o666))
	}
}

// TestSlipsAreMended applies what is certain to every slip, and holds that
// it is mended then.
func TestSlipsAreMended(t *testing.T) {
	count := 0
	for _, s := range readSlips(t) {
		var files []*source.File
		for i, text := range inModule(s.wrong) {
			files = append(files, source.NewFile(fmt.Sprint(i), text))
		}
		_, before := Load(files)
		_, mended, _, left := Mend(files)
		if slices.ContainsFunc(before, func(f source.Finding) bool { return f.Severity == source.Error && f.Sure }) {
			count++
			assert.NotEmpty(t, mended, s.name)
			assert.Zero(t, source.Errors(left), "%s: %v", s.name, left)
		}
	}
	assert.Greater(t, count, 20)
}

// errorNames finds the names of all errors in the code that reports them.
func errorNames(t *testing.T) []string {
	var names []string
	pattern := regexp.MustCompile(`(?:(?:report|mend|guess)\([^"\n]*|Name: )"([a-z]+(?:-[a-z]+)*)"`)
	for _, glob := range []string{"*.go", "../syntax/*.go"} {
		paths, err := filepath.Glob(glob)
		require.NoError(t, err)
		for _, path := range paths {
			if strings.HasSuffix(path, "_test.go") {
				continue
			}
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			for _, m := range pattern.FindAllStringSubmatch(string(text), -1) {
				names = append(names, m[1])
			}
		}
	}
	slices.Sort(names)
	return slices.DeleteFunc(slices.Compact(names), func(name string) bool {
		// Of files that are no text, TestOddFiles has the examples.
		return name == "not-text" || name == "no-module"
	})
}

// TestErrorPage keeps docs/errors.md, which shows every error with what is
// wrong and the same mended.
func TestErrorPage(t *testing.T) {
	byName := map[string][]slip{}
	for _, s := range readSlips(t) {
		_, rest, _ := strings.Cut(s.want, " ")
		name, _, _ := strings.Cut(rest, ":")
		byName[name] = append(byName[name], s)
	}
	names := errorNames(t)
	for _, name := range names {
		assert.NotEmpty(t, byName[name], "the error %s has no example in %s", name, slipsFile)
	}
	var b strings.Builder
	b.WriteString("# Errors\n\nEvery error that `check` knows, by name, with what is wrong and the same mended.\nThis page is made from the tests' own cases: `go test ./internal/schema -update`.\n`faithful check --mend` carries out the mends that are certain.\n")
	for _, name := range names {
		fmt.Fprintf(&b, "\n## %s\n", name)
		for _, s := range byName[name] {
			_, rest, _ := strings.Cut(s.want, ": ")
			message, mend, hasMend := strings.Cut(rest, " | ")
			fmt.Fprintf(&b, "\n%s.", strings.ToUpper(message[:1])+message[1:])
			if hasMend {
				fmt.Fprintf(&b, " Mend: %s.", strings.TrimSuffix(mend, "?")+map[bool]string{true: "?"}[strings.HasSuffix(mend, "?")])
			}
			fmt.Fprintf(&b, "\n\n```text\n%s\n```\n\nmended\n\n```text\n%s\n```\n", shownCase(s.wrong), shownCase(s.mended))
		}
	}
	page := filepath.Join("..", "..", "docs", "errors.md")
	text := strings.NewReplacer("?.\n", "?\n", "….\n", "…\n").Replace(b.String())
	if *update {
		require.NoError(t, os.WriteFile(page, []byte(text), 0o666))
	}
	before, err := os.ReadFile(page)
	require.NoError(t, err)
	assert.Equal(t, text, string(before), "docs/errors.md is out of date: go test ./internal/schema -update")
}

func shownCase(texts []string) string {
	shown := ""
	for i, text := range texts {
		if i > 0 {
			shown += "\n// in another file\n"
		}
		shown += text
	}
	// A bullet stands for what is not seen: the page has no such characters either.
	shown = strings.Map(func(r rune) rune {
		if syntax.Hidden(r) && r != '\r' {
			return 0x2022
		}
		return r
	}, shown)
	return strings.TrimSuffix(shown, "\n")
}
