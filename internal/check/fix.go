package check

import (
	"slices"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

// maxFixRounds is how often a fix may reveal another mistake.
const maxFixRounds = 20

// Fixed is a finding that Fix fixed. Its places are in the file as it was
// in that round, from 0.
type Fixed struct {
	Finding source.Finding
	Round   int
}

// Fix carries out the fixes that are certain, round by round, as long as each
// leaves fewer errors than before. It returns the files as they are then (those
// without a change are the same), what was fixed, and what is left.
func Fix(files []*source.File) (after []*source.File, fixed []Fixed, defs *schema.Definitions, left []source.Finding) {
	after = slices.Clone(files)
	defs, left = Load(after)
	for round := range maxFixRounds {
		next, done := fixOnce(after, left)
		if len(done) == 0 {
			break
		}
		nextDefs, nextLeft := Load(next)
		if source.Errors(nextLeft) > source.Errors(left) || source.Errors(nextLeft) == source.Errors(left) &&
			len(nextLeft) >= len(left) {
			break // it did not help: leave it to a person
		}
		after, defs, left = next, nextDefs, nextLeft
		for _, f := range done {
			fixed = append(fixed, Fixed{f, round})
		}
	}
	return after, fixed, defs, left
}

// fixOnce applies the certain edits of findings, of each finding all or none.
func fixOnce(files []*source.File, findings []source.Finding) (next []*source.File, done []source.Finding) {
	var edits []source.Edit
	overlaps := func(list []source.Edit) bool {
		return slices.ContainsFunc(list, func(a source.Edit) bool {
			return slices.ContainsFunc(edits, func(b source.Edit) bool {
				return a.Place.File == b.Place.File && a.Place.Span.Start <= b.Place.Span.End &&
					b.Place.Span.Start <= a.Place.Span.End
			})
		})
	}
	for _, f := range findings {
		if f.Sure && len(f.Edits) > 0 && !overlaps(f.Edits) {
			edits = append(edits, f.Edits...)
			done = append(done, f)
		}
	}
	for _, file := range files {
		text, applied := source.Apply(file, edits)
		if len(applied) > 0 {
			file = source.NewFile(file.Name, text).At(file.Path())
		}
		next = append(next, file)
	}
	return next, done
}
