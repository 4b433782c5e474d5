package compare

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

// FixSafely carries out the fixes that are safe: that keep what a change is for, and end
// a break or prevent the next one. It changes files, which NEW was loaded from, and
// compares again: what does not help, or makes an error, is left. It returns the
// files as they are then, a finding with edits for each fix, and the new report.
// judge compares what the files define; breaks that it marks as waived stay.
func FixSafely(files []*source.File, judge func(new *schema.Definitions) *Report) (after []*source.File,
	fixed []source.Finding, report *Report) {
	after = slices.Clone(files)
	new, _ := check.Load(after)
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
		if len(edits) == len(done) || len(fixed) == len(list) {
			continue
		}
		next := edited(files, edits)
		defs, findings := check.Load(next)
		if source.Errors(findings) > 0 {
			continue
		}
		again := judge(defs)
		if breaking(report)-breaking(again) < needed {
			continue
		}
		after, done, report = next, edits, again
		for _, r := range group {
			fixed = append(fixed, source.Finding{Name: string(r.change.Kind), Place: r.edit.Place,
				Message: strconv.Quote(r.change.Where), Fix: r.done, Edits: []source.Edit{r.edit}})
		}
	}
	return after, fixed, report
}

// SafeFixes counts the breaks that FixSafely might end: those with a safe edit.
func SafeFixes(report *Report) int {
	n := 0
	for _, r := range remedies(report) {
		if r.ends {
			n++
		}
	}
	return n
}

// remedies finds the safe edits of all changes.
func remedies(report *Report) (list []remedy) {
	m := finder{files: map[*source.File]*layout{}}
	for _, f := range report.Changes {
		e := entryOf(f.Kind)
		if e.edit == nil || f.Place.File == nil {
			continue
		}
		r, ok := e.edit(m, f)
		if ok && !(r.ends && f.Waiver != nil) && r.edit.Place.File.Path() != "" { // what a server said is not ours to edit
			list = append(list, r)
		}
	}
	return list
}

// breaking counts what breaks, by change, encoding, position and direction.
func breaking(r *Report) int {
	n := 0
	for _, f := range r.Changes {
		for _, e := range f.Effects {
			if e.Verdict == verdict.Breaking {
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

// remedy is an edit for a change.
type remedy struct {
	change     *Change
	edit       source.Edit
	done, todo string // what it did, and what it is to do
	ends       bool   // a break; else it prevents one
}

// finder finds edits in the files of NEW.
type finder struct{ files map[*source.File]*layout }

// layout is where the parts of a file stand, by the place of a name.
type layout struct {
	items map[source.Span]parts
	decls map[source.Span]holder
	whole map[source.Span]source.Span // of declarations that stand on one line
	uses  map[string]string           // what modules are called here, by their names
	head  uint32                      // where the last use, or the name of the module, ends
}

// parts is where the parts of a field, member, alternative or call stand.
type parts struct {
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
	open    uint32 // after the brace that opens it
	needs   bool   // of a service: calls that say nothing need what it needs
	retired []syntax.Retired
}

func (m finder) layout(file *source.File) *layout {
	if m.files[file] == nil {
		m.files[file] = layOut(syntax.Parse(file, &source.Findings{}))
	}
	return m.files[file]
}

func layOut(tree *syntax.File) *layout {
	l := &layout{items: map[source.Span]parts{}, decls: map[source.Span]holder{}, whole: map[source.Span]source.Span{},
		uses: map[string]string{}, head: tree.Module.Span.End}
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
			it := parts{number: number, typ: t, start: number.Start, end: name.Span.End}
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
func (it *parts) clauses(text string, c syntax.Call) {
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

// fieldEnds are the ends of what may stand after a field's type.
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

// breaksPayloads tells whether a change breaks anything but code.
func (c *Change) breaksPayloads() bool { return codeAlone(c) == 0 }

// ending is a remedy that writes a text where the item of a change stands.
func (c *Change) ending(start, end uint32, text, done, todo string) (remedy, bool) {
	at := source.Place{File: c.Place.File, Span: source.Span{Start: start, End: end}}
	return remedy{change: c, edit: source.Edit{Place: at, Text: text}, done: done, todo: todo, ends: true}, true
}

// makeOptional makes a field optional that is new and required.
func (m finder) makeOptional(c *Change) (remedy, bool) {
	it := m.layout(c.Place.File).items[c.Place.Span]
	if c.Verdict() != verdict.Breaking || c.Field.New.Presence != schema.Required || it.typ == nil {
		return remedy{}, false
	}
	return c.ending(it.typ.Span.End, it.typ.Span.End, "?", "made it optional", "make it optional")
}

// numberBack gives an item its number again.
func (m finder) numberBack(c *Change) (remedy, bool) {
	it := m.layout(c.Place.File).items[c.Place.Span]
	if !c.breaksPayloads() || it.number.End == 0 {
		return remedy{}, false
	}
	return c.ending(it.number.Start, it.number.End, c.Old, "gave it back its number", "give it back its number")
}

// nameInJSON keeps the name of an item in JSON.
func (m finder) nameInJSON(c *Change) (remedy, bool) {
	it := m.layout(c.Place.File).items[c.Place.Span]
	if !c.breaksPayloads() || it.number.End == 0 || it.json.End > 0 {
		return remedy{}, false
	}
	old, _ := c.item()
	return c.ending(it.end, it.end, fmt.Sprintf(" json %q", old.jsonName), "restored its name in JSON",
		"keep its name in JSON")
}

// nameInJSONBack gives an item its name in JSON again.
func (m finder) nameInJSONBack(c *Change) (remedy, bool) {
	it := m.layout(c.Place.File).items[c.Place.Span]
	if !c.breaksPayloads() || it.json.End == 0 && it.number.End == 0 {
		return remedy{}, false
	}
	start, end, text := it.json.Start, it.json.End, fmt.Sprintf("json %q", c.Old)
	if it.json.End == 0 {
		start, end, text = it.end, it.end, " "+text
	}
	return c.ending(start, end, text, "gave it back its name in JSON", "give it back its name in JSON")
}

// pathKept gives a call the path that it had.
func (m finder) pathKept(c *Change) (remedy, bool) {
	it, old := m.layout(c.Place.File).items[c.Place.Span], c.Call.Old
	if !c.breaksPayloads() || it.answer == 0 || conversation.BothWays(old) {
		return remedy{}, false
	}
	clause := fmt.Sprintf("%shttp %s %q", clauseBreak(c.Place), conversation.Method(old), conversation.Path(old))
	return c.ending(it.answer, it.answer, clause, "restored its path", "keep its path")
}

// retire keeps the number and the name of what is gone from being used again, by a
// line after the last one of its declaration.
func (m finder) retire(c *Change) (remedy, bool) {
	old, _ := c.item()
	place := c.Missed
	if place.File == nil {
		return remedy{}, false
	}
	h := m.layout(place.File).decls[place.Span]
	last := h.end
	if last == 0 || slices.ContainsFunc(h.retired, func(r syntax.Retired) bool { return r.Number.Value == old.number }) {
		return remedy{}, false
	}
	text := fmt.Sprintf("retired #%d %q", old.number, old.name)
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
	at := source.Place{File: place.File, Span: source.Span{Start: last, End: last}}
	return remedy{change: c, edit: source.Edit{Place: at, Text: text}, done: "retired its number and its name"}, true
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

// item is what a field, a member and an alternative have in common.
type item struct {
	place    source.Place
	number   int
	name     string
	jsonName string
}

// item is the field, member or alternative that a change is about, in OLD and in NEW.
func (c *Change) item() (old, new item) {
	field := func(f *schema.Field) (i item) {
		if f != nil {
			i = item{f.Place, f.Number, f.Name, f.JSONName()}
		}
		return i
	}
	member := func(m *schema.Member) (i item) {
		if m != nil {
			i = item{m.Place, m.Number, m.Name, m.JSONName()}
		}
		return i
	}
	alternative := func(a *schema.Alternative) (i item) {
		if a != nil {
			i = item{a.Place, a.Number, a.Name, a.JSONName()}
		}
		return i
	}
	switch {
	case c.Field != (change.FieldPair{}):
		return field(c.Field.Old), field(c.Field.New)
	case c.Member != (change.MemberPair{}):
		return member(c.Member.Old), member(c.Member.New)
	}
	return alternative(c.Alternative.Old), alternative(c.Alternative.New)
}
