package syntax

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/source"
)

func tidy(t testing.TB, text string) string {
	t.Helper()
	out, findings := Tidy(source.NewFile("f", text))
	require.Empty(t, findings, text)
	return out
}

// tidied are files as somebody wrote them, and in the canonical layout.
var tidied = []struct{ in, want string }{
	{"module m", "module m\n"},
	{"  module   a . b\nuse c.d use e as f\n\n\nuse g\nconst A int32=5 const B x.C = y.D",
		"module a.b\n\nuse c.d\nuse e as f\n\nuse g\n\nconst A int32 = 5\n\nconst B x.C = y.D\n"},
	{"/// Doc.\n///more\n// why\nmodule m // here\n\n\n// of A\n\n/// A.\nmessage A{}// end\n// last\n",
		"/// Doc.\n///more\n// why\nmodule m  // here\n\n// of A\n\n/// A.\nmessage A { }  // end\n\n// last\n"},
	{"module m message A { #1 id uuid #12 seats [ [ text ] ] = 5 #3 d {text:x . Y}? retired #4 \"x\" retired \"y\" #5 retired text = z . Z }",
		"module m\n\nmessage A {\n  #1  id      uuid\n  #12 seats   [[text]] = 5\n  #3  d       {text: x.Y}?\n  retired #4 \"x\"\n  retired \"y\"\n  #5  retired text     = z.Z\n}\n"},
	{"module m enum E { // first\n#0 a // of a\n\n\n// of b\n/// B.\n#10 bbb\nretired #2 // gone\n// at the end\n}",
		"module m\n\nenum E {  // first\n  #0 a  // of a\n\n  // of b\n  /// B.\n  #10 bbb\n  retired #2  // gone\n  // at the end\n}\n"},
	{"module m service S { fails x.A ,B call a ( ) -> ( ) safe call b(Q)->x . R\nfails C,D\nsafe // done\n\n// of c\ncall c(Q) -> R safe }",
		"module m\n\nservice S {\n  fails x.A, B\n  call a() -> () safe\n  call b(Q) -> x.R\n    fails C, D\n    safe  // done\n\n  // of c\n  call c(Q) -> R safe\n}\n"},
	{"module m enum E { #0 a\n\n// x\n\n// y\n\n}", "module m\n\nenum E {\n  #0 a\n\n  // x\n\n  // y\n}\n"},
	{"module m error E 409 { #1 // in the middle\na // too\ntext }",
		"module m\n\nerror E 409 {\n  // in the middle\n  // too\n  #1 a text\n}\n"},
	{"module m service S { call a(" + strings.Repeat("Q", 60) + "q) -> R fails " + strings.Repeat("E", 40) + "e safe }",
		"module m\n\nservice S {\n  call a(" + strings.Repeat("Q", 60) + "q) -> R\n    fails " + strings.Repeat("E", 40) +
			"e\n    safe\n}\n"},
	{"module m\r\nmessage A {\r\n\t#1 é_ text\r\n}", ""},
	{"\uFEFFmodule m\r\nmessage A {\r\n\t#1 e text // é\r\n}", "module m\n\nmessage A {\n  #1 e text  // é\n}\n"},
	{"module m const A text=\"a\" deprecated \"x\" enum E deprecated \"e\" { #0 a deprecated \"m\" // c\n #1 deprecated #2 bb deprecated \"n\" } message M { #1 deprecated deprecated? deprecated \"f\" #2 x text = y deprecated \"" + strings.Repeat("w", 90) + "\" // d\n } service S deprecated \"s\" { call a() -> () safe deprecated \"c\" }",
		"module m\n\nconst A text = \"a\" deprecated \"x\"\n\nenum E deprecated \"e\" {\n  #0 a  deprecated \"m\"  // c\n  #1 deprecated\n  #2 bb deprecated \"n\"\n}\n\nmessage M {\n  #1 deprecated deprecated? deprecated \"f\"\n  #2 x          text\n    = y\n    deprecated \"" + strings.Repeat("w", 90) + "\"  // d\n}\n\nservice S deprecated \"s\" {\n  call a() -> () safe deprecated \"c\"\n}\n"},
	{`module m type Code=text where pattern "^[A-Z]$",length 1 .. 8 secret deprecated "d" type Long = { text : [ x . Deck ] } where count >=1 // c
type A = int32 where -5..x.LIMIT,<=  B
credential desk=key header "Desk" credential p = bearer "JWT" deprecated "d" credential b=basic`,
		"module m\n\ntype Code = text where pattern \"^[A-Z]$\", length 1..8 secret deprecated \"d\"\n\ntype Long = {text: [x.Deck]} where count >= 1  // c\n\ntype A = int32 where -5..x.LIMIT, <= B\n\ncredential desk = key header \"Desk\"\n\ncredential p = bearer \"JWT\" deprecated \"d\"\n\ncredential b = basic\n"},
	{`module m union U { #1 foot A json "f" #12 long [ x . B ] deprecated "d" retired "x" } message M stored deprecated "d" { #1 in in in query "q" #2 secret secret secret #3 a int32? where >= 1,unique json "b" #4 where text = "x" where length 1..2 in header }`,
		"module m\n\nunion U {\n  #1  foot A     json \"f\"\n  #12 long [x.B] deprecated \"d\"\n  retired \"x\"\n}\n\nmessage M stored deprecated \"d\" {\n  #1 in     in     in query \"q\"\n  #2 secret secret secret\n  #3 a      int32? where >= 1, unique json \"b\"\n  #4 where  text   = \"x\" where length 1..2 in header\n}\n"},
	{`module m service S { needs a|x . b+c fails X call a(stream Q) -> stream x . R http POST "/a/{b}" 201 needs nothing idempotent call stream(stream . Q) -> stream . R
http GET "/x" // h
safe }`,
		"module m\n\nservice S {\n  needs a | x.b + c\n  fails X\n  call a(stream Q) -> stream x.R http POST \"/a/{b}\" 201 needs nothing idempotent\n  // h\n  call stream(stream.Q) -> stream.R\n    http GET \"/x\"\n    safe\n}\n"},
	{"module m example f of M { // open\n// first\na : 1 , // one\n\n\n// of b\nb // mid\n: [ 1,2 ] // late\n, c: [\n1, 2\n// end\n] } // after\n",
		"module m\n\nexample f of M {  // open\n  // first\n  a: 1,  // one\n\n  // of b\n  // mid\n  b: [1, 2],  // late\n  c: [\n    1,\n    2\n    // end\n  ]\n}  // after\n"},
	{"module m example e of x . M{a:1,\"b\":[true,null,{}],3:{c:x.D},} example w of M { a: \"" +
		strings.Repeat("w", 50) + "\", b: { c: \"" + strings.Repeat("w", 50) + "\" } }",
		"module m\n\nexample e of x.M { a: 1, \"b\": [true, null, {}], 3: { c: x.D }, }\n\nexample w of M {\n  a: \"" +
			strings.Repeat("w", 50) + "\",\n  b: { c: \"" + strings.Repeat("w", 50) + "\" }\n}\n"},
	{"module m const A text = \"a // b\\\" c\" enum E { #0 a }",
		"module m\n\nconst A text = \"a // b\\\" c\"\n\nenum E {\n  #0 a\n}\n"},
}

func TestTidy(t *testing.T) {
	for _, c := range tidied {
		if c.want == "" {
			_, findings := Tidy(source.NewFile("f", c.in))
			assert.NotEmpty(t, findings, "a file with errors is not touched")
			continue
		}
		got := tidy(t, c.in)
		assert.Equal(t, c.want, got, c.in)
		assert.Equal(t, got, tidy(t, got), "nothing changes the second time")
	}
}

// comments are all comments of a text, in order.
func comments(text string) []string {
	s := scanner{text: text, line: true, keepComments: true}
	var list []string
	for t := s.next(); t.kind != endOfFile; t = s.next() {
		if t.kind == lineComment || t.kind == docComment {
			list = append(list, strings.TrimRight(text[t.start:t.end], " \t\r"))
		}
	}
	return list
}

// words are all tokens of a text but comments.
func words(text string) []string {
	s := scanner{text: text, line: true}
	var list []string
	for t := s.next(); t.kind != endOfFile; t = s.next() {
		if t.kind != docComment {
			list = append(list, text[t.start:t.end])
		}
	}
	return list
}

// holdTidy holds what tidy promises of any file that it takes.
func holdTidy(t testing.TB, text string) {
	out, findings := Tidy(source.NewFile("f", text))
	if len(findings) > 0 {
		return
	}
	require.Equal(t, words(strings.TrimPrefix(text, "\uFEFF")), words(out), "every word stays, in order:\n%s\n---\n%s",
		text, out)
	require.ElementsMatch(t, comments(text), comments(out), "every comment stays:\n%s\n---\n%s", text, out)
	again, findings := Tidy(source.NewFile("f", out))
	require.Empty(t, findings, "what was tidied is right:\n%s\n---\n%s", text, out)
	require.Equal(t, out, again, "nothing changes the second time:\n%s", text)
}

// TestTidyKeepsEverything puts comments and line breaks between the words of
// real definitions.
func TestTidyKeepsEverything(t *testing.T) {
	for _, s := range seeds(t) {
		holdTidy(t, s)
		list := words(s)
		for every := 1; every < 8; every++ {
			for _, between := range []string{" // x\n", "\n", "\n// own\n", "\n\n", "\n\n// a\n\n// b\n\n"} {
				var b strings.Builder
				for i, w := range list {
					b.WriteString(w)
					if i%every == 0 {
						b.WriteString(between)
					} else {
						b.WriteString(" ")
					}
				}
				holdTidy(t, b.String())
			}
		}
	}
}

// FuzzTidy holds the same of any text.
func FuzzTidy(f *testing.F) {
	for _, s := range seeds(f) {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) { holdTidy(t, text) })
}
