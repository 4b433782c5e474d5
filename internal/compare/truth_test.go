package compare

import (
	"flag"
	"fmt"
	"math/big"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"pgregory.net/rapid"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/value"
)

var (
	changes = flag.Int("changes", 500, "how many random changes the truth tests try")
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
			m.messages[i].fields = append(m.messages[i].fields,
				modelField{n + 1, fieldNames[n], typ, drawPresence(t, m, typ), drawBounds(t, typ), ""})
		}
	}
	m.request = rapid.IntRange(0, count-1).Draw(t, "request")
	m.answer = rapid.IntRange(0, count-1).Draw(t, "answer")
	return m
}

// literals are some values of each scalar, as definitions write them; what is not here
// can have no default and no range.
var literals = map[schema.Kind][]string{
	schema.KindBool: {"true", "false"}, schema.KindFloat32: {"0", "1.5", "1", "2.5"},
	schema.KindFloat64: {"0", "1.5", "1", "0.1"}, schema.KindDecimal: {"0", `"1.50"`, `"1.5"`, "1"},
	schema.KindText: {`""`, `"a"`}, schema.KindBytes: {`""`, `"AA"`},
	schema.KindUUID:    {`"6f0c0000-0000-0000-0000-000000000001"`},
	schema.KindInstant: {`"2026-07-15T09:30:00Z"`, `"2026-07-15T09:30:00.5Z"`, `"2026-07-15T09:30:01Z"`},
	schema.KindDate:    {`"2026-07-15"`, `"2026-07-16"`}, schema.KindDuration: {`"PT0S"`, `"PT1.5S"`, `"PT1H"`},
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
		types = append(types, x.name, x.name, "patch "+x.name, "patch "+x.name)
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
	switch rapid.IntRange(0, 7).Draw(t, "encoding") {
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
		some = []string{"count 1..2", "count <= 3", "count >= 1", "unique", "count <= 2, unique", "count 0..0",
			"count 2..9, unique"}
	case strings.HasPrefix(typ, "{"):
		some = []string{"count 1..2", "count <= 3", "count >= 1", "count <= 1"}
	case typ == "bytes":
		some = []string{"length 1..3", "length 2..9", "length <= 1", "length 3..3"}
	case typ == "text":
		some = []string{"length 1..3", "length 2..9", "length <= 1", `pattern "^[a-c]+$"`, `pattern "^[a-d]*$"`,
			`pattern "b", length 1..3`, `pattern "^[0-9]+$"`, `pattern "^[ab]$"`, `pattern "^(open|car)$"`,
			`pattern "^[A-Za-z]{4}$"`}
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
func changeModel(t *rapid.T, m model) model {
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
		x.fields = append(x.fields, modelField{rapid.IntRange(1, 9).Draw(t, "number"),
			rapid.SampledFrom(fieldNames).Draw(t, "name"), typ, drawPresence(t, m, typ), drawBounds(t, typ), ""})
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
		u.alternatives = append(u.alternatives, modelField{number: rapid.IntRange(1, 6).Draw(t, "number"),
			name: rapid.SampledFrom(fieldNames).Draw(t, "name"), typ: drawType(t, m)})
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
		e.members = append(e.members, modelMember{rapid.IntRange(0, 5).Draw(t, "number"),
			rapid.SampledFrom(memberNames).Draw(t, "name"), ""})
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
	defs, findings := check.Load([]*source.File{source.NewFile("truth.faithful", text)})
	if source.Errors(findings) > 0 {
		t.Skip()
	}
	return defs
}

// TestWireTruth holds verdicts against what the reference reader really does
// with lawful payloads: one that is refused or read otherwise while nothing is
// said to break fails, and so does a break without a proof.
func TestWireTruth(t *testing.T) {
	seen := map[verdict.Verdict]int{}
	rapid.Check(t, func(t *rapid.T) {
		before := drawModel(t)
		after := before
		for range rapid.IntRange(1, 3).Draw(t, "changes") {
			after = changeModel(t, after)
		}
		old, new := load(t, before.text()), load(t, after.text())
		report := Compare(old, new, Promise{Rollout: "unordered", Stored: "each-reads-other",
			Covers: []string{"binary", "json"}})
		worst := map[way]verdict.Verdict{}
		for _, f := range report.Changes {
			for _, e := range f.Effects {
				if e.Covers != "binary" && e.Covers != "json" || f.Kind == change.Freed {
					continue
				}
				if e.Verdict == verdict.Breaking && e.Proof == nil {
					t.Fatalf("no proof: %s %s %s %s\n%s\nOLD %s\nNEW %s", f.Kind, f.Where, e.Covers, e.Position, e.Sentence,
						before.text(), after.text())
				}
				w := way{e.NewReads, e.Covers, e.Position}
				worst[w] = max(worst[w], e.Verdict)
			}
		}
		rng := rand.New(rand.NewPCG(1, uint64(len(before.text()))))
		set := change.Find(old, new, nil)
		for _, w := range ways {
			said := worst[w]
			seen[said]++
			if said == verdict.Breaking {
				continue // its proof was made by the reader itself
			}
			if worse := anyWorse(rng, set, w, said); worse != "" {
				t.Fatalf("%v is said to be %s, and the reader %s\nOLD %s\nNEW %s", w, said, worse, before.text(), after.text())
			}
		}
	})
	t.Logf("verdicts by encoding, position and direction: %d compatible, %d altering, %d breaking",
		seen[verdict.Compatible],
		seen[verdict.Altering], seen[verdict.Breaking])
	if seen[verdict.Breaking] == 0 || seen[verdict.Altering] == 0 || seen[verdict.Compatible] == 0 {
		t.Fatal("the random changes did not reach every verdict")
	}
}

// ways are all of them.
var ways = func() (all []way) {
	for _, newReads := range []bool{true, false} {
		for _, encoding := range []string{"binary", "json"} {
			for _, p := range []verdict.Position{verdict.Request, verdict.Answer, verdict.Stored} {
				all = append(all, way{newReads, encoding, p})
			}
		}
	}
	return all
}()

// way is one way of payloads from a writer to a reader.
type way struct {
	newReads bool
	encoding string
	position verdict.Position
}

// leftOut tells whether people write such payloads by hand, without what has a default.
func (w way) leftOut() bool { return w.position != verdict.Answer }

// worse writes a payload, reads it as the other side and as the writer's own does, and says
// what is worse than was said.
func (w way) worse(set *change.Set, reader *schema.Message, m *value.Message, said verdict.Verdict) string {
	write, read := value.EncodeCBOR, value.DecodeCBOR
	if w.leftOut() {
		write = value.EncodeCBORWithout
	}
	if w.encoding == "json" {
		write, read = value.EncodeJSON, value.DecodeJSON
		if w.leftOut() {
			write = value.EncodeJSONWithout
		}
	}
	payload, err := write(m)
	if err != nil {
		return "" // it can't be written in this encoding
	}
	own, err := read(m.Type, payload, 0)
	if err != nil {
		return "its writer's own reader refuses it: " + err.Error()
	}
	got, err := read(reader, payload, 0)
	v, where := verdict.Breaking, ""
	if err != nil {
		where = "refuses it: " + err.Error()
	} else if violations := value.Validate(got); w.position == verdict.Request && len(violations) > 0 {
		where = fmt.Sprint("refuses it: ", violations[0])
	} else if v, where = (oracle{set, w.newReads}).message(m, own, got); v > verdict.Compatible {
		text, _ := value.EncodeJSON(got)
		where = fmt.Sprintf("reads %s otherwise: %s", where, text)
	}
	if v <= said {
		return ""
	}
	text, _ := value.EncodeJSONWithout(m)
	return fmt.Sprintf("%s\nof %s\n%x", where, text, payload)
}

// anyWorse tries lawful payloads of every message in a position, and says which one is
// refused or read worse than was said; "" for none.
func anyWorse(rng *rand.Rand, set *change.Set, w way, said verdict.Verdict) string {
	type root struct{ old, new *schema.Message }
	var roots []root
	call := set.Calls[0]
	switch w.position {
	case verdict.Request:
		roots = []root{{call.Old.Request, call.New.Request}}
	case verdict.Answer:
		roots = []root{{call.Old.Response, call.New.Response}}
	case verdict.Stored:
		for _, m := range set.Old.Modules[0].Messages {
			if n := set.Messages[m]; n != nil && !reaches(call.Old.Request, m) && !reaches(call.Old.Response, m) {
				roots = append(roots, root{m, n})
			}
		}
	}
	for _, r := range roots {
		writer, reader := r.old, r.new
		if !w.newReads {
			writer, reader = r.new, r.old
		}
		for _, m := range lawful(rng, set, writer, reader, w.newReads) {
			if worse := w.worse(set, reader, m, said); worse != "" {
				return worse
			}
			if !w.leftOut() {
				continue
			}
			for _, f := range writer.Fields {
				if f.Presence == schema.Defaulted && rng.IntN(2) == 0 {
					delete(m.Fields, f.Number)
				}
			}
			if worse := w.worse(set, reader, m, said); worse != "" {
				return worse
			}
		}
	}
	return ""
}

// lawful makes many lawful values of a writer, at its edges and at those of the reader.
func lawful(rng *rand.Rand, set *change.Set, writer, reader *schema.Message, newReads bool) (list []*value.Message) {
	var payloads []value.Value
	payloads = append(payloads, value.Edges(&schema.Type{Kind: schema.KindMessage, Message: writer})...)
	for _, p := range (oracle{set, newReads}).sides(writer, reader) {
		if p.Old == nil || p.New == nil {
			continue
		}
		for _, v := range telling(p.Old, p.New) {
			m := value.MinimalMessage(writer)
			m.Fields[p.Old.Number] = v
			payloads = append(payloads, m)
		}
	}
	for range 40 {
		payloads = append(payloads, value.RandomMessage(rng, writer, 3))
	}
	for seed := range uint64(4) {
		if m, err := value.NewMaker(&schema.Definitions{}, seed).Make(writer); err == nil {
			payloads = append(payloads, m)
		}
	}
	for _, p := range payloads {
		if m := p.(*value.Message); len(value.Validate(m)) == 0 && !holdsUnlisted(m) {
			list = append(list, m)
		}
	}
	return list
}

// holdsUnlisted tells whether there is a field in a value that its own definitions lack:
// no writer makes such a value.
func holdsUnlisted(v value.Value) bool {
	switch v := v.(type) {
	case *value.Message:
		if len(v.Unlisted) > 0 {
			return true
		}
		for _, field := range v.Fields {
			if holdsUnlisted(field) {
				return true
			}
		}
	case *value.Union:
		return holdsUnlisted(v.Value)
	case value.List:
		return slices.ContainsFunc(v, holdsUnlisted)
	case *value.Map:
		return slices.ContainsFunc(v.Entries, func(e value.Entry) bool {
			return holdsUnlisted(e.Key) ||
				holdsUnlisted(e.Value)
		})
	}
	return false
}

// telling are values of a writer's field at which a reader's may differ: what is at the
// edges of the reader's type, and just beyond its bounds.
func telling(w, r *schema.Field) (list []value.Value) {
	for _, v := range append(value.Edges(r.Type), value.Distinct(r.Type, r.Bounds, 6)...) {
		if same, err := value.DecodeJSONValue(w.Type, []byte(thing{v, r.Type}.json()), 0); err == nil {
			list = append(list, same)
		}
	}
	list = append(list, value.Distinct(w.Type, w.Bounds, 12)...)
	bounds := func(f *schema.Field) (all []*schema.Bounds) {
		for _, b := range []*schema.Bounds{f.Bounds, namedBounds(f.Type)} {
			if b != nil {
				all = append(all, b)
			}
		}
		return all
	}
	for _, b := range bounds(r) {
		if w.Type.Kind == schema.KindText {
			if text, ok := value.MatchingText(bounds(w), b); ok {
				list = append(list, text)
			}
		}
	}
	if !w.Type.Kind.IsScalar() || !r.Type.Kind.IsScalar() {
		return list
	}
	for _, side := range []*schema.Field{w, r} {
		low, high := value.Ends(side.Type.Kind, bounds(side))
		for _, end := range []any{low, high} {
			number, ok := new(big.Rat).SetString(real(end))
			if end == nil || !ok {
				continue
			}
			for _, by := range []int64{-1, 0, 1} {
				text := new(big.Rat).Add(number, big.NewRat(by, 1)).RatString()
				if v, err := value.DecodeJSONValue(w.Type, []byte(text), 0); err == nil {
					list = append(list, v)
				}
			}
		}
	}
	return list
}

func namedBounds(t *schema.Type) *schema.Bounds {
	if t.Named == nil {
		return nil
	}
	return t.Named.Bounds
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
		if m.Declared() == to {
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
