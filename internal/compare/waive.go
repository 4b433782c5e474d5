package compare

import (
	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
)

// Waiver is a break that the project accepts.
type Waiver struct {
	Change change.Kind
	Where  string // full name of the element, as the change has it
	Reason string
	Until  string // the last day on which it holds, as 2027-03-01; "" for ever
}

// Waive marks the breaks that waivers accept on a day, such as 2026-11-28. A
// waived break is still a break: it counts for the version. It returns the
// waivers that match no break at all, and those that do and are over.
func (r *Report) Waive(list []Waiver, today string) (unmatched, over []Waiver) {
	for i := range list {
		w := &list[i]
		matched := false
		for _, f := range r.Changes {
			if f.Kind != w.Change || f.Where != w.Where || f.Verdict() != verdict.Breaking {
				continue
			}
			matched = true
			if w.Until == "" || today <= w.Until { // ISO dates are ordered as texts
				f.Waiver = w
			}
		}
		switch {
		case !matched:
			unmatched = append(unmatched, *w)
		case w.Until != "" && today > w.Until:
			over = append(over, *w)
		}
	}
	return unmatched, over
}

// Unwaived counts the breaks that nobody accepted.
func (r *Report) Unwaived() int {
	n := 0
	for _, f := range r.Changes {
		if f.Verdict() == verdict.Breaking && f.Waiver == nil {
			n++
		}
	}
	return n
}
