package compare

import (
	"strings"
	"testing"

	"pgregory.net/rapid"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

// TestFixesFix applies the fixes of random breaks: each makes definitions that are right,
// the change that it is for breaks no more, its lines stand there word for word, and line
// ends stay as they were.
func TestFixesFix(t *testing.T) {
	promise := Promise{Rollout: "server-leads", Stored: "each-reads-other", Covers: []string{"binary", "json", "http"},
		Languages: languages}
	breaks, fixed := map[change.Kind]int{}, map[change.Kind]int{}
	rapid.Check(t, func(t *rapid.T) {
		var texts [2]string
		if rapid.Bool().Draw(t, "calls") {
			before := drawTalk(t)
			texts = [2]string{before.text(), changeTalk(t, before).text()}
		} else {
			before := drawModel(t)
			texts = [2]string{before.text(), changeModel(t, before).text()}
		}
		if rapid.IntRange(0, 3).Draw(t, "line ends") == 0 {
			texts[1] = strings.ReplaceAll(texts[1], "\n", "\r\n")
		}
		old := load(t, texts[0])
		file := source.NewFile("truth.faithful", texts[1]).At("truth.faithful")
		new, findings := check.Load([]*source.File{file})
		if source.Errors(findings) > 0 {
			t.Skip()
		}
		judge := func(new *schema.Definitions) *Report { return Compare(old, new, promise) }
		report := judge(new)
		Fixes(report, []*source.File{file}, 5, judge)
		for _, f := range report.Changes {
			if f.Verdict() != verdict.Breaking {
				continue
			}
			breaks[f.Kind]++
			if f.Fix == nil {
				continue
			}
			fixed[f.Kind]++
			text, applied := source.Apply(file, f.Fix.Edits)
			if len(applied) != len(f.Fix.Edits) {
				t.Fatalf("%s %s: edits overlap\n%s", f.Kind, f.Where, texts[1])
			}
			for _, line := range f.Fix.Lines {
				if !strings.Contains(text, line) {
					t.Fatalf("%s %s: %q is not in\n%s", f.Kind, f.Where, line, text)
				}
			}
			if strings.Contains(texts[1], "\r\n") && strings.Contains(strings.ReplaceAll(text, "\r\n", ""), "\n") {
				t.Fatalf("%s %s: line ends are mixed in\n%q", f.Kind, f.Where, text)
			}
			after, findings := check.Load([]*source.File{source.NewFile("truth.faithful", text)})
			if source.Errors(findings) > 0 {
				t.Fatalf("%s %s: %s\n%s", f.Kind, f.Where, findings[0].Message, text)
			}
			for _, g := range judge(after).Changes {
				if g.Verdict() == verdict.Breaking && g.Kind == f.Kind && g.Where == f.Where {
					t.Fatalf("%s %s still breaks in\n%s", f.Kind, f.Where, text)
				}
			}
		}
	})
	all, with := 0, 0
	for kind, n := range breaks {
		all, with = all+n, with+fixed[kind]
		t.Logf("%-30s %5d breaks, %5d with a fix", kind, n, fixed[kind])
	}
	t.Logf("%d breaks, %d with a fix", all, with)
	if with < all*8/10 {
		t.Fatal("too few breaks have a fix")
	}
}
