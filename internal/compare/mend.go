package compare

import (
	"cmp"
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
func Mend(old *schema.Definitions, files []*source.File, promise Promise) (after []*source.File, mended []source.Finding, report *Report) {
	after = slices.Clone(files)
	new, _ := schema.Load(after)
	report = Compare(old, new, promise)
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
		again := Compare(old, defs, promise)
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
	m := mender{trees: map[*source.File]*syntax.File{}}
	for _, f := range report.Facts {
		if r, ok := m.safely(f); ok && r.edit.Place.File.Path() != "" { // what a server said is not ours to edit
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
type mender struct{ trees map[*source.File]*syntax.File }

func (m mender) tree(file *source.File) *syntax.File {
	if m.trees[file] == nil {
		m.trees[file] = syntax.Parse(file, &source.Findings{})
	}
	return m.trees[file]
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
		if it := m.itemAt(f.Place); it.typ != nil {
			return fix(it.typ.Span.End, it.typ.Span.End, "?", "made it optional")
		}
	}
	if onWire {
		it := m.itemAt(f.Place)
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
			if c := f.call.old; it.end > 0 && !bothWays(c) {
				return fix(it.end, it.end, fmt.Sprintf("%shttp %s %q", clauseBreak(f.Place), c.Method(), c.Path()), "kept its path")
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
	last := uint32(0)
	retired := false
	see := func(list []syntax.Retired) {
		for _, r := range list {
			last = max(last, r.Number.Span.End, r.Name.Span.End)
			retired = retired || r.Number.Value == number
		}
	}
	at := func(name syntax.Name) {
		last = max(last, m.itemAt(source.Place{File: place.File, Span: name.Span}).end)
	}
	for _, d := range m.tree(place.File).Decls {
		if d.Common().Name.Span != place.Span {
			continue
		}
		switch d := d.(type) {
		case *syntax.Enum:
			see(d.Retired)
			for _, x := range d.Members {
				at(x.Name)
			}
		case *syntax.Union:
			see(d.Retired)
			for _, x := range d.Alternatives {
				at(x.Name)
			}
		case *syntax.Message:
			see(d.Retired)
			for _, x := range d.Fields {
				at(x.Name)
			}
		}
	}
	if last == 0 || retired {
		return remedy{}, false
	}
	text := fmt.Sprintf("retired #%d %q", number, name)
	file := place.File.Text
	start := strings.LastIndexByte(file[:last], '\n') + 1
	rest, _, more := strings.Cut(file[last:], "\n")
	indent := file[start : start+len(file[start:])-len(strings.TrimLeft(file[start:], " \t"))]
	if trailing := strings.TrimSpace(rest); more && (trailing == "" || strings.HasPrefix(trailing, "//")) {
		last += uint32(len(strings.TrimRight(rest, "\r")))
		text = "\n" + indent + text
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
	return "\n" + indent + "  "
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

// item is where the parts of a field, member, alternative or call stand.
type item struct {
	number source.Span // with the #; empty for a call
	typ    *syntax.Type
	json   source.Span // the mark, or empty
	end    uint32      // of it all
}

// itemAt finds what has its name at a place.
func (m mender) itemAt(at source.Place) item {
	var found item
	take := func(name syntax.Name, number source.Span, t *syntax.Type, marks *syntax.Marks, ends ...source.Span) {
		if name.Span != at.Span {
			return
		}
		found = item{number: number, typ: t, end: name.Span.End}
		if t != nil {
			ends = append(ends, t.Span)
		}
		if marks != nil {
			found.json = marks.JSON.Span
			ends = append(ends, marks.JSON.Span, marks.Deprecated.Span, marks.Secret.Span)
			if marks.In != nil {
				ends = append(ends, marks.In.Span)
			}
		}
		for _, e := range ends {
			found.end = max(found.end, e.End)
		}
	}
	for _, d := range m.tree(at.File).Decls {
		switch d := d.(type) {
		case *syntax.Enum:
			for _, m := range d.Members {
				take(m.Name, m.Number.Span, nil, m.Marks)
			}
		case *syntax.Union:
			for _, a := range d.Alternatives {
				take(a.Name, a.Number.Span, a.Type, a.Marks)
			}
		case *syntax.Message:
			for _, f := range d.Fields {
				var ends []source.Span
				if f.Optional && f.Type != nil {
					mark := f.Type.Span.End
					ends = append(ends, source.Span{End: mark + uint32(strings.IndexByte(at.File.Text[mark:], '?')) + 1})
				}
				if f.Default != nil {
					ends = append(ends, f.Default.Span)
				}
				if f.Where != nil {
					ends = append(ends, f.Where.Span)
				}
				take(f.Name, f.Number.Span, f.Type, f.Marks, ends...)
			}
		case *syntax.Service:
			for _, c := range d.Calls {
				// Clauses come in any order: a new one is the first.
				take(c.Name, source.Span{}, nil, nil, source.Span{End: answerEnd(at.File.Text, c)})
			}
		}
	}
	return found
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

// mend says how to get the same end without breaking.
func mend(f *Fact) string {
	switch f.Kind {
	case FieldAdded:
		n := f.field.new
		return fmt.Sprintf("make it optional, or give it a default: #%d %s %s?", n.Number, n.Name, n.Type.Local(n.Message.Module))
	case FieldGone:
		o := f.field.old
		if o.Presence == schema.Required {
			return fmt.Sprintf("first make it optional (#%d %s %s?), and remove it when no reader needs it any more; then keep its number: retired #%d %q",
				o.Number, o.Name, o.Type.Local(o.Message.Module), o.Number, o.Name)
		}
		return fmt.Sprintf("keep it as long as code uses it: %s", FieldText(o))
	case FieldRenamed:
		o, n := f.field.old, f.field.new
		return keepName(f.Old, FieldText(n), o.JSONName(), n.JSONName())
	case FieldRenumbered:
		return fmt.Sprintf("give it back its number: #%d %s", f.field.old.Number, f.field.old.Name)
	case FieldType:
		o, n := f.field.old, f.field.new
		return fmt.Sprintf("keep it as it is (%s), and add the new one beside it: #%d %s_2 %s?", FieldText(o), free(n.Message), n.Name, n.Type.Local(n.Message.Module))
	case FieldPresence:
		return fmt.Sprintf("leave it as it was: %s", FieldText(f.field.old))
	case MemberGone:
		return fmt.Sprintf("keep the member: %s", memberText(f.member.old))
	case FieldPlace:
		o := f.field.old
		if o.In == nil {
			return "leave it where it travels; where another place matters, add a field beside it"
		}
		return fmt.Sprintf("leave it where it travels: %s", f.Old)
	case TypeBounds:
		return fmt.Sprintf("leave its bounds as they were (%s), or only loosen them; for stricter ones declare another type beside it", orNone(f.Old))
	case TypeChanged:
		return fmt.Sprintf("leave it over %s, and declare another type beside it", f.Old)
	case TypeGone, UnionGone:
		return "keep it as long as code uses it"
	case AlternativeGone:
		return fmt.Sprintf("keep the alternative: %s", f.Old)
	case AlternativeAdded:
		return "let the servers know the alternative first, and use it in requests when all do"
	case AlternativeRenamed:
		return keepName(f.Old, alternativeText(f.alternative.new), f.alternative.old.JSONName(), f.alternative.new.JSONName())
	case AlternativeRenumbered:
		return fmt.Sprintf("give it back its number: %s", alternativeText(f.alternative.old))
	case AlternativeType:
		return fmt.Sprintf("keep it as it is (%s), and add another alternative beside it", alternativeText(f.alternative.old))
	case MemberAdded:
		return "let the servers know the member first, and use it in requests when all do"
	case MemberRenamed:
		return keepName(f.Old, memberText(f.member.new), f.member.old.JSONName(), f.member.new.JSONName())
	case FieldBounds:
		if f.Old == "" {
			return fmt.Sprintf("let servers check nothing new of old requests: leave %s without bounds, and tell clients in its documentation what is best", f.field.old.Name)
		}
		return fmt.Sprintf("leave its bounds as they were: %s, or only loosen them", f.Old)
	case CallHTTP, CallStream, CallRequest, CallAnswer:
		o, n := f.call.old, f.call.new
		path := httpText(n)
		if travels(o) == travels(n) && o.Path() == n.Path() {
			path = "" // two calls can't have one path
		}
		return fmt.Sprintf("keep it as it is (%s), and declare another call beside it: %s", callLine(o, "", httpText(o)), callLine(n, "_2", path))
	case CallNeeds:
		local := strings.NewReplacer(f.call.new.Service.Module.Name+".", "")
		return fmt.Sprintf("take the old credentials beside the new ones until no client shows them: needs %s | %s", local.Replace(cmp.Or(f.Old, "nothing")), local.Replace(cmp.Or(f.New, "nothing")))
	case CredentialChanged:
		c := f.newAny.(*schema.Credential)
		return fmt.Sprintf("keep it (%s), declare another one beside it, and take either until no client shows the old one: needs %s | %s_2", f.Old, c.Name, c.Name)
	case FieldJSON, MemberJSON, AlternativeJSON:
		return fmt.Sprintf("keep its name in JSON: json %q", f.Old)
	case MemberRenumbered:
		return fmt.Sprintf("give it back its number: %s", memberText(f.member.old))
	case CallGone:
		return "keep the call as long as it is called"
	case CallRenamed:
		if f.call.old.Path() != f.call.new.Path() {
			return fmt.Sprintf("keep the name %s, or keep its path: http POST %q", f.Old, f.call.old.Path())
		}
		return fmt.Sprintf("keep the name %s as long as code uses it", f.Old)
	case CallAdded:
		return "give it a path that no request of another call matches"
	case MessageMoved, EnumMoved, ErrorMoved, TypeMoved, UnionMoved, ConstMoved, ServiceMoved:
		return fmt.Sprintf("leave it in module %s", f.Where[:strings.LastIndexByte(f.Where, '.')])
	case MessageRenamed, EnumRenamed, ErrorRenamed, TypeRenamed, UnionRenamed, ConstRenamed, ServiceRenamed, ModuleRenamed:
		return fmt.Sprintf("keep the name %s", f.Old)
	case MessageGone, EnumGone, ErrorGone, ConstGone, ServiceGone, ModuleGone:
		return "keep it as long as code uses it"
	}
	return ""
}

// callLine is the line that declares a call.
func callLine(c *schema.Call, suffix, path string) string {
	side := func(m *schema.Message, stream bool) string {
		if m == nil {
			return ""
		}
		name := (&schema.Type{Kind: schema.KindMessage, Message: m}).Local(c.Service.Module)
		return map[bool]string{true: "stream "}[stream] + name
	}
	answer := cmp.Or(side(c.Response, c.ResponseStream), "()")
	return strings.TrimSpace(fmt.Sprintf("call %s%s(%s) -> %s %s", c.Name, suffix, side(c.Request, c.RequestStream), answer, path))
}

// keepName is the mend of another name, which matters to code, and to JSON unless
// the name there has stayed.
func keepName(name, now, jsonOld, jsonNew string) string {
	if jsonOld == jsonNew {
		return fmt.Sprintf("keep the name %s as long as code uses it", name)
	}
	return fmt.Sprintf("keep the name %s, or at least its name in JSON: %s json %q", name, now, jsonOld)
}

func orNone(bounds string) string {
	if bounds == "" {
		return "none"
	}
	return bounds
}

// free is a number that no field of a message has or had.
func free(m *schema.Message) int {
	n := 1
	for _, f := range m.Fields {
		n = max(n, f.Number+1)
	}
	for _, r := range m.Retired {
		n = max(n, r.Number+1)
	}
	return n
}
