// Package compare says what a change of definitions breaks, for whom, proves it, and says
// how to do without the break.
//
//	compare.go  two definitions → a report
//	kinds.go    what there is to say of each kind of change, and who judges and fixes it
//	fix.go      how to get the same end without a break, tried
//	edits.go    where the parts of files stand; edits that are safe, and carrying them out
//	waive.go    breaks that the project accepts
//	change/     what changed, without opinion
//	verdict/    what is said of a change
//	wire/       what changes do to payloads and the conversation, by running
//
// What changes do to code is in the folder of each language (stubs). It must not know
// flags, what lies on disks, or how reports look.
package compare

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/compare/wire"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// Promise is what the project promises; see project.Promise.
type Promise struct {
	Rollout   string
	Stored    string
	Covers    []string // of "binary", "json" and "http"
	Languages []stubs.Language
}

// Change is a change with all that is said of it.
type Change struct {
	*verdict.Judged
	Waiver *Waiver // of a break that the project accepts
	Fix    *Fix    // how to get the same end without breaking; nil where none was found, or asked for
}

// Report is the outcome of a comparison.
type Report struct {
	Changes []*Change // worst first, then by name
}

// Count counts the changes of a verdict.
func (r *Report) Count(v verdict.Verdict) int {
	n := 0
	for _, c := range r.Changes {
		if c.Verdict() == v {
			n++
		}
	}
	return n
}

// Undecided counts the changes of which nobody knows whether they break.
func (r *Report) Undecided() int {
	n := 0
	for _, c := range r.Changes {
		if c.Undecided {
			n++
		}
	}
	return n
}

// Summary says in a line what a comparison found.
func (r *Report) Summary() string {
	if len(r.Changes) == 0 {
		return "nothing differs"
	}
	waived := ""
	if n := r.Count(verdict.Breaking) - r.Unwaived(); n > 0 {
		waived = fmt.Sprintf(" (%d waived)", n)
	}
	if len(r.Changes) == 1 {
		return "1 change, " + r.Changes[0].Verdict().String() + waived
	}
	var parts []string
	for _, v := range []verdict.Verdict{verdict.Breaking, verdict.Altering, verdict.Compatible} {
		switch n := r.Count(v); {
		case n == len(r.Changes):
			return fmt.Sprintf("%d changes", n) + ", all " + v.String() + waived
		case n > 0:
			word := v.String()
			if v == verdict.Breaking {
				word += waived
			}
			parts = append(parts, fmt.Sprintf("%d %s", n, word))
		}
	}
	return fmt.Sprintf("%d changes", len(r.Changes)) + ": " + strings.Join(parts, ", ")
}

// Size is how much the changes ask of a version number: 2 for a break, 1 for something
// added or loosened, else 0. What is not decided counts as a break.
func (r *Report) Size() int {
	size := 0
	for _, c := range r.Changes {
		switch {
		case c.Verdict() == verdict.Breaking || c.Undecided:
			return 2 // what nobody decided may break
		case c.More || entryOf(c.Kind).added:
			size = 1
		}
	}
	return size
}

// Compare compares two checked definitions under a promise.
func Compare(old, new *schema.Definitions, promise Promise) *Report {
	return Across(old, new, promise, nil)
}

// Across is Compare, where there are versions between the two: what one of them
// renamed or moved, and a later one changed, is found through them. They are asked
// for, oldest first, only where something is gone and something has appeared.
func Across(old, new *schema.Definitions, promise Promise, between func() []*schema.Definitions) *Report {
	set := change.Find(old, new, between)
	wire.Measure(set)
	judge := wire.NewJudge(set, verdict.Promise{Rollout: promise.Rollout, Stored: promise.Stored, Covers: promise.Covers})
	report := &Report{}
	for _, c := range set.Changes {
		if own := entryOf(c.Kind).judge; own != nil {
			own(judge, c)
		}
		judged := judge.Judged(c)
		for _, l := range promise.Languages {
			judged.Effects = append(judged.Effects, stubs.JudgeCode(l, c)...)
		}
		slices.SortStableFunc(judged.Effects, func(a, b *verdict.Effect) int {
			return cmp.Or(int(b.Verdict)-int(a.Verdict), cmp.Compare(payloadsFirst(a.Covers), payloadsFirst(b.Covers)))
		})
		report.Changes = append(report.Changes, &Change{Judged: judged})
	}
	slices.SortStableFunc(report.Changes, func(a, b *Change) int {
		return cmp.Or(int(b.Verdict())-int(a.Verdict()), codeAlone(a)-codeAlone(b),
			strings.Compare(a.Where, b.Where), strings.Compare(string(a.Kind), string(b.Kind)))
	})
	return report
}

// payloadsFirst puts payloads before code.
func payloadsFirst(covers string) int {
	payloads := []string{"binary", "json", "http"}
	if i := slices.Index(payloads, covers); i >= 0 {
		return i
	}
	return len(payloads)
}

// codeAlone puts what breaks payloads before what breaks code alone.
func codeAlone(c *Change) int {
	if slices.ContainsFunc(c.Effects, func(e *verdict.Effect) bool {
		return e.Verdict == verdict.Breaking && e.Position != verdict.Code
	}) {
		return 0
	}
	return 1
}
