package compare

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"pgregory.net/rapid"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/value"
)

var (
	changes = flag.Int("changes", 3000, "how many random changes the truth tests try")
	seed    = flag.String("seed", "20260715", "what random changes are drawn by")
)

func TestMain(m *testing.M) {
	flag.Parse()
	if testing.Short() {
		*changes = min(*changes, 300)
	}
	flag.Set("rapid.checks", fmt.Sprint(*changes))
	flag.Set("rapid.seed", *seed)
	os.Exit(m.Run())
}

// model is definitions that can be changed at random and written as text.
type model struct {
	enums    []modelEnum
	types    []modelField // number is not used
	unions   []modelUnion
	messages []modelMessage
	request  int
	answer   int
}

type modelEnum struct {
	name    string
	members []modelMember
}

type modelUnion struct {
	name         string
	alternatives []modelField
}

type modelMember struct {
	number int
	name   string
	json   string
}

type modelMessage struct {
	name   string
	fields []modelField
}

type modelField struct {
	number   int
	name     string
	typ      string
	presence string // "", "?" or a default such as " = 1"
	bounds   string // "" or such as " where 1..5"
	json     string // "" or such as ` json "fareLevel"`
}

func (m model) clone() model {
	m.enums, m.messages = slices.Clone(m.enums), slices.Clone(m.messages)
	m.types, m.unions = slices.Clone(m.types), slices.Clone(m.unions)
	for i := range m.unions {
		m.unions[i].alternatives = slices.Clone(m.unions[i].alternatives)
	}
	for i := range m.enums {
		m.enums[i].members = slices.Clone(m.enums[i].members)
	}
	for i := range m.messages {
		m.messages[i].fields = slices.Clone(m.messages[i].fields)
	}
	return m
}

func (m model) text() string {
	var b strings.Builder
	b.WriteString("module skerry.truth\n")
	for _, e := range m.enums {
		fmt.Fprintf(&b, "enum %s {\n", e.name)
		for _, x := range e.members {
			fmt.Fprintf(&b, "  #%d %s%s\n", x.number, x.name, x.json)
		}
		b.WriteString("}\n")
	}
	for _, x := range m.types {
		fmt.Fprintf(&b, "type %s = %s%s\n", x.name, x.typ, x.bounds)
	}
	for _, u := range m.unions {
		fmt.Fprintf(&b, "union %s {\n", u.name)
		for _, a := range u.alternatives {
			fmt.Fprintf(&b, "  #%d %s %s%s\n", a.number, a.name, a.typ, a.json)
		}
		b.WriteString("}\n")
	}
	for _, x := range m.messages {
		fmt.Fprintf(&b, "message %s {\n", x.name)
		for _, f := range x.fields {
			fmt.Fprintf(&b, "  #%d %s %s%s%s%s\n", f.number, f.name, f.typ, f.presence, f.bounds, f.json)
		}
		b.WriteString("}\n")
	}
	fmt.Fprintf(&b, "service Truth {\n  call tell(%s) -> %s\n}\n", m.messages[m.request].name, m.messages[m.answer].name)
	return b.String()
}

var memberNames = []string{"open", "car", "saloon", "cargo"}

var fieldNames = []string{"id", "seats", "deck", "fare", "plate"}

func drawModel(t *rapid.T) model {
	var m model
	for i := range rapid.IntRange(1, 2).Draw(t, "enums") {
		e := modelEnum{name: fmt.Sprintf("Enum%d", i)}
		for n := range rapid.IntRange(1, 3).Draw(t, "members") {
			e.members = append(e.members, modelMember{n, memberNames[n], ""})
		}
		m.enums = append(m.enums, e)
	}
	count := rapid.IntRange(2, 4).Draw(t, "messages")
	for i := range count {
		m.messages = append(m.messages, modelMessage{name: fmt.Sprintf("Message%d", i)})
	}
	for i := range rapid.IntRange(0, 2).Draw(t, "types") {
		typ := drawBase(t)
		m.types = append(m.types, modelField{name: fmt.Sprintf("Type%d", i), typ: typ, bounds: drawBounds(t, typ)})
	}
	for i := range rapid.IntRange(0, 2).Draw(t, "unions") {
		u := modelUnion{name: fmt.Sprintf("Union%d", i)}
		for n := range rapid.IntRange(1, 3).Draw(t, "alternatives") {
			u.alternatives = append(u.alternatives, modelField{number: n + 1, name: fieldNames[n], typ: drawType(t, m)})
		}
		m.unions = append(m.unions, u)
	}
	for i := range m.messages {
		for n := range rapid.IntRange(0, 4).Draw(t, "fields") {
			typ := drawType(t, m)
			m.messages[i].fields = append(m.messages[i].fields, modelField{n + 1, fieldNames[n], typ, drawPresence(t, m, typ), drawBounds(t, typ), ""})
		}
	}
	m.request = rapid.IntRange(0, count-1).Draw(t, "request")
	m.answer = rapid.IntRange(0, count-1).Draw(t, "answer")
	return m
}

// literals are some values of each scalar, as definitions write them; what is not here
// can have no default and no range.
var literals = map[schema.Kind][]string{
	schema.KindBool: {"true", "false"}, schema.KindFloat32: {"0", "1.5", "1", "2.5"}, schema.KindFloat64: {"0", "1.5", "1", "0.1"}, schema.KindDecimal: {"0", `"1.50"`, `"1.5"`, "1"},
	schema.KindText: {`""`, `"a"`}, schema.KindBytes: {`""`, `"AA"`}, schema.KindUUID: {`"6f0c0000-0000-0000-0000-000000000001"`},
	schema.KindInstant: {`"2026-07-15T09:30:00Z"`, `"2026-07-15T09:30:00.5Z"`, `"2026-07-15T09:30:01Z"`}, schema.KindDate: {`"2026-07-15"`, `"2026-07-16"`}, schema.KindDuration: {`"PT0S"`, `"PT1.5S"`, `"PT1H"`},
}

func literalsOf(k schema.Kind) []string {
	if k.IsInteger() {
		return []string{"0", "1", "5", "7", "9", "100"}
	}
	return literals[k]
}

func scalarNamed(word string) schema.Kind {
	for _, s := range schema.Scalars {
		if s.Word == word {
			return s.Kind
		}
	}
	return schema.KindInvalid
}

func drawType(t *rapid.T, m model) string {
	var types, keys []string
	for _, s := range schema.Scalars {
		types = append(types, s.Word)
		if s.Kind == schema.KindText || s.Kind.IsInteger() {
			keys = append(keys, s.Word)
		}
	}
	for _, e := range m.enums {
		types, keys = append(types, e.name, e.name), append(keys, e.name)
	}
	for _, x := range m.messages {
		types = append(types, x.name, x.name)
	}
	for _, x := range m.types {
		types = append(types, x.name, x.name, x.name)
		if k := scalarNamed(x.typ); k == schema.KindText || k.IsInteger() {
			keys = append(keys, x.name)
		}
	}
	for _, u := range m.unions {
		types = append(types, u.name, u.name, u.name)
	}
	typ := rapid.SampledFrom(types).Draw(t, "type")
	switch rapid.IntRange(0, 7).Draw(t, "form") {
	case 0:
		return "[" + typ + "]"
	case 1, 2:
		return "{" + rapid.SampledFrom(keys).Draw(t, "key") + ": " + typ + "}"
	case 3:
		return "[[" + typ + "]]"
	}
	return typ
}

// drawBase draws what a named type may be over.
func drawBase(t *rapid.T) string {
	bases := []string{"text", "text", "[text]", "{text: int32}", "[uint8]", "{int8: bool}", "[uuid]"}
	for _, s := range schema.Scalars {
		bases = append(bases, s.Word)
	}
	return rapid.SampledFrom(bases).Draw(t, "base")
}

func drawPresence(t *rapid.T, m model, typ string) string {
	switch rapid.IntRange(0, 3).Draw(t, "presence") {
	case 0:
		return "?"
	case 1:
		l := literalsOf(scalarNamed(typ))
		for _, e := range m.enums {
			for _, x := range e.members {
				if e.name == typ {
					l = append(l, x.name)
				}
			}
		}
		if l != nil {
			return " = " + rapid.SampledFrom(l).Draw(t, "default")
		}
	}
	return ""
}

// drawBounds draws bounds that a type may have, mostly none.
func drawBounds(t *rapid.T, typ string) string {
	var some []string
	switch k := scalarNamed(typ); {
	case strings.HasPrefix(typ, "["):
		some = []string{"count 1..2", "count <= 3", "count >= 1", "unique", "count <= 2, unique", "count 0..0", "count 2..9, unique"}
	case strings.HasPrefix(typ, "{"):
		some = []string{"count 1..2", "count <= 3", "count >= 1", "count <= 1"}
	case typ == "bytes":
		some = []string{"length 1..3", "length 2..9", "length <= 1", "length 3..3"}
	case typ == "text":
		some = []string{"length 1..3", "length 2..9", "length <= 1", `pattern "^[a-c]+$"`, `pattern "^[a-d]*$"`, `pattern "b", length 1..3`, `pattern "^[0-9]+$"`, `pattern "^[ab]$"`, `pattern "^(open|car)$"`, `pattern "^[A-Za-z]{4}$"`}
	case k == schema.KindBool || k == schema.KindUUID || k == schema.KindInvalid || k == schema.KindAny:
		return ""
	default:
		l := literalsOf(k)
		low, high := rapid.SampledFrom(l).Draw(t, "low"), rapid.SampledFrom(l).Draw(t, "high")
		some = []string{low + ".." + high, ">= " + low, "<= " + high, low + ".." + low}
	}
	if rapid.IntRange(0, 2).Draw(t, "bounded") > 0 {
		return ""
	}
	return " where " + rapid.SampledFrom(some).Draw(t, "bounds")
}

func drawJSON(t *rapid.T) string {
	return rapid.SampledFrom([]string{"", ` json "seats"`, ` json "open"`, ` json "other"`}).Draw(t, "json")
}

// change changes a model in one way; some changes make no sense and are
// refused by the front end, which the test then skips.
func change(t *rapid.T, m model) model {
	m = m.clone()
	e := &m.enums[rapid.IntRange(0, len(m.enums)-1).Draw(t, "enum")]
	x := &m.messages[rapid.IntRange(0, len(m.messages)-1).Draw(t, "message")]
	kind := rapid.IntRange(0, 24).Draw(t, "change")
	switch {
	case kind >= 18 && kind <= 20 && len(m.types) > 0:
		changeType(t, m, &m.types[rapid.IntRange(0, len(m.types)-1).Draw(t, "type")], kind)
		return m
	case kind >= 21 && len(m.unions) > 0:
		changeUnion(t, m, &m.unions[rapid.IntRange(0, len(m.unions)-1).Draw(t, "union")], kind)
		return m
	}
	if kind >= 10 && kind <= 14 || len(x.fields) == 0 {
		changeEnum(t, e, kind)
	}
	if len(x.fields) == 0 {
		return m
	}
	f := &x.fields[rapid.IntRange(0, len(x.fields)-1).Draw(t, "field")]
	switch kind {
	case 0, 1:
		typ := drawType(t, m)
		x.fields = append(x.fields, modelField{rapid.IntRange(1, 9).Draw(t, "number"), rapid.SampledFrom(fieldNames).Draw(t, "name"), typ, drawPresence(t, m, typ), drawBounds(t, typ), ""})
	case 2:
		x.fields = slices.DeleteFunc(x.fields, func(g modelField) bool { return g == *f })
	case 3:
		f.name = rapid.SampledFrom(fieldNames).Draw(t, "name")
	case 4:
		f.number = rapid.IntRange(1, 9).Draw(t, "number")
	case 5, 6:
		f.typ = drawType(t, m)
		f.bounds = drawBounds(t, f.typ)
		f.presence = drawPresence(t, m, f.typ)
	case 7:
		f.presence = drawPresence(t, m, f.typ)
	case 8:
		g := &x.fields[rapid.IntRange(0, len(x.fields)-1).Draw(t, "other")]
		f.number, g.number = g.number, f.number
	case 15, 16:
		f.bounds = drawBounds(t, f.typ)
	case 17:
		f.json = drawJSON(t)
	case 9:
		m.request = rapid.IntRange(0, len(m.messages)-1).Draw(t, "request")
	}
	return m
}

func changeType(t *rapid.T, m model, x *modelField, kind int) {
	switch kind {
	case 18:
		x.bounds = drawBounds(t, x.typ)
	case 19:
		x.typ = drawBase(t)
		x.bounds = drawBounds(t, x.typ)
	case 20: // taken away: what it was over stands where it stood
		for i := range m.messages {
			for j := range m.messages[i].fields {
				if f := &m.messages[i].fields[j]; f.typ == x.name {
					f.typ, f.bounds, f.presence = x.typ, x.bounds, strings.TrimLeft(f.presence, " =")
				}
			}
		}
	}
}

func changeUnion(t *rapid.T, m model, u *modelUnion, kind int) {
	if len(u.alternatives) == 0 {
		return
	}
	a := &u.alternatives[rapid.IntRange(0, len(u.alternatives)-1).Draw(t, "alternative")]
	switch kind {
	case 21:
		u.alternatives = append(u.alternatives, modelField{number: rapid.IntRange(1, 6).Draw(t, "number"), name: rapid.SampledFrom(fieldNames).Draw(t, "name"), typ: drawType(t, m)})
	case 22:
		u.alternatives = slices.DeleteFunc(u.alternatives, func(b modelField) bool { return b == *a })
	case 23:
		a.typ = drawType(t, m)
	case 24:
		switch rapid.IntRange(0, 2).Draw(t, "what") {
		case 0:
			a.name = rapid.SampledFrom(fieldNames).Draw(t, "name")
		case 1:
			a.number = rapid.IntRange(1, 6).Draw(t, "number")
		case 2:
			a.json = drawJSON(t)
		}
	}
}

func changeEnum(t *rapid.T, e *modelEnum, kind int) {
	if len(e.members) == 0 {
		return
	}
	x := &e.members[rapid.IntRange(0, len(e.members)-1).Draw(t, "member")]
	switch kind {
	case 10:
		e.members = append(e.members, modelMember{rapid.IntRange(0, 5).Draw(t, "number"), rapid.SampledFrom(memberNames).Draw(t, "name"), ""})
	case 11:
		e.members = slices.DeleteFunc(e.members, func(y modelMember) bool { return y == *x })
	case 12:
		x.name = rapid.SampledFrom(memberNames).Draw(t, "name")
	case 14:
		x.json = drawJSON(t)
	case 13:
		x.number = rapid.IntRange(0, 5).Draw(t, "number")
	}
}

func load(t interface{ Skip(...any) }, text string) *schema.Definitions {
	defs, findings := schema.Load([]*source.File{source.NewFile("truth.faithful", text)})
	if source.Errors(findings) > 0 {
		t.Skip()
	}
	return defs
}

// TestWireTruth holds verdicts against what the reference reader really does
// with lawful payloads: one that is refused or read otherwise while nothing is
// said to break fails, and so does a break without a witness.
func TestWireTruth(t *testing.T) {
	seen := map[Verdict]int{}
	rapid.Check(t, func(t *rapid.T) {
		before := drawModel(t)
		after := before
		for range rapid.IntRange(1, 3).Draw(t, "changes") {
			after = change(t, after)
		}
		old, new := load(t, before.text()), load(t, after.text())
		report := Compare(old, new, Promise{Rollout: "unordered", Kept: "each-reads-other", Forms: []string{"binary", "json"}})
		worst := map[crossing]Verdict{}
		for _, f := range report.Facts {
			for _, e := range f.Effects {
				if e.Form != "binary" && e.Form != "json" || f.Kind == Freed {
					continue
				}
				if e.Verdict == Breaks && e.Witness == nil {
					t.Fatalf("no witness: %s %s %s %s\n%s\nOLD %s\nNEW %s", f.Kind, f.Where, e.Form, e.Position, e.Sentence, before.text(), after.text())
				}
				c := crossing{e.NewReads, e.Form, e.Form, e.Position}
				worst[c] = max(worst[c], e.Verdict)
			}
		}
		rng := rand.New(rand.NewPCG(1, uint64(len(before.text()))))
		for _, c := range crossings {
			verdict := worst[c]
			seen[verdict]++
			if verdict == Breaks {
				continue // its witness was made by the reader itself
			}
			if w := anyWorse(rng, old, new, c, verdict); w != nil {
				t.Fatalf("%v says %s, and %s %s:\n%s\n%x\nOLD %s\nNEW %s", c, verdict, w.Reader, w.Outcome, w.JSON, w.Binary, before.text(), after.text())
			}
		}
	})
	t.Logf("verdicts by form, position and direction: %d hold, %d shift, %d break", seen[Holds], seen[Shifts], seen[Breaks])
	if seen[Breaks] == 0 || seen[Shifts] == 0 || seen[Holds] == 0 {
		t.Fatal("the random changes did not reach every verdict")
	}
}

// crossings are all ways from a writer to a reader.
var crossings = func() (all []crossing) {
	for _, newReads := range []bool{true, false} {
		for _, form := range []string{"binary", "json"} {
			for _, p := range []Position{Request, Answer, Kept} {
				all = append(all, crossing{newReads, form, form, p})
			}
		}
	}
	return all
}()

// anyWorse tries lawful payloads of every message in a position, and returns one of
// which the reader makes something worse than was said.
func anyWorse(rng *rand.Rand, old, new *schema.Definitions, c crossing, said Verdict) *Witness {
	d := diff(old, new, nil)
	type root struct{ old, new *schema.Message }
	var roots []root
	call := d.calls[0]
	switch c.position {
	case Request:
		roots = []root{{call.old.Request, call.new.Request}}
	case Answer:
		roots = []root{{call.old.Response, call.new.Response}}
	case Kept:
		for _, m := range old.Modules[0].Messages {
			if n := d.messages[m]; n != nil && !reaches(call.old.Request, m) && !reaches(call.old.Response, m) {
				roots = append(roots, root{m, n})
			}
		}
	}
	for _, r := range roots {
		w, reader := r.old, r.new
		if !c.newReads {
			w, reader = r.new, r.old
		}
		walk := newWalker(d, c)
		try := func(m *value.Message) *Witness {
			o := walk.read(reader, m)
			if o.verdict <= said {
				return nil
			}
			payload, _ := value.EncodeCBOR(m)
			text, _ := value.EncodeJSON(m)
			return &Witness{Reader: walk.reader(), Outcome: o.says(o.path), JSON: string(text), Binary: payload}
		}
		payloads := value.Edges(&schema.Type{Kind: schema.KindMessage, Message: w})
		for _, p := range d.pairs(r.old, r.new) {
			fw, fr := p.old, p.new
			if !c.newReads {
				fw, fr = fr, fw
			}
			if fw == nil || fr == nil {
				continue
			}
			examples, _ := walk.candidates(spot{wt: fw.Type, rt: fr.Type, wb: fw.Bounds, rb: fr.Bounds}, 0)
			for _, e := range examples {
				m := value.MinimalMessage(w)
				m.Fields[fw.Number] = e.value
				payloads = append(payloads, m)
			}
		}
		for range 40 {
			payloads = append(payloads, value.RandomMessage(rng, w, 3))
		}
		for seed := range uint64(4) {
			if m, err := value.NewMaker(&schema.Definitions{}, seed).Make(w); err == nil {
				payloads = append(payloads, m)
			}
		}
		for _, p := range payloads {
			m := p.(*value.Message)
			if len(value.Validate(m)) > 0 {
				continue // not lawful
			}
			if witness := try(m); witness != nil {
				return witness
			}
			if !c.leftOut() {
				continue
			}
			for _, f := range w.Fields {
				if f.Presence == schema.Defaulted && rng.IntN(2) == 0 {
					delete(m.Fields, f.Number)
				}
			}
			if witness := try(m); witness != nil {
				return witness
			}
			if said == Holds {
				if witness := leftOutOtherwise(walk, reader, m); witness != nil {
					return witness
				}
			}
		}
	}
	return nil
}

// leftOutOtherwise reads a payload in which something is left out as its writer's own
// reader does, too: what that finds there, the other one must find.
func leftOutOtherwise(walk *walker, reader *schema.Message, m *value.Message) *Witness {
	own, err := walk.through(m.Type, m)
	if err != nil || own == nil {
		return nil
	}
	got, err := walk.through(reader, m)
	if err != nil || got == nil {
		return nil
	}
	d := walk.messageDiffers(own, got)
	if d.verdict == Holds {
		return nil
	}
	text, _ := value.EncodeJSONWithout(m)
	return &Witness{Reader: walk.reader(), Outcome: "what was left out: " + d.says(d.path), JSON: string(text)}
}

func reaches(from, to *schema.Message) bool {
	seen := map[*schema.Message]bool{}
	var visit func(m *schema.Message) bool
	var typ func(t *schema.Type) bool
	typ = func(t *schema.Type) bool {
		switch t.Kind {
		case schema.KindList, schema.KindMap:
			return typ(t.Elem)
		case schema.KindUnion:
			return slices.ContainsFunc(t.Union.Alternatives, func(a *schema.Alternative) bool { return typ(a.Type) })
		case schema.KindMessage:
			return visit(t.Message)
		}
		return false
	}
	visit = func(m *schema.Message) bool {
		if m == to {
			return true
		}
		if seen[m] {
			return false
		}
		seen[m] = true
		return slices.ContainsFunc(m.Fields, func(f *schema.Field) bool { return typ(f.Type) })
	}
	return visit(from)
}
