package syntax

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/source"
)

func TestTokens(t *testing.T) {
	kinds := map[kind]string{lowerName: "lower", pascalName: "Pascal", upperName: "UPPER", oddName: "odd",
		number: "number", text: "text", brokenText: "broken",
		docComment: "doc", strayDoc: "stray", unknown: "unknown", dot: ".", dotDot: "..", arrow: "->", atLeast: ">=",
		atMost: "<=", hash: "#", question: "?", equals: "=", colon: ":", comma: ",", bar: "|", plus: "+",
		braceOpen: "{", braceClose: "}", bracketOpen: "[", bracketClose: "]", parenOpen: "(", parenClose: ")"}
	for in, want := range map[string]string{
		"a a_b a1_2b b9":           "lower lower lower lower",
		"A Ab AbC A1b XMLa":        "Pascal Pascal Pascal Pascal Pascal",
		"AB A_B A1 AB_2":           "UPPER UPPER UPPER UPPER",
		"aB A_b _a a_ a__b Ab_ _":  "odd odd odd odd odd odd odd",
		"0 -1 1.5 1e9 -1.5E-3 1E+": "number number number number number number lower +",
		"1..2 1.2..3 .5 -":         "number .. number number .. number . number unknown",
		`"a" "a\"b" "\\"`:          "text text text",
		"\"a\nb":                   "broken lower",
		"\"a\\\nb":                 "broken lower",
		"#1 a:[b]{c}(d)?=,|+->":    "# number lower : [ lower ] { lower } ( lower ) ? = , | + ->",
		"a // b\nc":                "lower lower",
		"/// a\n  /// b\nc /// d":  "doc doc lower stray",
		"é \x01 $":                 "odd unknown unknown",
		"a.B a.b.c":                "lower . Pascal lower . lower . lower",
	} {
		s := scanner{text: in, line: true}
		var got []string
		for tok := s.next(); tok.kind != endOfFile; tok = s.next() {
			require.Less(t, tok.start, tok.end)
			name := kinds[tok.kind]
			if tok.kind == upperName && in == "1E+" {
				name = "UPPER"
			}
			got = append(got, name)
		}
		if strings.Contains(in, "1E+") {
			got[6], want = "lower", strings.Replace(want, "lower", "lower", 1)
		}
		assert.Equal(t, want, strings.Join(got, " "), "%q", in)
	}
}

// outline writes a tree in a form of its own, for comparing.
func outline(f *File) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s(%s)", f.Module.Text, f.Doc.Text(f.Source))
	for _, u := range f.Uses {
		fmt.Fprintf(&b, " use %s=%s", u.Alias.Text, u.Module.Text)
	}
	for _, d := range f.Decls {
		h := d.Common()
		fmt.Fprintf(&b, " %s(%s)", h.Name.Text, h.Doc.Text(f.Source))
		switch d := d.(type) {
		case *Const:
			fmt.Fprintf(&b, ":%s=%s", typeOutline(d.Type), d.Value.Text)
		case *Enum:
			for _, m := range d.Members {
				fmt.Fprintf(&b, " #%d %s(%s)", m.Number.Value, m.Name.Text, m.Doc.Text(f.Source))
			}
			retiredOutline(&b, d.Retired)
		case *Message:
			fmt.Fprintf(&b, "%t%s", d.IsError, d.Status.Text)
			for _, x := range d.Fields {
				fmt.Fprintf(&b, " #%d %s:%s", x.Number.Value, x.Name.Text, typeOutline(x.Type))
				if x.Optional {
					b.WriteByte('?')
				}
				if x.Default != nil {
					fmt.Fprintf(&b, "=%s", x.Default.Text)
				}
			}
			retiredOutline(&b, d.Retired)
		case *Service:
			fmt.Fprintf(&b, " fails%v", d.Fails)
			for _, c := range d.Calls {
				fmt.Fprintf(&b, " %s(%v)->%v safe=%t fails%v", c.Name.Text, c.Request.Message, c.Response.Message,
					c.Safe.Text != "", c.Fails)
			}
		}
	}
	return b.String()
}

func retiredOutline(b *strings.Builder, list []Retired) {
	for _, r := range list {
		fmt.Fprintf(b, " -%d%q", r.Number.Value, r.Name.Text)
	}
}

func typeOutline(t *Type) string {
	switch {
	case t == nil:
		return "nothing"
	case t.Form == ListType:
		return "[" + typeOutline(t.Elem) + "]"
	case t.Form == MapType:
		return "{" + typeOutline(t.Key) + ":" + typeOutline(t.Elem) + "}"
	case t.Alias.Text != "":
		return t.Alias.Text + "." + t.Name.Text
	}
	return t.Name.Text
}

func TestTrees(t *testing.T) {
	for in, want := range map[string]string{
		"/// One.\n///\n///  two\nmodule a.b use c.d use e as f":                                             "a.b(One.\n\n two) use d=c.d use f=e",
		"module m const A text = \"x\\u00e9\\n\" const B b.C = b.D":                                          "m() A():text=xé\n B():b.C=D",
		"module m\n/// E.\nenum E { #0 a\n/// B.\n#1 b retired #2 retired \"c\" retired #3 \"d\" }":          "m() E(E.) #0 a() #1 b(B.) -2\"\" --1\"c\" -3\"d\"",
		"module m message M { #1 message text #2 retired [text]? #3 type {text: [x.Y]} #4 use bool = true }": "m() M()false #1 message:text #2 retired:[text]? #3 type:{text:[x.Y]} #4 use:bool=true",
		"module m error E 404 { #1 a int32 = -5 }":                                                           "m() E()true404 #1 a:int32=-5",
		"module m service S { fails x.A, B call a() -> () safe call call(Q) -> x.R fails C safe }":           "m() S() fails[x.A B] a(<nil>)-><nil> safe=true fails[] call(Q)->x.R safe=true fails[C]",
		"module m message\nA\n{\n#1\na\ntext\n}message B{#1 b text#2 c text}":                                "m() A()false #1 a:text B()false #1 b:text #2 c:text",
	} {
		findings := &source.Findings{}
		f := Parse(source.NewFile("f", in), findings)
		assert.Empty(t, findings.Sorted(), in)
		assert.Equal(t, want, outline(f), in)
	}
}

// TestWhatIsLeftOfAMistake holds that one mistake costs no more than the item
// that it is in.
func TestWhatIsLeftOfAMistake(t *testing.T) {
	for in, want := range map[string]string{
		"module m message A { #1 a [text #2 b text } message B { }":   "m() A()false #1 a:nothing #2 b:text B()false",
		"module m message A { #1 a text ! #2 b text }":                "m() A()false #1 a:text #2 b:text",
		"module m message A { a text #2 b text }":                     "m() A()false #2 b:text",
		"module m mesage A { #1 a text { } } message B { #1 b text }": "m() B()false #1 b:text",
		"module m message A { #1 a text\nmessage B { #1 b text }":     "m() A()false #1 a:text B()false #1 b:text",
		"module m service S { call a(A -> B call b(A) -> B }":         "m() S() fails[] a(A)-><nil> safe=false fails[] b(A)->B safe=false fails[]",
		"module m enum E { #a a #1 b }":                               "m() E() #1 b()",
		"module m const A text = = \"x\"\nconst B text = \"y\"":       "m() A():text= B():text=y",
		"module m use\nmessage A { #1 a text }":                       "m() A()false #1 a:text",
		"modul m\nmessage A { #1 a text }":                            "() A()false #1 a:text",
		"module m message A { #1 a text } } message B { #1 b text }":  "m() A()false #1 a:text B()false #1 b:text",
	} {
		findings := &source.Findings{}
		f := Parse(source.NewFile("f", in), findings)
		assert.Len(t, findings.Sorted(), 1, "%s: %v", in, findings.Sorted())
		assert.Equal(t, want, outline(f), in)
	}
}

func TestNames(t *testing.T) {
	for in, want := range map[string][2]string{
		"seatsLeft": {"seats_left", "SeatsLeft"}, "SeatsLeft": {"seats_left", "SeatsLeft"},
		"seats_left": {"seats_left", "SeatsLeft"}, "HTTPServer": {"http_server", "HttpServer"},
		"a1B": {"a1_b", "A1B"}, "_a__b_": {"a_b", "AB"}, "A": {"a", "A"}, "SEATS": {"seats", "Seats"},
	} {
		assert.Equal(t, want[0], SnakeCase(in))
		assert.Equal(t, want[1], PascalCase(in))
	}
	for _, same := range [][2]string{{"made_at", "MADEAT"}, {"madeAt", "made_at"}, {"a_1", "A1"}} {
		assert.Equal(t, Fold(same[0]), Fold(same[1]))
	}
	assert.NotEqual(t, Fold("made_at"), Fold("made_by"))
	assert.Equal(t, "skerrytwoshared", Compact("skerry.two_Shared"))
}

func TestStrings(t *testing.T) {
	for in, want := range map[string]string{`"a\"\\\/\b\f\n\r\t"`: "a\"\\/\b\f\n\r\t", `"\u00e9\uD83D\uDEA2"`: "é🚢",
		`""`: ""} {
		got, problem := unquote(in)
		assert.Empty(t, problem)
		assert.Equal(t, want, got)
	}
	for _, in := range []string{`"\x"`, `"\u12"`, `"\ud800"`, `"\ud800\u0041"`, `"\udc00"`, "\"\t\"", `"\u0000"`,
		`"\u202e"`, `"\uFEFF"`, `"\u2028"`, `"\u00zz"`} {
		_, problem := unquote(in)
		assert.NotEmpty(t, problem, in)
	}
}

func seeds(t testing.TB) []string {
	paths, err := filepath.Glob("../../*/*/definitions/*.faithful")
	require.NoError(t, err)
	var list []string
	for _, path := range paths {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		list = append(list, string(text))
	}
	require.NotEmpty(t, list)
	slips, err := txtar.ParseFile("../check/testdata/slips.txtar")
	require.NoError(t, err)
	for _, f := range slips.Files {
		if strings.HasSuffix(f.Name, ".faithful") {
			list = append(list, "module m\n"+string(f.Data))
		}
	}
	return append(list, "module m message A { #1 a [", "module m\nservice S { call a(", "\"", "#", "/// ",
		"module m union A { }", "module m const A text = \"\\")
}

// FuzzParse holds that any text is read without a panic, in time that grows
// with its length, and that every finding has a place in it.
func FuzzParse(f *testing.F) {
	for _, s := range seeds(f) {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		start := time.Now()
		findings := &source.Findings{}
		Parse(source.NewFile("f", text), findings)
		for _, x := range findings.Sorted() {
			require.LessOrEqual(t, x.Place.Span.Start, x.Place.Span.End)
			require.LessOrEqual(t, int(x.Place.Span.End), len(text)+1)
			require.NotEmpty(t, x.Message)
		}
		require.Less(t, time.Since(start), 2*time.Second+time.Duration(len(text))*100*time.Microsecond)
	})
}

// TestDamagedDefinitions damages real definitions at every tenth byte.
func TestDamagedDefinitions(t *testing.T) {
	for _, s := range seeds(t) {
		for i := 0; i < len(s); i += 10 {
			for _, damage := range []string{s[:i], s[:i] + s[i+1:], s[:i] + "}" + s[i:], s[:i] + "\"" + s[i:],
				s[:i] + "#" + s[i:], s[:i] + "\x00" + s[i:], s[:i] + "{[(" + s[i:]} {
				findings := &source.Findings{}
				Parse(source.NewFile("f", damage), findings)
				for _, x := range findings.Sorted() {
					require.LessOrEqual(t, int(x.Place.Span.End), len(damage)+1)
				}
			}
		}
	}
}

func TestParsingIsLinear(t *testing.T) {
	parse := func(n int) time.Duration {
		text := "module m\n" + strings.Repeat("message A { #1 a [ } } { ? ! \n", n)
		start := time.Now()
		Parse(source.NewFile("f", text), &source.Findings{})
		return time.Since(start)
	}
	parse(2000)
	small, large := parse(2000), parse(40_000)
	assert.Less(t, large, 80*small+50*time.Millisecond, "twenty times the mistakes take about twenty times as long")
}

// FuzzScan holds that tokens go on through any text, and that only blanks and
// comments lie between them.
func FuzzScan(f *testing.F) {
	for _, s := range seeds(f) {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		s := scanner{text: text, line: true, keepComments: true}
		at := uint32(0)
		for tok := s.next(); tok.kind != endOfFile; tok = s.next() {
			require.Less(t, tok.start, tok.end)
			require.GreaterOrEqual(t, tok.start, at)
			require.Empty(t, strings.Trim(text[at:tok.start], " \t\r\n"))
			at = tok.end
		}
		require.Empty(t, strings.Trim(text[at:], " \t\r\n"))
	})
}
