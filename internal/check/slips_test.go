package check

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

// slip is a typical mistake, how it is fixed, and the error that it must give
// as "line:column name: message | fix". wrong and fixed are texts of files.
type slip struct {
	name         string
	wrong, fixed []string
	want         string
}

// readSlips reads the cases of an archive: NAME/wrong.faithful,
// NAME/fixed.faithful and NAME/error, and more files than one where the mistake
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
		case strings.HasPrefix(kind, "fixed"):
			s.fixed = append(s.fixed, text)
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

func load(texts ...string) []source.Finding {
	var files []*source.File
	for i, text := range texts {
		files = append(files, source.NewFile(fmt.Sprintf("file%d.faithful", i+1), text))
	}
	_, findings := Load(files)
	return findings
}

func said(f source.Finding) string {
	at := f.Place.File.Position(f.Place.Span.Start)
	line := fmt.Sprintf("%d:%d %s: %s", at.Line, at.Column, f.Name, f.Message)
	if f.Fix != "" {
		line += " | " + f.Fix
	}
	return line
}

func TestSlips(t *testing.T) {
	slips := readSlips(t)
	found := map[string]string{}
	fixes := 0
	for _, s := range slips {
		t.Run(s.name, func(t *testing.T) {
			var got []string
			findings := load(inModule(s.wrong)...)
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
			findings = load(inModule(s.fixed)...)
			for _, f := range findings {
				assert.Equal(t, source.Advice, f.Severity, "fixed: %s", said(f))
			}
		})
		if strings.Contains(s.want, " | ") {
			fixes++
		}
	}
	assert.Equal(t, len(slips), fixes, "every error names its fix")
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

// TestSlipsAreFixed applies what is certain to every slip, and holds that
// it is fixed then.
func TestSlipsAreFixed(t *testing.T) {
	count := 0
	for _, s := range readSlips(t) {
		var files []*source.File
		for i, text := range inModule(s.wrong) {
			files = append(files, source.NewFile(fmt.Sprint(i), text))
		}
		_, before := Load(files)
		_, fixed, _, left := Fix(files)
		if slices.ContainsFunc(before, func(f source.Finding) bool { return f.Severity == source.Error && f.Sure }) {
			count++
			assert.NotEmpty(t, fixed, s.name)
			assert.Zero(t, source.Errors(left), "%s: %v", s.name, left)
		}
	}
	assert.Greater(t, count, 20)
}

// errorNames finds the names of all errors in the code that reports them.
func errorNames(t *testing.T) []string {
	var names []string
	pattern := regexp.MustCompile(`(?:(?:report|\bfix|guess)\([^"\n]*|Name: )"([a-z]+(?:-[a-z]+)*)"`)
	for _, glob := range []string{"../schema/*.go", "../conversation/*.go", "../syntax/*.go"} {
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
// wrong and the same fixed.
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
	b.WriteString("# Errors\n\nEvery error of definitions, in the order of the names that `check` prints in " +
		"parentheses:\n" +
		"the message, how to fix it, and an example of each. `faithful check --fix` carries out the\nfixes that are certain.\n\n")
	for _, name := range names {
		fmt.Fprintf(&b, "[`%s`](#%s)\n", name, name)
	}
	for _, name := range names {
		fmt.Fprintf(&b, "\n## `%s`\n", name)
		for _, s := range byName[name] {
			_, rest, _ := strings.Cut(s.want, ": ")
			message, fix, hasFix := strings.Cut(rest, " | ")
			fmt.Fprintf(&b, "\n```text\nerror: %s (%s)\n", message, name)
			if hasFix {
				fmt.Fprintf(&b, "  fix: %s\n", fix)
			}
			fmt.Fprintf(&b, "```\n\nWrong:\n\n```text\n%s\n```\n\nRight:\n\n```text\n%s\n```\n", shownCase(s.wrong),
				shownCase(s.fixed))
		}
	}
	page := filepath.Join("..", "..", "docs", "errors.md")
	text := b.String()
	if *update {
		require.NoError(t, os.WriteFile(page, []byte(text), 0o666))
	}
	before, err := os.ReadFile(page)
	require.NoError(t, err)
	assert.Equal(t, text, string(before), "docs/errors.md is out of date: go test ./internal/check -update")
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

func TestMistakesOfEveryKindInOneFile(t *testing.T) {
	findings := load(`module m
type Code = text where lenght 1..9
type Fare = decimal where 9..1
union Way { #1 sea Sea #1 land text }
message Sea { #1 miles int32 where pattern "x" }
credential desk = token
credential crew = bearer
example one of Sea { mile: 4 }
example two of Sea { miles: "four" }
service S {
  needs desc
  call a(Sea) -> Sea http GET "/a/{mile}" safe
  call b(stream Sea) -> () http GET "/b" safe
  call c(Sea) -> Sea http POST "c"
  call d() -> stream () safe
  call e(Sea) -> Sea needs crew, desk
  call f(Sea) -> Sea idempotent idempotent
}
message Last stored { #1 code Code? secret in query json "1" }`)
	var lines []int
	for _, f := range findings {
		if f.Severity == source.Error {
			lines = append(lines, f.Place.File.Position(f.Place.Span.Start).Line)
		}
	}
	assert.Equal(t, []int{2, 3, 4, 5, 6, 8, 9, 11, 12, 13, 14, 15, 16, 17, 19, 19}, lines, "%v", findings)
}
