package source

import (
	"cmp"
	"slices"
	"strings"
)

// Apply puts edits into a file's text, those of other files left aside. Of two
// that overlap the later one waits for another time; applied lists the others.
func Apply(file *File, edits []Edit) (text string, applied []Edit) {
	var own []Edit
	for _, e := range edits {
		if e.Place.File == file {
			own = append(own, e)
		}
	}
	slices.SortStableFunc(own, func(a, b Edit) int {
		return cmp.Or(cmp.Compare(a.Place.Span.Start, b.Place.Span.Start), cmp.Compare(a.Place.Span.End, b.Place.Span.End))
	})
	var b strings.Builder
	at := uint32(0)
	for _, e := range own {
		if e.Place.Span.Start < at {
			continue
		}
		b.WriteString(file.Text[at:e.Place.Span.Start])
		b.WriteString(e.Text)
		at = e.Place.Span.End
		applied = append(applied, e)
	}
	b.WriteString(file.Text[at:])
	return b.String(), applied
}

// RemoveLine is the edit that takes a span away, with its line when nothing
// else stands there.
func RemoveLine(place Place) Edit {
	text := place.File.Text
	start, end := place.Span.Start, place.Span.End
	for start > 0 && strings.IndexByte(" \t", text[start-1]) >= 0 {
		start--
	}
	for int(end) < len(text) && strings.IndexByte(" \t\r", text[end]) >= 0 {
		end++
	}
	if (start == 0 || text[start-1] == '\n') && int(end) < len(text) && text[end] == '\n' {
		end++
		if strings.HasSuffix(text[:start], "\n\n") && strings.HasPrefix(text[end:], "\n") {
			end++ // one blank line is left of two
		}
		return Edit{Place: Place{place.File, Span{start, end}}}
	}
	return Edit{Place: place}
}
