package verdict

import (
	"fmt"
	"slices"
	"strings"
)

// Grouped puts effects together that say the same of several encodings.
func Grouped(effects []*Effect) [][]*Effect {
	var groups [][]*Effect
	for _, e := range effects {
		i := slices.IndexFunc(groups, func(g []*Effect) bool {
			return g[0].Verdict == e.Verdict && g[0].Sentence == e.Sentence && g[0].Position == e.Position &&
				g[0].Who == e.Who && (e.Position != Code || e.Proof == nil)
		})
		if i < 0 {
			groups = append(groups, []*Effect{e})
		} else {
			groups[i] = append(groups[i], e)
		}
	}
	return groups
}

// Title says whom the effects of a group concern: encodings or languages, a position, calls.
func Title(group []*Effect) string {
	var covers []string
	for _, e := range group {
		covers = append(covers, e.Covers)
	}
	first := group[0]
	head := strings.Join(covers, ", ")
	if first.Position != Code && first.Position != All {
		head += ": " + string(first.Position)
	}
	if first.Who == "callers" || first.Who == "implementers" {
		head += ": " + first.Who
	}
	if len(first.Calls) > 0 {
		calls := first.Calls
		if len(calls) > 4 {
			calls = append(slices.Clone(calls[:3]), fmt.Sprintf("%d more", len(first.Calls)-3))
		}
		head += " of " + strings.Join(calls, ", ")
	}
	return head
}
