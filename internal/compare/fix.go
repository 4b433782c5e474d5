package compare

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

// Fix says how to get the same end without a break: the lines to write, each of which
// was tried: with the edits that put them there the definitions are right, and the change
// breaks nothing.
type Fix struct {
	Says  string   // what the lines do
	Lines []string // as they stand then, without indentation
	Edits []source.Edit
}

// Fixes finds fixes for breaks of a report, as far as there are any, and puts them into
// its changes: for the first few of many, as trying each takes a comparison. files are
// those that NEW was loaded from; judge compares what files define.
func Fixes(report *Report, files []*source.File, most int, judge func(new *schema.Definitions) *Report) {
	fx := fixer{finder: finder{files: map[*source.File]*layout{}}, sources: files, report: report}
	for _, f := range report.Changes {
		if f.Verdict() != verdict.Breaking || f.Waiver != nil {
			continue
		}
		if most--; most < 0 {
			return
		}
		for _, draft := range fx.drafts(f) {
			if draft != nil && fx.holds(f, draft, judge) {
				f.Fix = draft
				break
			}
		}
	}
}

// fixer finds edits in the files of NEW.
type fixer struct {
	finder
	sources []*source.File
	report  *Report
}

// holds tries a fix: what it makes of the files is right, and the change no longer breaks.
func (fx fixer) holds(f *Change, draft *Fix, judge func(new *schema.Definitions) *Report) bool {
	for _, e := range draft.Edits {
		if e.Place.File == nil || !slices.Contains(fx.sources, e.Place.File) {
			return false
		}
	}
	defs, findings := check.Load(edited(fx.sources, draft.Edits))
	if source.Errors(findings) > 0 {
		return false
	}
	again := judge(defs)
	if breakingFacts(again) >= breakingFacts(fx.report) {
		return false
	}
	return !slices.ContainsFunc(again.Changes, func(g *Change) bool {
		return g.Verdict() == verdict.Breaking &&
			g.Kind == f.Kind && g.Where == f.Where
	})
}

func breakingFacts(r *Report) (n int) {
	for _, f := range r.Changes {
		if f.Verdict() == verdict.Breaking {
			n++
		}
	}
	return n
}

// drafts are the fixes of a change that are worth a try, the one that keeps most of what
// the change is for first.
func (fx fixer) drafts(f *Change) (list []*Fix) {
	e := entryOf(f.Kind)
	if e.edit != nil && f.Place.File != nil {
		if r, ok := e.edit(fx.finder, f); ok && r.ends {
			list = append(list, fx.lineOf(r.todo, r.edit))
		}
	}
	if e.fixes != nil {
		list = append(list, e.fixes(fx, f)...)
	}
	return list
}

func (fx fixer) fixField(f *Change) []*Fix {
	return []*Fix{fx.beside(f), fx.restored(f.Field.Old.Place, f.Field.New.Place), fx.exchanged(f)}
}

// fixItem is of a member or an alternative.
func (fx fixer) fixItem(f *Change) []*Fix {
	old, new := f.item()
	return []*Fix{fx.restored(old.place, new.place)}
}

func (fx fixer) fixAdded(f *Change) []*Fix {
	_, new := f.item()
	list := []*Fix{fx.removed(new.place)}
	if f.Field.New != nil {
		list = append([]*Fix{fx.withoutCount(f)}, list...)
	}
	return list
}

func (fx fixer) fixGone(f *Change) []*Fix {
	old, _ := f.item()
	return []*Fix{fx.kept(f, old)}
}

func (fx fixer) fixCallGone(f *Change) []*Fix { return []*Fix{fx.keptCall(f)} }

func (fx fixer) fixCall(f *Change) []*Fix { return []*Fix{fx.callBeside(f), fx.restoredCall(f.Call)} }

func (fx fixer) fixNeeds(f *Change) []*Fix { return append([]*Fix{fx.either(f)}, fx.fixCall(f)...) }

func (fx fixer) fixCallRenamed(f *Change) []*Fix {
	return []*Fix{fx.renamedBack(f.Call.Old.Name, f.Call.New.Place)}
}

func (fx fixer) fixCallAdded(f *Change) []*Fix { return []*Fix{fx.withoutPath(f)} }

// fixDeclaration is of what happened to a declaration as a whole.
func (fx fixer) fixDeclaration(f *Change) []*Fix {
	if f.NewDecl == nil {
		return []*Fix{fx.keptDeclaration(f)}
	}
	old, new := f.OldDecl.Head(), f.NewDecl.Head()
	switch {
	case old.Name != new.Name:
		return []*Fix{fx.renamedEverywhere(old.Name, new.Name)}
	case old.Module.Name != new.Module.Name:
		return nil
	}
	return []*Fix{fx.restoredDeclaration(f)}
}

// itemText is an item as it is written, and where.
func (fx fixer) itemText(place source.Place) (text string, span source.Span) {
	if place.File == nil {
		return "", span
	}
	it, known := fx.layout(place.File).items[place.Span]
	if !known || it.end <= it.start {
		return "", span
	}
	return place.File.Text[it.start:it.end], source.Span{Start: it.start, End: it.end}
}

// said writes a text of one file with the names that modules have in another one; what
// that does not use yet is used by the edits.
func (fx fixer) said(text string, from, to *source.File) (string, []source.Edit) {
	if from == nil || to == nil {
		return text, nil
	}
	var edits []source.Edit
	there, here := fx.layout(from), fx.layout(to)
	for _, module := range slices.Sorted(maps.Keys(there.uses)) {
		alias := there.uses[module]
		word := regexp.MustCompile(`\b` + regexp.QuoteMeta(alias) + `\.`)
		if !word.MatchString(text) {
			continue
		}
		now, known := here.uses[module]
		if !known {
			now = alias
			use := "use " + module
			if alias != module[strings.LastIndexByte(module, '.')+1:] {
				use += " as " + alias
			}
			edits = append(edits, source.Edit{Place: source.Place{File: to,
				Span: source.Span{Start: here.head, End: here.head}}, Text: lineBreak(to) + use})
		}
		text = word.ReplaceAllString(text, now+".")
	}
	return text, edits
}

// restored writes an item as OLD has it.
func (fx fixer) restored(old, new source.Place) *Fix {
	text, _ := fx.itemText(old)
	text, uses := fx.said(text, old.File, new.File)
	_, span := fx.itemText(new)
	if text == "" || span.End == 0 {
		return nil
	}
	return &Fix{Says: "leave it as it was", Lines: linesOf(text),
		Edits: append([]source.Edit{{Place: source.Place{File: new.File, Span: span}, Text: inFile(new.File, text)}},
			uses...)}
}

// exchanged gives all fields of a message that have another number or name theirs again:
// one alone would take what another one has.
func (fx fixer) exchanged(f *Change) *Fix {
	fix := &Fix{Says: "leave them as they were"}
	done := map[*schema.Field]bool{}
	for _, g := range fx.report.Changes {
		if (g.Kind != change.FieldRenumbered && g.Kind != change.FieldRenamed) ||
			g.Field.New.Message != f.Field.New.Message || done[g.Field.New] {
			continue
		}
		done[g.Field.New] = true
		one := fx.restored(g.Field.Old.Place, g.Field.New.Place)
		if one == nil {
			return nil
		}
		fix.Lines, fix.Edits = append(fix.Lines, one.Lines...), append(fix.Edits, one.Edits...)
	}
	if len(fix.Edits) < 2 {
		return nil
	}
	return fix
}

// beside writes a field as OLD has it, and the new one next to it, under a number and a
// name that are free.
func (fx fixer) beside(f *Change) *Fix {
	o, n := f.Field.Old, f.Field.New
	if f.Kind != change.FieldType || n.In != nil || o.Type.Kind == n.Type.Kind && n.Type.Named == nil &&
		o.Type.Named == nil && n.Type.Kind.IsScalar() {
		return nil
	}
	fix := fx.restored(o.Place, n.Place)
	number := free(n.Message)
	name := freeName(n.Name, func(name string) bool {
		return n.Message.ByName(name) != nil || slices.ContainsFunc(n.Message.Retired,
			func(r schema.Retired) bool { return r.Name == name }) ||
			slices.ContainsFunc(n.Message.Fields, func(x *schema.Field) bool { return x.JSONName() == name })
	})
	if fix == nil || number > 65535 {
		return nil
	}
	it := fx.layout(n.Place.File).items[n.Place.Span]
	_, span := fx.itemText(n.Place)
	typed := n.Place.File.Text[it.typ.Span.Start:it.typ.Span.End]
	more := fmt.Sprintf("#%d %s %s?", number, name, typed)
	if n.Bounds != nil {
		more += " " + n.Bounds.String()
	}
	fix.Says = "leave it as it was, and add the new one next to it"
	fix.Lines = append(fix.Lines, more)
	fix.Edits[0].Text += separator(n.Place.File, span) + more
	return fix
}

// separator is what stands between an item and one that is added after it: a line break,
// where the item has a line of its own.
func separator(file *source.File, span source.Span) string {
	start := strings.LastIndexByte(file.Text[:span.Start], '\n') + 1
	before := file.Text[start:span.Start]
	rest, _, _ := strings.Cut(file.Text[span.End:], "\n")
	if rest = strings.TrimSpace(rest); strings.TrimSpace(before) != "" || rest != "" && !strings.HasPrefix(rest, "//") {
		return " "
	}
	return lineBreak(file) + before
}

// inFile is a text with the line ends of a file.
func inFile(file *source.File, text string) string {
	return strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\n", lineBreak(file))
}

// linesOf are the lines of a text, all of them as they are written but for the indentation
// of the first.
func linesOf(text string) []string {
	return strings.Split(strings.ReplaceAll(strings.TrimSpace(text), "\r\n", "\n"), "\n")
}

// lineBreak is how lines of a file end.
func lineBreak(file *source.File) string {
	if strings.Contains(file.Text, "\r\n") {
		return "\r\n"
	}
	return "\n"
}

// freeName is a name with a number that nothing has yet.
func freeName(name string, taken func(string) bool) string {
	for i := 2; ; i++ {
		if next := fmt.Sprintf("%s_%d", name, i); !taken(next) {
			return next
		}
	}
}

// withoutCount lets a list that is added be empty: none of it is what older clients send.
func (fx fixer) withoutCount(f *Change) *Fix {
	n := f.Field.New
	it := fx.layout(n.Place.File).items[n.Place.Span]
	if n.Type.Kind != schema.KindList || n.Bounds == nil || it.where.End == 0 {
		return nil
	}
	bounds := *n.Bounds
	bounds.Count = &schema.Limits{High: schema.Unlimited}
	if n.Bounds.Count != nil {
		bounds.Count.High = n.Bounds.Count.High
	}
	if bounds.Count.High == schema.Unlimited {
		bounds.Count = nil
	}
	return fx.lineOf("let it be empty", source.Edit{Place: source.Place{File: n.Place.File, Span: it.where},
		Text: bounds.String()})
}

// removed takes an item away again.
func (fx fixer) removed(place source.Place) *Fix {
	text, span := fx.itemText(place)
	if text == "" {
		return nil
	}
	return &Fix{Says: "take it out until the other side knows it", Lines: nil,
		Edits: []source.Edit{source.RemoveLine(source.Place{File: place.File, Span: span})}}
}

// kept writes an item that is gone back, as OLD has it, instead of what retired it.
func (fx fixer) kept(f *Change, old item) *Fix {
	text, _ := fx.itemText(old.place)
	if text == "" || f.Missed.File == nil {
		return nil
	}
	h := fx.layout(f.Missed.File).decls[f.Missed.Span]
	text, uses := fx.said(text, old.place.File, f.Missed.File)
	text = inFile(f.Missed.File, text)
	fix := &Fix{Says: "keep it", Lines: linesOf(text)}
	for _, r := range h.retired {
		if r.Number.Value == old.number || r.Name.Text == old.name {
			span := source.Span{Start: r.Number.Span.Start, End: max(r.Number.Span.End, r.Name.Span.End)}
			if r.Number.Span.End == 0 {
				span.Start = r.Name.Span.Start
			}
			span.Start = uint32(strings.LastIndex(f.Missed.File.Text[:span.Start], "retired"))
			if len(fix.Edits) == 0 {
				fix.Edits = append(fix.Edits, source.Edit{Place: source.Place{File: f.Missed.File, Span: span}, Text: text})
			} else {
				fix.Edits = append(fix.Edits, source.RemoveLine(source.Place{File: f.Missed.File, Span: span}))
			}
			fix.Says = "keep it, in place of what retires it"
		}
	}
	if len(fix.Edits) > 0 {
		fix.Edits = append(fix.Edits, uses...)
		return fix
	}
	at := source.Place{File: f.Missed.File, Span: source.Span{Start: h.end, End: h.end}}
	switch {
	case h.end > 0:
		fix.Edits = []source.Edit{{Place: at, Text: separator(f.Missed.File,
			source.Span{Start: lineStart(f.Missed.File, h.end), End: h.end}) + text}}
	case h.open > 0:
		at.Span = source.Span{Start: h.open, End: h.open}
		fix.Edits = []source.Edit{{Place: at, Text: " " + text + " "}}
	default:
		return nil
	}
	fix.Edits = append(fix.Edits, uses...)
	return fix
}

// lineStart is where the first word of a line stands.
func lineStart(file *source.File, at uint32) uint32 {
	start := strings.LastIndexByte(file.Text[:at], '\n') + 1
	return uint32(start + len(file.Text[start:]) - len(strings.TrimLeft(file.Text[start:], " \t")))
}

// keptCall writes a call that is gone back into its service.
func (fx fixer) keptCall(f *Change) *Fix {
	old := f.Call.Old
	text, _ := fx.itemText(old.Place)
	text, aliases := fx.said(text, old.Place.File, f.Missed.File)
	if text != "" && fx.lacksNeeds(old, f.Missed.File, f.Missed.Span) {
		text += "\n    needs nothing"
	}
	if text == "" || f.Missed.File == nil {
		return nil
	}
	// What it uses may be gone with it.
	uses := ""
	for _, g := range fx.report.Changes {
		m, isMessage := g.OldDecl.(*schema.Message)
		if isMessage && (g.Kind == change.MessageGone || g.Kind == change.ErrorGone) &&
			(m == old.Request || m == old.Response || slices.Contains(old.Fails, m)) {
			uses += strings.TrimSpace(schema.Text(m)) + "\n"
		}
	}
	h, isService := fx.layout(f.Missed.File).decls[f.Missed.Span]
	if !isService { // the service is gone as well
		return fx.appended(f.Missed.File, "service "+old.Service.Name+" { "+text+" }\n"+uses, linesOf(text)...)
	}
	at := h.end
	if at == 0 {
		at = h.open
	}
	if at == 0 {
		return nil
	}
	fix := &Fix{Says: "keep the call as long as it is called", Lines: linesOf(text),
		Edits: []source.Edit{{Place: source.Place{File: f.Missed.File, Span: source.Span{Start: at, End: at}},
			Text: lineBreak(f.Missed.File) + "  " + inFile(f.Missed.File, text) + lineBreak(f.Missed.File)}}}
	fix.Edits = append(fix.Edits, aliases...)
	if uses != "" {
		more := fx.appended(f.Missed.File, uses, linesOf(uses)...)
		fix.Says, fix.Lines, fix.Edits = "keep the call as long as it is called, and what it uses",
			append(fix.Lines, more.Lines...), append(fix.Edits, more.Edits...)
	}
	return fix
}

// appended adds a declaration at the end of a file.
func (fx fixer) appended(file *source.File, text string, lines ...string) *Fix {
	end := uint32(len(file.Text))
	return &Fix{Says: "keep it as long as it is used", Lines: lines,
		Edits: []source.Edit{{Place: source.Place{File: file, Span: source.Span{Start: end, End: end}},
			Text: lineBreak(file) + inFile(file, text) + lineBreak(file)}}}
}

// keptDeclaration writes a declaration that is gone back.
func (fx fixer) keptDeclaration(f *Change) *Fix {
	if f.Missed.File == nil {
		return nil
	}
	text := strings.TrimSpace(schema.Text(f.OldDecl))
	return fx.appended(f.Missed.File, text, strings.Split(text, "\n")...)
}

// restoredDeclaration writes a declaration as OLD has it.
func (fx fixer) restoredDeclaration(f *Change) *Fix {
	new := f.NewDecl.Head()
	span, known := fx.layout(new.Place.File).whole[new.Place.Span]
	if !known {
		return nil
	}
	text := schema.PlainText(f.OldDecl)
	return &Fix{Says: "leave it as it was; for another one declare another name", Lines: []string{text},
		Edits: []source.Edit{{Place: source.Place{File: new.Place.File, Span: span}, Text: text}}}
}

// restoredCall writes a call as OLD has it.
func (fx fixer) restoredCall(c change.CallPair) *Fix {
	fix := fx.restored(c.Old.Place, c.New.Place)
	if fix != nil && fx.lacksNeeds(c.Old, c.New.Place.File, c.New.Service.Place.Span) {
		const clause = "    needs nothing"
		fix.Lines = append(fix.Lines, clause)
		fix.Edits[0].Text += lineBreak(c.New.Place.File) + clause
	}
	return fix
}

// lacksNeeds tells whether a call of OLD says nothing of credentials, where a service of
// NEW says something for all its calls.
func (fx fixer) lacksNeeds(old *schema.Call, file *source.File, service source.Span) bool {
	if old.Place.File == nil || file == nil {
		return false
	}
	it := fx.layout(old.Place.File).items[old.Place.Span]
	return it.needs.End == 0 && len(old.Needs) == 0 && fx.layout(file).decls[service].needs
}

// callBeside writes a call as OLD has it, and the new one next to it, under another name
// and, where it had the same one, another path.
func (fx fixer) callBeside(f *Change) *Fix {
	o, n := f.Call.Old, f.Call.New
	fix := fx.restoredCall(f.Call)
	text, span := fx.itemText(n.Place)
	if fix == nil {
		return nil
	}
	name := freeName(n.Name, func(name string) bool {
		return slices.ContainsFunc(n.Service.Calls, func(c *schema.Call) bool { return c.Name == name })
	})
	at := int(n.Place.Span.Start - span.Start)
	more := text[:at] + name + text[at+len(n.Name):]
	if n.HTTP != nil && conversation.Method(o) == conversation.Method(n) &&
		conversation.Pattern(o) == conversation.Pattern(n) {
		more = strings.Replace(more, `"`+n.HTTP.Path+`"`, `"`+n.HTTP.Path+`/2"`, 1)
	}
	fix.Says = "leave it as it was, and declare another call next to it"
	fix.Lines = append(fix.Lines, linesOf(more)...)
	fix.Edits[0].Text += separator(n.Place.File, span) + more
	return fix
}

// either takes the old credentials as well as the new ones.
func (fx fixer) either(f *Change) *Fix {
	it := fx.layout(f.Call.New.Place.File).items[f.Call.New.Place.Span]
	if it.needs.End == 0 {
		return nil
	}
	name := func(k *schema.Credential) string {
		if k.Module.Name == f.Call.New.Service.Module.Name {
			return k.Name
		}
		return k.Module.Name[strings.LastIndexByte(k.Module.Name, '.')+1:] + "." + k.Name
	}
	var list []string
	for _, alternatives := range [][][]*schema.Credential{f.Call.Old.Needs, f.Call.New.Needs} {
		if len(alternatives) == 0 {
			alternatives = [][]*schema.Credential{nil}
		}
		for _, a := range alternatives {
			var names []string
			for _, k := range a {
				names = append(names, name(k))
			}
			slices.Sort(names)
			text := strings.Join(names, " + ")
			if text == "" {
				text = "nothing"
			}
			if !slices.Contains(list, text) {
				list = append(list, text)
			}
		}
	}
	return fx.lineOf("take the old ones as well, until nobody shows them any more",
		source.Edit{Place: source.Place{File: f.Call.New.Place.File, Span: it.needs},
			Text: "needs " + strings.Join(list, " | ")})
}

// withoutPath gives a call that is added its default path.
func (fx fixer) withoutPath(f *Change) *Fix {
	it := fx.layout(f.Call.New.Place.File).items[f.Call.New.Place.Span]
	if it.http.End == 0 {
		return nil
	}
	fix := &Fix{Says: "leave out its http clause: its own path is nobody else's",
		Edits: []source.Edit{source.RemoveLine(source.Place{File: f.Call.New.Place.File, Span: it.http})}}
	return fix
}

// renamedBack gives an item its name again.
func (fx fixer) renamedBack(name string, place source.Place) *Fix {
	return fx.lineOf("keep its name", source.Edit{Place: place, Text: name})
}

// renamedEverywhere gives a declaration its name again, where it is declared and where
// it is used.
func (fx fixer) renamedEverywhere(old, new string) *Fix {
	fix := &Fix{Says: fmt.Sprintf("keep the name %q, here and wherever it is used", old)}
	word := regexp.MustCompile(`"(?:[^"\\\n]|\\.)*"|//[^\n]*|\b` + regexp.QuoteMeta(new) + `\b`)
	for _, file := range fx.sources {
		for _, at := range word.FindAllStringIndex(file.Text, -1) {
			if file.Text[at[0]:at[1]] == new {
				fix.Edits = append(fix.Edits, source.Edit{Place: source.Place{File: file,
					Span: source.Span{Start: uint32(at[0]), End: uint32(at[1])}}, Text: old})
			}
		}
	}
	return fix
}

// lineOf is a fix of one edit, with the item that it is in.
func (fx fixer) lineOf(says string, edit source.Edit) *Fix {
	file := edit.Place.File
	text, applied := source.Apply(file, []source.Edit{edit})
	if len(applied) == 0 {
		return nil
	}
	start := strings.LastIndexByte(text[:edit.Place.Span.Start], '\n') + 1
	end := int(edit.Place.Span.Start) + len(edit.Text)
	if i := strings.IndexByte(text[end:], '\n'); i >= 0 {
		end += i
	} else {
		end = len(text)
	}
	var lines []string
	for line := range strings.SplitSeq(text[start:end], "\n") {
		if line = strings.TrimSpace(line); line != "" { // the line end, too
			lines = append(lines, line)
		}
	}
	return &Fix{Says: says, Lines: lines, Edits: []source.Edit{edit}}
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
