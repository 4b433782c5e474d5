package report

import (
	"encoding/hex"
	"fmt"
	"strings"

	"faithfulcourier/internal/value"
)

// The layout of a payload byte by byte, for 100 columns.
const (
	columns   = 100
	hexBytes  = 8  // how many bytes of a part are shown on its line
	longList  = 12 // parts, of which the first and the last are shown where there are more
	shownHead = 6
)

// Bytes shows a payload byte by byte: where each part begins, its bytes, and what
// they mean. whole shows long lists and long values whole.
func (p *Printer) Bytes(data []byte, root *value.Part, whole bool) {
	width := max(4, len(fmt.Sprint(len(data))))
	p.part(data, root, 0, width, whole)
	if root.End < len(data) {
		rest := len(data) - root.End
		p.Line("%s  %s", p.In(Faint, fmt.Sprintf("%*d", width, root.End)), p.In(Red, Plural(rest, "byte")+" after the end"))
	}
}

func (p *Printer) part(data []byte, part *value.Part, depth, width int, whole bool) {
	own := data[part.Start:part.Body]
	shown := own
	tail := ""
	if len(own) > hexBytes {
		shown, tail = own[:hexBytes-1], "…"
	}
	var digits strings.Builder
	for _, b := range shown {
		digits.WriteString(hex.EncodeToString([]byte{b}))
		digits.WriteByte(' ')
	}
	label, text := part.Label, part.Text
	if part.Note != "" {
		text = part.Note
	}
	indent := strings.Repeat("  ", min(depth, 20))
	room := columns - width - 2 - 3*hexBytes - 1 - len(indent)
	typ := part.Type
	if part.Unlisted {
		typ = "not listed"
	}
	if runes := []rune(text); !whole {
		left := max(16, room-len([]rune(label))-len([]rune(typ))-4)
		if len(runes) > left {
			text = string(runes[:left-1]) + "…"
		}
	}
	style := Style("")
	switch {
	case part.Wrong:
		style, typ = Red, "should be "+typ
	case part.Unlisted:
		style = Yellow
	}
	line := indent
	if label != "" {
		line += p.In(Bold, label) + "  "
	}
	if typ != "" {
		line += p.In(Faint, typ) + "  "
	}
	switch {
	case part.Note != "":
		line += p.In(Faint, text)
	case style != "" && text != "":
		line += p.In(style, text)
	default:
		line += text
	}
	p.Line("%s", strings.TrimRight(fmt.Sprintf("%s  %-*s %s", p.In(Faint, fmt.Sprintf("%*d", width, part.Start)),
		3*hexBytes, digits.String()+tail, line), " "))
	for i, inner := range part.Parts {
		left := len(part.Parts) - 1 - i
		if !whole && len(part.Parts) > longList && i >= shownHead && left > 0 {
			if i == shownHead {
				last := part.Parts[len(part.Parts)-1]
				p.Line("%s  %-*s %s", strings.Repeat(" ", width), 3*hexBytes, "…",
					p.In(Faint, indent+fmt.Sprintf("  %d more, bytes %d to %d", left, inner.Start, last.Start-1)))
			}
			continue
		}
		p.part(data, inner, depth+1, width, whole)
	}
}
