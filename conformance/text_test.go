package conformance

import (
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

var nasty = flag.Int("nasty", 30, "how many modules of nasty text are compiled")

// nastyPieces are what ends, or begins, something in a language that text is printed into.
var nastyPieces = []string{`"`, `""`, `"""`, `'`, `'''`, "`", "``", `\`, `\\`, `\"`, `\u0022`, `\N{BULLET}`, `\x`, "*/", "/*", "//", "#", "${1+1}", "$(id)", "%s", "%", "{", "}", "{{", "<!--",
	"</script>", "@deprecated", "@ts-ignore", "//go:build ignore", "//go:embed x", "# type: ignore", "+build", "\nDeprecated: no", ":", "::", "- ", "* ", ".. note::", ">>> 1/0", " ", "  ", "\t", "é", "世", "🚢",
	"\u200d", "\u00a0", "\u00ad", "a", "Z", "0", ";", "import os", "\n", "\n\n", "\n    ", "=", "\\\n", "-", "_", "&amp;", "~", "!"}

// nastyText is a text of some of these. Without lines it is one.
func nastyText(r *rand.Rand, lines bool) string {
	var b strings.Builder
	for range 1 + r.IntN(6) {
		b.WriteString(nastyPieces[r.IntN(len(nastyPieces))])
	}
	text := b.String()
	if !lines {
		text = strings.NewReplacer("\n", " ", "\t", " ").Replace(text)
	}
	return text
}

// nastyModule has nasty text wherever text can stand.
func nastyModule(r *rand.Rand, name string) string {
	doc := func(indent string) string {
		if r.IntN(4) == 0 {
			return ""
		}
		var b strings.Builder
		for line := range strings.SplitSeq(nastyText(r, true), "\n") {
			b.WriteString(indent + "///" + []string{"", " ", "  "}[r.IntN(3)] + strings.ReplaceAll(line, "\r", "") + "\n")
		}
		return b.String()
	}
	quoted := func(text string) string {
		b, err := json.Marshal(text)
		if err != nil {
			panic(err)
		}
		return string(b)
	}
	deprecated := func() string {
		if r.IntN(2) == 0 {
			return ""
		}
		return " deprecated " + quoted(nastyText(r, false))
	}
	inJSON := func() string {
		text := nastyText(r, true)
		if r.IntN(2) == 0 || strings.HasPrefix(text, "#") || strings.Trim(text, "0123456789") == "" {
			return ""
		}
		return " json " + quoted(text)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%smodule %s\n", doc(""), name)
	fmt.Fprintf(&b, "%sconst GREETING text = %s%s\n", doc(""), quoted(nastyText(r, true)), deprecated())
	fmt.Fprintf(&b, "%stype Name = text%s\n", doc(""), deprecated())
	fmt.Fprintf(&b, "%senum Deck%s {\n%s  #0 open%s%s\n%s  #1 car%s\n}\n",
		doc(""), deprecated(), doc("  "), deprecated(), inJSON(), doc("  "), deprecated())
	fmt.Fprintf(&b, "%sunion Way%s {\n%s  #1 foot Ask%s%s\n%s  #2 car [bytes]%s\n}\n",
		doc(""), deprecated(), doc("  "), deprecated(), inJSON(), doc("  "), deprecated())
	fmt.Fprintf(&b, "%smessage Ask%s {\n%s  #1 one text = %s%s%s\n%s  #2 two Way?%s%s\n%s  #3 three [Deck]%s\n}\n",
		doc(""), deprecated(), doc("  "), quoted(nastyText(r, true)), deprecated(), inJSON(), doc("  "),
		deprecated(), inJSON(), doc("  "), deprecated())
	fmt.Fprintf(&b, "%sexample usual of Ask { %s: %s, three: [] }\n", doc(""), "one", quoted(nastyText(r, true)))
	fmt.Fprintf(&b, "%serror Full 409%s {\n%s  #1 left int32%s\n}\n", doc(""), deprecated(), doc("  "), inJSON())
	fmt.Fprintf(&b, "%scredential gate = bearer %s%s\n", doc(""), quoted(nastyText(r, false)), deprecated())
	fmt.Fprintf(&b, "%sservice Desk%s {\n  needs gate\n%s  call ask(Ask) -> Ask\n    fails Full%s\n"+
		"%s  call follow(Ask) -> stream Ask%s\n%s  call talk(stream Ask) -> stream Ask%s\n}\n",
		doc(""), deprecated(), doc("  "), deprecated(), doc("  "), deprecated(), doc("  "), deprecated())
	return b.String()
}

// TestNastyText compiles stubs of definitions whose every text tries to be code.
func TestNastyText(t *testing.T) {
	t.Parallel() // with the other tests that measure no time, after those that do
	if testing.Short() {
		t.Skip("skipped: -short leaves out compiling many modules")
	}
	r := rand.New(rand.NewPCG(20260715, 1))
	var files []*source.File
	for i := 0; len(files) < *nasty; i++ {
		file := source.NewFile(fmt.Sprintf("m%d.faithful", i), nastyModule(r, fmt.Sprintf("nasty.m%d", i)))
		// Names in JSON that are too near each other, and examples that use names that are
		// taken away, are refused: another try.
		if _, findings := check.Load([]*source.File{file}); source.Errors(findings) == 0 {
			files = append(files, file)
		}
		require.Less(t, i, 20**nasty, "most must be definitions")
	}
	defs, findings := check.Load(files)
	require.Zero(t, source.Errors(findings))
	for _, m := range defs.Modules {
		text, findings := syntax.Tidy(source.NewFile("tidy", m.Canonical()))
		require.Empty(t, findings)
		require.NotEmpty(t, text)
	}
	compileEverywhere(t, defs)
}
