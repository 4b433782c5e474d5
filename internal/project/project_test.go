package project

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/source"
	"faithfulcourier/internal/versions"
)

func write(t *testing.T, dir string, files map[string]string) string {
	t.Helper()
	for path, text := range files {
		full := filepath.Join(dir, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o777))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o666))
	}
	return dir
}

func TestConfig(t *testing.T) {
	dir := write(t, t.TempDir(), map[string]string{"faithful.toml": "name = \"x\"\n[[stubs]]\nlanguage = " +
		"\"go\"\ninto = \"gen\"\npackage = \"p\"\n[[stubs]]\nlanguage = \"go\"\ninto = \"other\"\n", "a/b/c.txt": ""})
	p, err := Open(filepath.Join(dir, "a", "b"))
	require.NoError(t, err)
	assert.Equal(t, Config{Name: "x", Sources: []string{"."},
		Stubs:   []Output{{Language: "go", Into: "gen", Package: "p"}, {Language: "go", Into: "other"}},
		Promise: Promise{"server-leads", "each-reads-other", []string{"binary", "json", "http"}, []string{"go"}, "last"}},
		p.Config, "with the defaults")
	real, err := filepath.EvalSymlinks(dir)
	require.NoError(t, err)
	got, err := filepath.EvalSymlinks(p.Dir)
	require.NoError(t, err)
	assert.Equal(t, real, got)
	_, err = Open(t.TempDir())
	require.ErrorIs(t, err, ErrNoProject)
}

func TestBadConfig(t *testing.T) {
	for text, want := range map[string]string{
		"nam = \"x\"": "1:1 no-such-key: faithful.toml has no key \"nam\" | did you mean \"name\"?",
		"name = \"x\"\n[promise]\nroll_out = \"unordered\"":                                                      "3:1 no-such-key: faithful.toml has no key \"promise.roll_out\" | did you mean \"rollout\"?",
		"name = \"x\"\n[[stubs]]\nlang = \"go\"":                                                                 "3:1 no-such-key: faithful.toml has no key \"stubs.lang\" | the keys here are: language, into, package",
		"name = \"x\"\n[[waiver]]\nchange = \"field-gone\"\nwhere = \"a.B.c\"":                                   "2:1 bad-value: a [[waiver]] needs its reason | write, for example: reason = \"never filled in since 2025\"",
		"name = \"x\"\n[[waiver]]\nchange = \"field-gone\"\nwhere = \"a.B.c\"\nreason = \"r\"\nuntil = \"soon\"": "6:9 bad-value: until is a date",
		"name = \"x\"\n[promise]\ncompared_with = \"all\"":                                                       "3:17 bad-value: promise.compared_with is one of last, every, not \"all\"",
		"name = \"x\"\n[promise]\nrollout = \"servers\"":                                                         "3:11 bad-value: promise.rollout is one of server-leads, client-leads, unordered, not \"servers\"",
		"name = \"x\"\n[promise]\ncovers = [\"xml\"]":                                                            "3:11 bad-value: promise.covers is one of binary, json, http, not \"xml\"",
		"name = \"x\"\n[[stubs]]\nlanguage = \"go\"":                                                             "2:1 bad-value: a [[stubs]] needs the folder to write into | write, for example: into = \"gen\"",
		"":                              "1:1 bad-value: faithful.toml does not say how the project is called | write, for example: name = \"skerry-line\"",
		"name = 5":                      "1:8 bad-value: \"name\" is a text in quotes | write, for example: name = \"…\"",
		"name = \"x\"\nsources = \"y\"": "2:11 bad-value: \"sources\" is a list of texts | write, for example: sources = [\"…\"]",
		"name = \"x\"\n[[stubs]]\nexhaustive = 1":      "3:14 bad-value: \"exhaustive\" is true or false | write, for example: exhaustive = true",
		"name = \"x\"\n[[waiver]]\nuntil = 2027-01-01": "3:9 bad-value: \"until\" is a text in quotes",
		"name = \"x\"\nline = \"v1\"":                  "2:8 bad-value: a line of versions is one number or two, not \"v1\"",
		"name = \"x":                                   "1:9 bad-toml: ",
	} {
		_, err := Open(write(t, t.TempDir(), map[string]string{"faithful.toml": text}))
		var bad *BadConfig
		require.ErrorAs(t, err, &bad, text)
		require.Len(t, bad.Findings, 1, text)
		f := bad.Findings[0]
		at := f.Place.File.Position(f.Place.Span.Start)
		got := fmt.Sprintf("%d:%d %s: %s", at.Line, at.Column, f.Name, f.Message)
		if f.Fix != "" && f.Name != "bad-toml" {
			got += " | " + f.Fix
		}
		assert.True(t, strings.HasPrefix(got, want), "%q\ngot  %s\nwant %s", text, got, want)
	}
}

func TestFiles(t *testing.T) {
	dir := write(t, t.TempDir(), map[string]string{
		"faithful.toml": "name = \"x\"\nsources = [\"one\", \"two/c.faithful\", \"one\"]", "one/a.faithful": "module a",
		"one/deep/b.faithful": "module b", "two/c.faithful": "module c", "two/d.faithful": "module d",
		"one/.hidden/e.faithful": "module e", "one/node_modules/f.faithful": "module f",
		"versions/1.0.0/g.faithful": "module g", "one/versions/h.faithful": "module h", "one/readme.md": "",
	})
	require.NoError(t, os.Symlink(filepath.Join(dir, "one"), filepath.Join(dir, "one", "loop")))
	p, err := Open(dir)
	require.NoError(t, err)
	files, err := p.Files()
	require.NoError(t, err)
	var names []string
	for _, f := range files {
		names = append(names, f.Name)
	}
	assert.Equal(t, []string{"one/a.faithful", "one/deep/b.faithful", "one/versions/h.faithful", "two/c.faithful"}, names)
	write(t, dir, map[string]string{"faithful.toml": "name = \"x\"\nsources = [\"three\"]"})
	p, err = Open(dir)
	require.NoError(t, err)
	_, err = p.Files()
	require.ErrorContains(t, err, `names "three" as a source, and there is no such file or folder`)
	large := filepath.Join(dir, "large.faithful")
	require.NoError(t, os.WriteFile(large, nil, 0o666))
	require.NoError(t, os.Truncate(large, source.MaxFileSize+1))
	_, _, err = Load(dir, "large.faithful")
	require.ErrorContains(t, err, "a definition file has at most")
}

func TestReferences(t *testing.T) {
	dir := write(t, t.TempDir(), map[string]string{"faithful.toml": "name = \"x\"",
		"a.faithful": "module a message A { }", "other/b.faithful": "module b message B { }",
		"nested/faithful.toml": "name = \"n\"", "nested/c.faithful": "module c message C { }", "empty/x.txt": ""})
	p, err := Open(dir)
	require.NoError(t, err)
	p.Config.Sources = []string{"a.faithful"}
	ledger, err := versions.Open(dir)
	require.NoError(t, err)
	for _, v := range []string{"1.0.0", "1.1.0"} {
		_, err = ledger.Seal(nil, versions.Entry{Version: v, Verdict: "first"},
			[]versions.File{{Name: "s.faithful", Text: "module sealed_" + strings.ReplaceAll(v, ".", "_") + " message S { }"}},
			time.Unix(0, 0), nil)
		require.NoError(t, err)
	}
	for ref, want := range map[string]string{"latest": "sealed_1_1_0", "1.0.0": "sealed_1_0_0", "other": "b",
		"./other/b.faithful": "b", "nested": "c", filepath.Join(dir, "other"): "b"} {
		defs, findings, err := Load(dir, ref)
		require.NoError(t, err, ref)
		require.Empty(t, findings)
		assert.Equal(t, want, defs.Modules[0].Name, ref)
	}
	for ref, want := range map[string]string{"1.2.0": "there is no version \"1.2.0\"; the sealed versions are: " +
		"1.0.0, 1.1.0", "nowhere": "neither draft, latest or a version", "empty": "no definition file",
		"rev:main": "is not in a git repository", "http://127.0.0.1": "definitions of a server"} {
		_, _, err := Load(dir, ref)
		require.ErrorContains(t, err, want, ref)
	}
	_, _, err = Load(t.TempDir(), "draft")
	assert.True(t, errors.Is(err, ErrNoProject))
}
