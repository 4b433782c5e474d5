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

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/source"
)

var update = flag.Bool("update", false, "write what is found into testdata/slips.txt and docs/errors.md")

const slipsFile = "testdata/slips.txt"

// slip is a typical mistake, how it is mended, and the error that it must give
// as "line:column name: message | mend".
type slip struct{ bad, mended, want string }

// readSlips reads cases that begin with "==": what is wrong, "->" and the
// same mended, "!!" and the error. Files of one case are parted by "+++".
func readSlips(t testing.TB) []slip {
	text, err := os.ReadFile(slipsFile)
	require.NoError(t, err)
	var list []slip
	for _, block := range strings.Split(string(text), "==\n")[1:] {
		bad, rest, ok := strings.Cut(block, "->\n")
		require.True(t, ok, block)
		mended, want, _ := strings.Cut(rest, "!!\n")
		list = append(list, slip{strings.TrimSuffix(bad, "\n"), strings.TrimSuffix(mended, "\n"), strings.TrimSuffix(want, "\n")})
	}
	return list
}

// loadCase loads the files of a case; one without a module is of module m.
func loadCase(t *testing.T, text string) []source.Finding {
	var texts []string
	for part := range strings.SplitSeq(text, "\n+++\n") {
		if !strings.HasPrefix(part, "module") {
			part = "module m\n" + part
		}
		texts = append(texts, part)
	}
	_, findings := load(t, texts...)
	return findings
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
	for i, s := range slips {
		t.Run(s.bad, func(t *testing.T) {
			var got []string
			for _, f := range loadCase(t, s.bad) {
				if f.Severity == source.Error {
					got = append(got, said(f))
				}
			}
			require.Len(t, got, 1, "one mistake gives one error: %q", got)
			if *update {
				slips[i].want = got[0]
			}
			assert.Equal(t, slips[i].want, got[0])
			for _, f := range loadCase(t, s.mended) {
				assert.Equal(t, source.Advice, f.Severity, "mended: %s", said(f))
			}
		})
	}
	if *update {
		var b strings.Builder
		for _, s := range slips {
			fmt.Fprintf(&b, "==\n%s\n->\n%s\n!!\n%s\n", s.bad, s.mended, s.want)
		}
		require.NoError(t, os.WriteFile(slipsFile, []byte(b.String()), 0o666))
	}
	mends := 0
	for _, s := range slips {
		if strings.Contains(s.want, " | ") {
			mends++
		}
	}
	assert.GreaterOrEqual(t, mends, 100, "an error names its mend")
}

// TestSlipsAreMended applies what is certain to every slip, and holds that
// it is mended then.
func TestSlipsAreMended(t *testing.T) {
	count := 0
	for _, s := range readSlips(t) {
		var files []*source.File
		for i, part := range strings.Split(s.bad, "\n+++\n") {
			if !strings.HasPrefix(part, "module") {
				part = "module m\n" + part
			}
			files = append(files, source.NewFile(fmt.Sprint(i), part))
		}
		_, before := Load(files)
		_, mended, _, left := Mend(files)
		if slices.ContainsFunc(before, func(f source.Finding) bool { return f.Severity == source.Error && f.Sure }) {
			count++
			assert.NotEmpty(t, mended, s.bad)
			assert.Zero(t, source.Errors(left), "%s: %v", s.bad, left)
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
			fmt.Fprintf(&b, "\n\n```text\n%s\n```\n\nmended\n\n```text\n%s\n```\n", shownCase(s.bad), shownCase(s.mended))
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

func shownCase(text string) string {
	return strings.ReplaceAll(text, "\n+++\n", "\n\n// in another file\n")
}
