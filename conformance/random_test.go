package conformance

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

var projects = flag.Int("projects", 12, "how many random projects of every feature are compiled")

// maker makes one random project: a module that others use, and one that uses it.
type maker struct {
	*rand.Rand
	b     strings.Builder
	alias string   // of the module that is used, with its dot; "" in that module itself
	types []string // what a field may be, besides scalars
	keys  []string // what a map may be keyed by
	enums map[string][]string
	path  string   // what its paths begin with
	names []string // awkward words, in the order of their use
}

func (m *maker) p(format string, args ...any) { fmt.Fprintf(&m.b, format+"\n", args...) }

func (m *maker) one(of ...string) string { return of[m.IntN(len(of))] }

// perhaps is one of these texts, and most often nothing.
func (m *maker) perhaps(of ...string) string {
	if m.IntN(3) > 0 {
		return ""
	}
	return m.one(of...)
}

// word is an awkward word that was not used yet in this project.
func (m *maker) word() string {
	word := m.names[0]
	m.names = append(m.names[1:], word)
	return word
}

func (m *maker) scalar() string { return schema.Scalars[m.IntN(len(schema.Scalars))].Word }

// typ is any type, up to three lists and maps deep.
func (m *maker) typ(depth int) string {
	switch n := m.IntN(8); {
	case n == 0 && depth < 3:
		return "[" + m.typ(depth+1) + "]"
	case n == 1 && depth < 3:
		return "{" + m.one(m.keys...) + ": " + m.typ(depth+1) + "}"
	case n < 5:
		return m.one(m.types...)
	}
	return m.scalar()
}

// presence is what follows a type: nothing, a question mark or a default.
func (m *maker) presence(typ string) string {
	if m.IntN(3) == 0 {
		return "?"
	}
	if members := m.enums[typ]; members != nil && m.IntN(2) == 0 {
		return " = " + m.one(members...)
	}
	defaults := map[string]string{"bool": "true", "text": `"é\"\n{x}"`, "bytes": `"AAEC"`, "decimal": `"1.50"`,
		"float64": "1.5e300", "float32": "0.25", "uuid": `"6ba7b810-9dad-11d1-80b4-00c04fd430c8"`, "date": `"2026-07-15"`,
		"instant": `"2026-07-15T08:00:00Z"`, "duration": `"PT90S"`, "int64": "-9007199254740993",
		"uint64": "18446744073709551615", "int8": "-128", "uint16": "65535"}
	if d := defaults[typ]; d != "" && m.IntN(2) == 0 {
		return " = " + d
	}
	return ""
}

// bounds are what a type may be held to; a default may be refused by them, and then
// the project is drawn again.
func (m *maker) bounds(typ string) string {
	var some []string
	switch {
	case strings.HasPrefix(typ, "["):
		some = []string{"count 1..4", "count <= 3", "count >= 1", "unique", "count 0..2, unique"}
	case strings.HasPrefix(typ, "{"):
		some = []string{"count 1..4", "count <= 3"}
	case typ == "text":
		some = []string{"length 1..80", "length <= 9", `pattern "^[A-Z]{3}-\\d{4}$"`, `pattern "a|/|\"|b", length 1..9`}
	case typ == "bytes":
		some = []string{"length 1..80", "length 4..4"}
	case typ == "date":
		some = []string{`"2000-01-01".."2030-12-31"`, `>= "2000-01-01"`}
	case typ == "instant":
		some = []string{`"2026-01-01T00:00:00Z".."2026-12-31T23:59:59.5Z"`}
	case typ == "duration":
		some = []string{`>= "PT1S"`, `"PT1S".."P1D"`}
	case typ == "decimal":
		some = []string{`"0".."1.5"`, `>= "-0.5"`, "<= 100"}
	case strings.HasPrefix(typ, "float"):
		some = []string{"0..1.5", ">= -0.5", "<= 1e9"}
	case strings.Contains(typ, "int"):
		some = []string{"1..12", ">= 0", "<= 100", "0..0", "1..MOST"}
	default:
		return ""
	}
	if m.IntN(2) == 0 {
		return ""
	}
	return " where " + m.one(some...)
}

func (m *maker) doc() string { return m.perhaps("/// How it is called, with a `quote` and */.\n  ") }

func (m *maker) deprecated() string { return m.perhaps(` deprecated "use the other"`) }

func (m *maker) field(number int) {
	typ := m.typ(0)
	name := m.word()
	m.p("  %s#%d %s %s%s%s%s%s%s", m.doc(), number, name, typ, m.presence(typ), m.bounds(typ), m.deprecated(),
		m.perhaps(fmt.Sprintf(" json %q", name+"-inJSON")), m.perhaps(" secret"))
}

// types makes constants, enums, named types, unions and messages called by a prefix.
func (m *maker) declare(prefix string) {
	m.p("const MOST int32 = 12\nconst %s_NAME text = \"\\\"%s\"\nconst %s_DAY date = \"1887-05-01\"",
		strings.ToUpper(prefix), prefix, strings.ToUpper(prefix))
	enum := prefix + "Deck"
	members := []string{m.free(), m.free(), m.free()}
	m.p("%senum %s%s { #0 %s #1 %s%s #70 %s json %q retired #9 \"old\" }", m.doc(), enum, m.deprecated(), members[0],
		members[1], m.deprecated(), members[2], "in-JSON")
	m.enums[enum] = members
	m.types, m.keys = append(m.types, enum, "["+enum+"]"), append(m.keys, enum)
	for i := range 4 {
		base := m.scalar()
		switch m.IntN(5) {
		case 0:
			base = "[" + m.one(append(slices.Clone(m.types), "text", "uuid")...) + "]"
		case 1:
			base = "{" + m.one(m.keys...) + ": " + m.scalar() + "}"
		}
		name := fmt.Sprintf("%sName%d", prefix, i)
		m.p("type %s = %s%s%s%s", name, base, m.bounds(base), m.deprecated(), m.perhaps(" secret"))
		m.types = append(m.types, name)
	}
	union, message := prefix+"Way", prefix+"Leg"
	m.p("message %s%s {", message, m.perhaps(" stored"))
	for i := range 2 + m.IntN(6) {
		m.field(i*300 + 1)
	}
	m.p("  #65535 back %s?\n  retired #65534\n}", union)
	m.types = append(m.types, message, "patch "+message)
	m.p("union %s {", union)
	for i := range 2 + m.IntN(4) {
		m.p("  #%d %s %s%s", i+1, m.free(), m.typ(1), m.deprecated())
	}
	m.p("  #40 leg %s json \"the-leg\"\n}", message)
	m.types = append(m.types, union, "patch "+prefix+"Trip")
	m.p("message %sNothing {}\nmessage %sTrip {", prefix, prefix)
	for i := range 3 + m.IntN(12) {
		m.field(i + 1)
	}
	m.p("}\nerror %sGone 410 { #1 reason text? #2 legs [%s] }\nerror %sFull 409 {}", prefix, message, prefix)
	m.p("credential %s_desk = key %s \"desk%s\"\ncredential %s_user = %s", strings.ToLower(prefix),
		m.one("header", "query", "cookie"), prefix, strings.ToLower(prefix), m.one("basic", `bearer "JWT"`, "bearer"))
}

// free is a word that no enum or union claims.
func (m *maker) free() string {
	for {
		if word := m.word(); !slices.Contains(claimedByUnions, word) {
			return word
		}
	}
}

// service makes calls of every kind, with fields in every place.
func (m *maker) service(prefix string) {
	low := strings.ToLower(prefix)
	m.p("message %sFind {\n  #1 code %s\n  #2 deck %sDeck = %s in query\n  #3 tags [text] in query \"tag\"", prefix,
		m.one("text where length 1..9", "uuid", "int64", "date"), prefix, m.enums[prefix+"Deck"][0])
	m.p("  #4 page int32? in header \"Page\"\n  #5 session text? in cookie \"sid\" secret\n  #6 rest %s?\n}",
		prefix+"Trip")
	m.p("message %sLook { #1 code uuid #2 after instant? in query #3 many [decimal] in query }", prefix)
	m.p("service %sDesk%s {\n  needs %s_user + %s_desk | nothing\n  fails %sGone", prefix, m.deprecated(), low, low,
		prefix)
	side := func() string {
		return m.one(prefix+"Trip", prefix+"Nothing", prefix+"Leg", m.alias+"OtherTrip")
	}
	if m.alias == "" {
		side = func() string { return m.one(prefix+"Trip", prefix+"Nothing", prefix+"Leg") }
	}
	for range 2 + m.IntN(4) {
		request, answer := m.one("", "stream ", "one")+side(), m.one("", "stream ", "one")+side()
		if strings.HasPrefix(request, "one") {
			request = ""
		}
		if strings.HasPrefix(answer, "one") {
			answer = "()"
		}
		m.p("  %scall %s(%s) -> %s%s%s%s", m.doc(), m.word(), request, answer, m.perhaps(" safe", " idempotent"),
			m.perhaps(" fails "+prefix+"Full"), m.deprecated())
	}
	both, method := m.perhaps("stream "), "POST"
	if both != "" {
		method = "GET"
	}
	m.p("  call find_all(%sFind) -> %sTrip\n    http %s \"%s/%s/{code}/all\" %s", prefix, prefix,
		m.one("POST", "PUT", "PATCH"), m.path, low, m.one("200", "201", "202"))
	m.p("  call look_at(%sLook) -> %s%sTrip\n    http GET \"%s/%s/{code}\" safe\n    needs %s_desk", prefix,
		m.perhaps("stream "), prefix, m.path, low, low)
	m.p("  call board_it(%sLook, stream %sTrip) -> %s%sTrip\n    http %s \"%s/%s/{code}/board\" needs %s_desk", prefix,
		prefix, both, prefix, method, m.path, low, low)
	m.p("  call drop_it(%sLook) -> ()\n    http DELETE \"%s/%s/{code}\" idempotent needs nothing\n}", prefix, m.path, low)
}

// randomProject is a random project's two files.
func randomProject(r *rand.Rand, name string) []*source.File {
	words := slices.Clone(awkward)
	r.Shuffle(len(words), func(i, j int) { words[i], words[j] = words[j], words[i] })
	m := &maker{Rand: r, enums: map[string][]string{}, keys: []string{"text", "int8", "uint64"}, names: words}
	m.types, m.path = []string{"text"}, "/"+strings.ReplaceAll(name, ".", "/")
	m.p("/// What two modules share.\nmodule %s.shared", name)
	m.declare("Other")
	m.service("Other")
	shared := m.b.String()
	m.b.Reset()
	m.alias = "odd."
	for i, typ := range m.types {
		if strings.HasPrefix(typ, "Other") {
			m.types[i] = "odd." + typ
		} else if other, is := strings.CutPrefix(typ, "patch Other"); is {
			m.types[i] = "patch odd.Other" + other
		}
	}
	m.types = slices.DeleteFunc(m.types, func(s string) bool { return strings.HasPrefix(s, "[") })
	m.keys = []string{"text", "int32", "odd.OtherDeck"}
	m.p("module %s\nuse %s.shared as odd", name, name)
	m.declare("Own")
	m.service("Own")
	return []*source.File{source.NewFile(name+".shared.faithful", shared), source.NewFile(name+".faithful", m.b.String())}
}

// TestRandomProjects compiles stubs of random projects of every feature, which use
// awkward words for their names: what check accepts can be generated, and compiles.
func TestRandomProjects(t *testing.T) {
	t.Parallel() // with the other tests that measure no time, after those that do
	if testing.Short() {
		t.Skip("skipped: -short leaves out compiling many modules")
	}
	r := rand.New(rand.NewPCG(20261129, 1))
	var files []*source.File
	refused := map[string]int{}
	made := 0
	for i := 0; made < *projects; i++ {
		drawn := randomProject(r, fmt.Sprintf("lines.line%d", made))
		_, findings := check.Load(drawn)
		if source.Errors(findings) == 0 {
			files = append(files, drawn...)
			made++
		}
		for _, f := range findings {
			if f.Severity == source.Error {
				refused[f.Name]++
			}
		}
		require.Less(t, i, 100**projects, "many must be definitions: %v", refused)
	}
	t.Logf("%d projects; of those that were drawn beside them, check refused: %v", made, refused)
	files = append(files, source.NewFile("barely.faithful", barely))
	defs, findings := check.Load(files)
	require.Zero(t, source.Errors(findings))
	compileEverywhere(t, defs)
}

// barely has bounds that refuse nothing, and integers of several named types.
const barely = `module lines.barely
type Any = int8 where -128..127
type Low = uint64 where >= 0
type Texts = [text] where count >= 0
message Barely {
  #1 a int8? where -128..127 #2 b Any #3 c {Any: Low} #4 d [Low]? where count >= 0 #5 e text where length >= 0
  #6 f Texts? #7 g uint8 = 7 where 0..255 #8 h {Low: Any}? where count >= 0 #9 i Any? where <= 127 #10 j Barely?
}
enum Tide { #0 low #1 high }
message Trip {
  #1 names uuid = "6ba7b810-9dad-11d1-80b4-00c04fd430c8" #2 required decimal = "1.5" #3 seats decimal where 1..2
  #4 seats_low decimal = "1.5" where 1..3 #5 lists [[text]] where unique #6 maps [{Tide: [decimal]}] where unique
}
type TripSeats = decimal where 5..6
message Asked { #1 low Low #2 any Any? in query #3 all Barely? }
service Pier { call ask(Asked) -> Barely http POST "/barely/{low}" }
`
