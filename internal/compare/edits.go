package compare

import (
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

// Mend carries out the mends that are safe: that keep what a change is for, and end
// a break or prevent the next one. It changes files, which NEW was loaded from, and
// compares again: what does not help, or makes an error, is left. It returns the
// files as they are then, a finding with edits for each mend, and the new report.
// judge compares what the files define; breaks that it marks as waived stay.
func Mend(files []*source.File, judge func(new *schema.Definitions) *Report) (after []*source.File, mended []source.Finding, report *Report) {
	after = slices.Clone(files)
	new, _ := schema.Load(after)
	report = judge(new)
	list := remedies(report)
	// All at once first; one by one where that does not do.
	groups := [][]remedy{list}
	for i := range list {
		groups = append(groups, list[i:i+1])
	}
	var done []source.Edit
	for _, group := range groups {
		edits := slices.Clone(done)
		needed := 0
		for _, r := range group {
			edits = append(edits, r.edit)
			if r.ends {
				needed++
			}
		}
		if len(edits) == len(done) || len(mended) == len(list) {
			continue
		}
		next := edited(files, edits)
		defs, findings := schema.Load(next)
		if source.Errors(findings) > 0 {
			continue
		}
		again := judge(defs)
		if breaking(report)-breaking(again) < needed {
			continue
		}
		after, done, report = next, edits, again
		for _, r := range group {
			mended = append(mended, source.Finding{Name: string(r.fact.Kind), Place: r.edit.Place, Message: string(r.fact.Kind) + " " + r.fact.Where, Mend: r.says, Edits: []source.Edit{r.edit}})
		}
	}
	return after, mended, report
}

// Mendable counts the breaks that Mend might end: those with a safe edit.
func Mendable(report *Report) int {
	n := 0
	for _, r := range remedies(report) {
		if r.ends {
			n++
		}
	}
	return n
}

// remedies finds the safe edits of all facts.
func remedies(report *Report) (list []remedy) {
	m := mender{files: map[*source.File]*layout{}}
	for _, f := range report.Facts {
		r, ok := m.safely(f)
		if ok && !(r.ends && f.Waiver != nil) && r.edit.Place.File.Path() != "" { // what a server said is not ours to edit
			list = append(list, r)
		}
	}
	return list
}

// breaking counts what breaks, by fact, form, position and direction.
func breaking(r *Report) int {
	n := 0
	for _, f := range r.Facts {
		for _, e := range f.Effects {
			if e.Verdict == Breaks {
				n++
			}
		}
	}
	return n
}

func edited(files []*source.File, edits []source.Edit) []*source.File {
	var next []*source.File
	for _, file := range files {
		if text, applied := source.Apply(file, edits); len(applied) > 0 {
			file = source.NewFile(file.Name, text).At(file.Path())
		}
		next = append(next, file)
	}
	return next
}

// remedy is an edit that mends a fact.
type remedy struct {
	fact *Fact
	edit source.Edit
	says string
	ends bool // a break; else it prevents one
}

// mender finds edits in the files of NEW.
type mender struct{ files map[*source.File]*layout }

// layout is where the parts of a file stand, by the place of a name.
type layout struct {
	items map[source.Span]item
	decls map[source.Span]holder
	whole map[source.Span]source.Span // of declarations that stand on one line
	uses  map[string]string           // what modules are called here, by their names
	head  uint32                      // where the last use, or the name of the module, ends
}

// item is where the parts of a field, member, alternative or call stand.
type item struct {
	number source.Span // with the #; empty for a call
	typ    *syntax.Type
	json   source.Span // the mark, or empty
	where  source.Span // the bounds, or empty
	http   source.Span // of a call, likewise
	needs  source.Span
	start  uint32 // of it all
	end    uint32 // likewise
	answer uint32 // where the answer of a call ends, which its clauses follow
}

// holder is a declaration with items.
type holder struct {
	end     uint32 // of its last item, or 0
	open    uint32 // behind the brace that opens it
	needs   bool   // of a service: calls that say nothing need what it needs
	retired []syntax.Retired
}

func (m mender) layout(file *source.File) *layout {
	if m.files[file] == nil {
		m.files[file] = layOut(syntax.Parse(file, &source.Findings{}))
	}
	return m.files[file]
}

func layOut(tree *syntax.File) *layout {
	l := &layout{items: map[source.Span]item{}, decls: map[source.Span]holder{}, whole: map[source.Span]source.Span{}, uses: map[string]string{}, head: tree.Module.Span.End}
	text := tree.Source.Text
	for _, u := range tree.Uses {
		alias := u.Alias
		if alias.Text == "" {
			alias.Text = u.Module.Text[strings.LastIndexByte(u.Module.Text, '.')+1:]
		}
		l.uses[u.Module.Text] = alias.Text
		l.head = max(l.head, u.Module.Span.End, u.Alias.Span.End)
	}
	for _, d := range tree.Decls {
		h := holder{}
		name := d.Common().Name.Span
		if brace := strings.IndexByte(text[name.End:], '{'); brace >= 0 {
			h.open = name.End + uint32(brace) + 1
		}
		add := func(name syntax.Name, number source.Span, t *syntax.Type, marks *syntax.Marks, ends ...source.Span) {
			it := item{number: number, typ: t, start: number.Start, end: name.Span.End}
			if t != nil {
				ends = append(ends, t.Span)
			}
			if marks != nil {
				it.json = marks.JSON.Span
				ends = append(ends, marks.JSON.Span, marks.Deprecated.Span, marks.Secret.Span)
				if marks.In != nil {
					ends = append(ends, marks.In.Span)
				}
			}
			for _, e := range ends {
				it.end = max(it.end, e.End)
			}
			l.items[name.Span] = it
			h.end = max(h.end, it.end)
		}
		switch d := d.(type) {
		case *syntax.Enum:
			h.retired = d.Retired
			for _, x := range d.Members {
				add(x.Name, x.Number.Span, nil, x.Marks)
			}
		case *syntax.Union:
			h.retired = d.Retired
			for _, x := range d.Alternatives {
				add(x.Name, x.Number.Span, x.Type, x.Marks)
			}
		case *syntax.Message:
			h.retired = d.Retired
			for _, x := range d.Fields {
				add(x.Name, x.Number.Span, x.Type, x.Marks, fieldEnds(tree.Source.Text, x)...)
				if x.Where != nil {
					it := l.items[x.Name.Span]
					it.where = x.Where.Span
					l.items[x.Name.Span] = it
				}
			}
		case *syntax.Service:
			h.needs = d.Needs != nil
			for _, x := range d.Calls {
				// Clauses come in any order: a new one is the first.
				add(x.Name, source.Span{}, nil, nil, source.Span{End: answerEnd(tree.Source.Text, x)})
				it := l.items[x.Name.Span]
				it.clauses(text, x)
				h.end = max(h.end, it.end)
				l.items[x.Name.Span] = it
			}
		}
		for _, r := range h.retired {
			h.end = max(h.end, r.Number.Span.End, r.Name.Span.End)
		}
		l.decls[d.Common().Name.Span] = h
		switch d.(type) {
		case *syntax.TypeDecl, *syntax.Const, *syntax.Credential:
			start := lineStart(tree.Source, name.Start)
			line, _, _ := strings.Cut(text[start:], "\n")
			line, _, _ = strings.Cut(line, "//")
			l.whole[name] = source.Span{Start: start, End: start + uint32(len(strings.TrimRight(line, " \t\r")))}
		}
	}
	return l
}

// clauses finds where a call and its clauses stand.
func (it *item) clauses(text string, c syntax.Call) {
	it.answer = it.end
	it.start = uint32(strings.LastIndex(text[:c.Name.Span.Start], "call"))
	spans := []source.Span{c.Safe.Span, c.Idempotent.Span}
	if c.HTTP != nil {
		it.http = c.HTTP.Span
		spans = append(spans, c.HTTP.Span)
	}
	if c.Needs != nil {
		it.needs = c.Needs.Span
		spans = append(spans, c.Needs.Span)
	}
	for _, r := range c.Fails {
		spans = append(spans, r.Name.Span)
	}
	if c.Marks != nil {
		spans = append(spans, c.Marks.Deprecated.Span)
	}
	for _, s := range spans {
		it.end = max(it.end, s.End)
	}
}

// fieldEnds are the ends of what may stand behind a field's type.
func fieldEnds(text string, f syntax.Field) (ends []source.Span) {
	if f.Optional && f.Type != nil {
		mark := f.Type.Span.End
		ends = append(ends, source.Span{End: mark + uint32(strings.IndexByte(text[mark:], '?')) + 1})
	}
	if f.Default != nil {
		ends = append(ends, f.Default.Span)
	}
	if f.Where != nil {
		ends = append(ends, f.Where.Span)
	}
	return ends
}

// answerEnd is where the answer of a call ends, or 0.
func answerEnd(text string, c syntax.Call) uint32 {
	from := c.Name.Span.End
	arrow := strings.Index(text[from:], "->")
	if arrow < 0 {
		return 0
	}
	if m := c.Response.Message; m != nil {
		return m.Name.Span.End
	}
	end := strings.IndexByte(text[from+uint32(arrow):], ')')
	return from + uint32(arrow) + uint32(end) + 1
}

// safely finds the edit that mends a fact and keeps what it is for.
func (m mender) safely(f *Fact) (remedy, bool) {
	if f.Place.File == nil {
		return remedy{}, false
	}
	onWire := slices.ContainsFunc(f.Effects, func(e *Effect) bool { return e.Verdict == Breaks && e.Position != Code })
	fix := func(at uint32, end uint32, text, says string) (remedy, bool) {
		return remedy{fact: f, edit: source.Edit{Place: source.Place{File: f.Place.File, Span: source.Span{Start: at, End: end}}, Text: text}, says: says, ends: true}, true
	}
	if f.Kind == FieldAdded && f.Verdict() == Breaks && f.field.new.Presence == schema.Required {
		if it := m.layout(f.Place.File).items[f.Place.Span]; it.typ != nil {
			return fix(it.typ.Span.End, it.typ.Span.End, "?", "made it optional")
		}
	}
	if onWire {
		it := m.layout(f.Place.File).items[f.Place.Span]
		switch f.Kind {
		case FieldRenumbered, MemberRenumbered, AlternativeRenumbered:
			if it.number.End > 0 {
				return fix(it.number.Start, it.number.End, f.Old, "gave it back its number")
			}
		case FieldRenamed, MemberRenamed, AlternativeRenamed:
			if it.number.End > 0 && it.json.End == 0 {
				return fix(it.end, it.end, fmt.Sprintf(" json %q", f.oldJSONName()), "kept its name in JSON")
			}
		case FieldJSON, MemberJSON, AlternativeJSON:
			text := fmt.Sprintf("json %q", f.Old)
			switch {
			case it.json.End > 0:
				return fix(it.json.Start, it.json.End, text, "gave it back its name in JSON")
			case it.number.End > 0:
				return fix(it.end, it.end, " "+text, "gave it back its name in JSON")
			}
		case CallRenamed:
			if c := f.call.old; it.answer > 0 && !bothWays(c) {
				return fix(it.answer, it.answer, fmt.Sprintf("%shttp %s %q", clauseBreak(f.Place), c.Method(), c.Path()), "kept its path")
			}
		}
	}
	switch f.Kind {
	case FieldGone:
		o := f.field.old
		return m.retire(f, o.Number, o.Name)
	case MemberGone:
		o := f.member.old
		return m.retire(f, o.Number, o.Name)
	case AlternativeGone:
		o := f.alternative.old
		return m.retire(f, o.Number, o.Name)
	}
	return remedy{}, false
}

// retire keeps the number and the name of what is gone from being used again, by a
// line behind the last one of its declaration.
func (m mender) retire(f *Fact, number int, name string) (remedy, bool) {
	place := f.Missed
	if place.File == nil {
		return remedy{}, false
	}
	h := m.layout(place.File).decls[place.Span]
	last := h.end
	if last == 0 || slices.ContainsFunc(h.retired, func(r syntax.Retired) bool { return r.Number.Value == number }) {
		return remedy{}, false
	}
	text := fmt.Sprintf("retired #%d %q", number, name)
	file := place.File.Text
	start := strings.LastIndexByte(file[:last], '\n') + 1
	rest, _, more := strings.Cut(file[last:], "\n")
	indent := file[start : start+len(file[start:])-len(strings.TrimLeft(file[start:], " \t"))]
	if trailing := strings.TrimSpace(rest); more && (trailing == "" || strings.HasPrefix(trailing, "//")) {
		last += uint32(len(strings.TrimRight(rest, "\r")))
		text = lineBreak(place.File) + indent + text
	} else {
		text = " " + text
	}
	return remedy{fact: f, edit: source.Edit{Place: source.Place{File: place.File, Span: source.Span{Start: last, End: last}}, Text: text}, says: "retired its number and its name"}, true
}

// clauseBreak is what stands before a clause of a call: a line of its own, unless
// the call shares its line.
func clauseBreak(call source.Place) string {
	text := call.File.Text
	line := text[strings.LastIndexByte(text[:call.Span.Start], '\n')+1:]
	indent := line[:len(line)-len(strings.TrimLeft(line, " \t"))]
	if !strings.HasPrefix(line[len(indent):], "call") {
		return " "
	}
	return lineBreak(call.File) + indent + "  "
}

func (f *Fact) oldJSONName() string {
	switch {
	case f.field.old != nil:
		return f.field.old.JSONName()
	case f.member.old != nil:
		return f.member.old.JSONName()
	}
	return f.alternative.old.JSONName()
}
