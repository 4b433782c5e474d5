package compare

import (
	"flag"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/toolchain"
)

var mutants = flag.Bool("mutants", false, "break the judge in each of many ways, and look that it is found")

// brokenJudges are ways to break the judge: what is written in a file, and what is written
// there instead.
var brokenJudges = []struct{ about, file, old, new string }{
	{"a required field that is added", "wire/walk.go", "case other == nil && fr.Presence == schema.Required:",
		"case false && other == nil && fr.Presence == schema.Required:"},
	{"a field that may be left out and is required", "wire/walk.go", "case !mayLack || ", "case true || !mayLack || "},
	{"a default that changed", "wire/walk.go", "if w.differs(a, b).verdict != verdict.Compatible {",
		"if w.differs(a, b).verdict > verdict.Breaking {"},
	{"a field with another number", "wire/walk.go", "if w.receiver(w.at.r, fw) != fr {",
		"if false && w.receiver(w.at.r, fw) != fr {"},
	{"unions inside of unions", "wire/walk.go", "w.step(p, visit{wu: s.wt.Union, ru: s.rt.Union, owner: f})", "_ = p"},
	{"messages inside of lists", "wire/walk.go",
		"w.types(p.in(link{s.wt, s.wb, false}), spot{wt: s.wt.Elem, rt: s.rt.Elem}, nil, f)\n\tcase a == schema.KindUnion",
		"case a == schema.KindUnion"},
	{"keys of maps", "wire/walk.go", "w.types(p.in(link{s.wt, s.wb, true}), spot{wt: s.wt.Key, rt: s.rt.Key, key: true}, nil, f)", ""},
	{"counts", "wire/walk.go", "own, named := w.counts(s)\n", "var own, named *example\n"},
	{"members of enums", "wire/walk.go", "w.enum(p, s.wt.Enum, s.rt.Enum, f)", ""},
	{"patterns", "wire/values.go", "if b.Pattern != \"\" {\n\t\t\t\tfind(b.Pattern, low, high)",
		"if false {\n\t\t\t\tfind(b.Pattern, low, high)"},
	{"lengths", "wire/values.go", "if b.Length.High != schema.Unlimited {\n\t\t\t\t\tfind(",
		"if false {\n\t\t\t\t\tfind("},
	{"unlisted members of requests", "wire/walk.go",
		"func (c crossing) strict() bool { return c.position == verdict.Request }",
		"func (c crossing) strict() bool { return false }"},
	{"kinds with the same text", "wire/equal.go", "return reads(verdict.Altering, b, a)\n", "return difference{}\n"},
	{"numbers that are read as others", "wire/equal.go", "return m.Cmp(n) == 0", "return true"},
	{"alternatives that are read as others", "wire/equal.go", "if !w.sameAlternative(x, y, a.typ.Union, b.typ.Union) {",
		"if false {"},
	{"placed fields that are required", "wire/parameters.go", "} else if lacking(fr) {", "} else if false {"},
	{"placed values", "wire/parameters.go", "seen := p.reader.lookText(one, p.sent[fw])", "seen := &sight{}"},
	{"what answers hold outside of bodies", "wire/parameters.go", "if !c.Old.ResponseStream && !c.New.ResponseStream {",
		"if false {"},
	{"bodies of answers", "wire/judge.go", "old, oldPlaced := answerBody(c.Old)", "old, oldPlaced := c.Old.Response, false"},
	{"statuses of redirects", "wire/http.go", "case !conversation.Succeeds(m.client, answered):", "case false:"},
	{"places", "wire/parameters.go", "p.moved(fw, fr, a, b)", ""},
	{"methods and paths", "wire/http.go", "j.unreachable(f, m)\n\t}\n}\n\n// otherStatus", "}\n}\n\n// otherStatus"},
	{"credentials", "wire/http.go", "if conversation.LetsIn(m.server, offered) {", "if true {"},
	{"streams", "kinds.go", "judge: (*wire.Judge).Stream, fixes", "fixes"},
	{"calls that intercept others", "wire/kinds.go", "j.intercepts(c)", ""},
	{"calls that are gone", "wire/kinds.go", "if !j.oldClients() || !j.promise.Promises(\"http\") {", "if true {"},
	{"errors that are renamed", "wire/http.go", "if e.Proof != nil {\n\t\t\tj.add(f, e)", "if false {\n\t\t\tj.add(f, e)"},
}

// TestBrokenJudges breaks the judge on purpose, in a copy: the tests that hold verdicts
// true must fail. In small it tries that each way can still be applied.
func TestBrokenJudges(t *testing.T) {
	sources := map[string]string{}
	for _, m := range brokenJudges {
		if sources[m.file] == "" {
			text, err := os.ReadFile(m.file)
			require.NoError(t, err)
			sources[m.file] = string(text)
		}
		require.Equal(t, 1, strings.Count(sources[m.file], m.old), "%s: %q stands once in %s", m.about, m.old, m.file)
	}
	if !*mutants {
		t.Log("not asked for: -mutants breaks the judge, which takes some minutes")
		return
	}
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(filepath.Join(dir, "internal"), os.DirFS(filepath.Join(toolchain.Root(), "internal"))))
	for _, name := range []string{"go.mod", "go.sum"} {
		text, err := os.ReadFile(filepath.Join(toolchain.Root(), name))
		require.NoError(t, err)
		write(t, filepath.Join(dir, name), string(text))
	}
	for _, name := range []string{"examples", "cmd"} {
		require.NoError(t, os.Symlink(filepath.Join(toolchain.Root(), name), filepath.Join(dir, name)))
	}
	at := filepath.Join(dir, "internal", "compare")
	run := func() (string, error) {
		command := exec.Command("go", "test", "-run",
			"TestExactly|TestWireTruth|TestHTTPTruth|TestVerdicts|TestConversation|TestPlaces|TestNewCall", "-changes", "1200",
			"-vet=off", ".")
		command.Dir = at
		out, err := command.CombinedOutput()
		return string(out), err
	}
	out, err := run()
	require.NoError(t, err, "unbroken: %s", out)
	for _, m := range brokenJudges {
		write(t, filepath.Join(at, m.file), strings.Replace(sources[m.file], m.old, m.new, 1))
		out, err := run()
		write(t, filepath.Join(at, m.file), sources[m.file])
		assert.Error(t, err, "%s: nothing found it", m.about)
		first := ""
		for line := range strings.SplitSeq(out, "\n") {
			if strings.HasPrefix(line, "--- FAIL") || strings.Contains(line, "build failed") ||
				strings.HasPrefix(line, "panic") {
				first += " " + strings.TrimSpace(strings.TrimPrefix(line, "--- FAIL: "))
			}
		}
		assert.NotContains(t, first, "build failed", "%s: %s", m.about, out)
		t.Logf("%s: found by%s", m.about, first)
	}
}
