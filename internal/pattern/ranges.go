package pattern

import (
	"cmp"
	"slices"
	"unicode/utf8"
)

// sorted returns ranges in order, with those joined that touch.
func sorted(ranges []Range) []Range {
	ranges = slices.Clone(ranges)
	slices.SortFunc(ranges, func(a, b Range) int { return cmp.Compare(a.Low, b.Low) })
	out := ranges[:1]
	for _, r := range ranges[1:] {
		if last := &out[len(out)-1]; r.Low <= last.High+1 {
			last.High = max(last.High, r.High)
		} else {
			out = append(out, r)
		}
	}
	return out
}

// inverted returns all code points that are not in ranges, which are sorted.
func inverted(ranges []Range) []Range {
	var out []Range
	next := rune(0)
	for _, r := range ranges {
		if r.Low > next {
			out = append(out, Range{next, r.Low - 1})
		}
		next = r.High + 1
	}
	if next <= utf8.MaxRune {
		out = append(out, Range{next, utf8.MaxRune})
	}
	return out
}
