package manual

import (
	"fmt"
	"path"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"faithfulcourier/internal/compare"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/stubs/golang"
)

// changesOf parses the page of what changed from one text to the next, the oldest first.
func changesOf(t *testing.T, note string, versions ...string) (page *html.Node, text string, files map[string]bool) {
	t.Helper()
	about := About{Name: "line", Version: "draft"}
	defs := loaded(t, versions[0])
	steps := []Step{{New: "1.0.0", When: time.Date(2026, 5, 4, 0, 0, 0, 0, time.UTC), Note: note,
		Report: &compare.Report{}}}
	for _, next := range versions[1:] {
		older := defs
		defs = loaded(t, next)
		step := Step{Old: steps[0].New, New: fmt.Sprintf("1.%d.0", len(steps))}
		step.Report = compare.Compare(older, defs,
			compare.Promise{Rollout: "server-leads", Stored: "each-reads-other", Covers: []string{"binary", "json"},
				Languages: []stubs.Language{golang.Language{}}})
		steps = append([]Step{step}, steps...)
	}
	about.Steps = func() ([]Step, error) { return steps, nil }
	made, err := Make(defs, about)
	require.NoError(t, err)
	files = map[string]bool{}
	for _, f := range made {
		files[f.Path] = true
		if f.Path == "changes.html" {
			text = string(f.Content)
			page, err = html.Parse(strings.NewReader(text))
			require.NoError(t, err)
		}
		if f.Path == "index.html" && len(versions) > 1 {
			last := steps[0]
			assert.Contains(t, string(f.Content),
				`<a href="changes.html#`+last.New+`">`+last.New+`</a>: `+last.Report.Summary())
		}
	}
	return page, text, files
}

// wordsOf is what a reader sees of a page.
func wordsOf(page *html.Node) string {
	var b strings.Builder
	for n := range page.Descendants() {
		if n.Type == html.TextNode {
			b.WriteString(n.Data + " ")
		}
	}
	return strings.Join(strings.Fields(b.String()), " ")
}

// TestChanges tells a break with its proof, an addition with its name, and both with links to what is still there.
func TestChanges(t *testing.T) {
	const first = "/// What is booked.\nmodule line\nmessage Berth {\n  #1 name text\n  #2 seats int32\n}\n" +
		"service Desk {\n  call berth(Berth) -> Berth\n}\n"
	second := strings.Replace(first, "#2 seats int32", "#2 seats int32\n  #3 deck text?", 1)
	third := strings.Replace(strings.Replace(second, "#2 seats int32\n", "#2 seats text\n", 1), "#3 deck text?",
		"retired #3 \"deck\"", 1)
	page, text, files := changesOf(t, "The first <script>season</script> with [a link](javascript:x).",
		first, second, third)
	words := wordsOf(page)
	for _, told := range []string{
		"1.2.0 Not sealed yet, compared with 1.1.0.", "breaking · field type changed int32 → text",
		"request of Desk.berth: breaking", `An older client writes int32 in "seats", and a newer server reads text.`,
		"An older client writes line.Berth:",
		"A newer server refuses it: /seats: expected text, found the integer 0 (byte 4).",
		"1 change, compatible . Nothing has to be done. 1 added, 0 changed, 0 gone.",
		"field added line.Berth.deck #3 deck text?",
		"1.0.0 Sealed on 4 May 2026.", "It is the first version.", "faithful compare 1.1.0 1.2.0",
		"go: breaking", "1 gone",
	} {
		assert.Contains(t, words, told)
	}
	assert.Less(t, strings.Index(words, "1.2.0"), strings.Index(words, "1.0.0 Sealed"), "the newest is first")
	assert.Contains(t, text, `<a href="modules/line.html#Berth.seats">`)
	assert.NotContains(t, text, `#Berth.deck"`, "what is gone has no link")
	assert.NotContains(t, text, "<script>season")
	assert.NotContains(t, text, "javascript:")
	each(page, func(_ *html.Node, attribute map[string]string) {
		if to, _, _ := strings.Cut(attribute["href"], "#"); to != "" {
			assert.True(t, files[path.Clean(to)], to)
		}
	})
}

// TestWaivedChange says why a break is accepted.
func TestWaivedChange(t *testing.T) {
	older := loaded(t, "module m\nmessage A {\n  #1 a int32\n}\n")
	defs := loaded(t, "module m\nmessage A {\n  #1 a text\n}\n")
	r := compare.Compare(older, defs, compare.Promise{
		Rollout: "server-leads", Stored: "each-reads-other", Covers: []string{"json"}})
	r.Waive([]compare.Waiver{{Change: "field-type-changed", Where: "m.A.a", Reason: "nobody <has> it"}}, "2026-05-04")
	steps := func() ([]Step, error) { return []Step{{Old: "1.0.0", New: "draft", Report: r}}, nil }
	made, err := Make(defs, About{Name: "line", Version: "draft", Steps: steps})
	require.NoError(t, err)
	for _, f := range made {
		if f.Path == "changes.html" {
			assert.Contains(t, string(f.Content), "waived: nobody &lt;has&gt; it")
			return
		}
	}
	assert.Fail(t, "there is no page of changes")
}

// TestChangesOfNone says what to do where there is no version to tell of.
func TestChangesOfNone(t *testing.T) {
	pages, _ := pagesOf(t, loaded(t, "module m\n"))
	assert.Contains(t, wordsOf(pages["changes.html"]), "faithful seal seals the first one")
	page, _, _ := changesOf(t, "", "module m\n", "module m\n")
	assert.Contains(t, wordsOf(page), "nothing differs")
}

// TestManyChanges holds that a version with many changes has a page that opens, and says what it leaves out.
func TestManyChanges(t *testing.T) {
	var was, is strings.Builder
	for b, kind := range map[*strings.Builder]string{&was: "int32", &is: "text"} {
		b.WriteString("module m\n")
		for i := range 150 {
			fmt.Fprintf(b, "message M%d {\n  #1 a %s\n}\n", i, kind)
		}
	}
	for i := range 500 {
		fmt.Fprintf(&is, "message N%d {\n  #1 a text\n}\n", i)
	}
	page, text, _ := changesOf(t, "", was.String(), is.String())
	assert.Contains(t, wordsOf(page), "150 more are not on this page.")
	assert.Equal(t, mostTold, strings.Count(text, `<section class="change">`))
	assert.Less(t, len(text), 1_000_000)
}
