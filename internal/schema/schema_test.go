package schema

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/source"
)

func load(t *testing.T, texts ...string) (*Definitions, []source.Finding) {
	t.Helper()
	var files []*source.File
	for i, text := range texts {
		files = append(files, source.NewFile(fmt.Sprintf("file%d.faithful", i+1), text))
	}
	return Load(files)
}

// slips are typical mistakes: a body below "module m", and the findings that
// it must give, as "line:column name: message | mend".
var slips = []struct{ text, want string }{
	{"message A { #1 a Bokking }\nmessage Booking { }", "2:18 unknown-name: there is no type Bokking in module m | did you mean Booking?"},
	{"message A { #1 a string }", "2:18 unknown-name: there is no type string | write text"},
	{"message A { #1 a int }", "2:18 unknown-name: there is no type int | write int32"},
	{"message A { #1 a timestamp }", "2:18 unknown-name: there is no type timestamp | write instant"},
	{"message A { #1 a txt }", "2:18 unknown-name: there is no type txt | did you mean text?"},
	{"message A { #1 a text\n #1 b text }", "3:2 number-twice: #1 is used twice in A | #2 is free"},
	{"message A { #1 a text\n #2 a text }", "3:5 name-twice: A has two fields named a | rename one of them"},
	{"message A { #1 a text\n #1 a text }", "3:2 number-twice: #1 is used twice in A | #2 is free"},
	{"message A { #1 made_at text\n #2 madeat text }", "3:5 name-twice: made_at and madeat differ only in _ or case | rename one of them"},
	{"message A { #0 a text }", "2:13 number-range: the numbers of fields are 1 to 65535 | 1 is free"},
	{"message A { #70000 a text }", "2:14 number-range: 70000 is not a whole number up to 65535"},
	{"message A { #1 a text\n retired #1 }", `2:13 retired-number: #1 is retired: older payloads hold something else under it | #2 is free`},
	{"message A { #1 coupon text\n retired #2 \"coupon\" }", "2:16 retired-name: the name coupon is retired: older payloads hold something else under it | choose another name"},
	{"message A { #1 Seats text }", `2:16 name-style: the name of a field is written in snake_case, not "Seats" | write seats`},
	{"message A { #1 seatsLeft int32 }", `2:16 name-style: the name of a field is written in snake_case, not "seatsLeft" | write seats_left`},
	{"message sailing_code { }", `2:9 name-style: the name of a message is written in PascalCase, not "sailing_code" | write SailingCode`},
	{"const limit int32 = 1", `2:7 name-style: the name of a constant is written in UPPER_CASE, not "limit" | write LIMIT`},
	{"mesage A { #1 a text }\nmessage B { }", `2:1 syntax: expected a declaration here, but there is "mesage" | did you mean "message"?`},
	{"message A { 1 a text\n #2 b text }", `2:13 syntax: expected #NUMBER name TYPE, a field here, but there is "1"`},
	{"message A { #1 a text = 5 }", "2:25 wrong-type: a is text, and 5 is not | write it in quotes"},
	{"message A { #1 a int32 = \"5\" }", `2:26 wrong-type: a is int32, and "5" is not | write a whole number`},
	{"message A { #1 a int32 = 3000000000 }", "2:26 wrong-type: a is int32, -2147483648 to 2147483647, and 3000000000 lies outside"},
	{"message A { #1 a text? = \"x\" }", "2:24 optional-with-default: a is optional and has a default: a field with a default may already be left out | remove the ? or the default"},
	{"message A { #1 a Deck = opn }\nenum Deck { #0 open }", "2:25 wrong-type: Deck has no member opn | did you mean open?"},
	{"message A { #1 a [text] = 5 }", "2:27 wrong-type: a is a list, and defaults are for scalars and enums | make it optional with ? instead"},
	{"message A { #1 a uuid = \"x\" }", "2:25 wrong-type: a is uuid: a uuid is written as 8-4-4-4-12 hexadecimal digits"},
	{"message A { #1 a [text?] }", "2:23 absent-element: lists hold no absent elements | remove the ?; to leave out the whole field, write ? after it"},
	{"message A { #1 a {bool: text} }", "2:19 map-key: the keys of a map are text, integers or an enum, not bool | write {text: …}, or a list of a message with two fields"},
	{"message A { #1 a A }", "2:16 endless-type: A can never be written: it always holds another A | make one of these fields optional, such as: a A?"},
	{"message A { #1 b B }\nmessage B { #1 a A }", "3:16 endless-type: A can never be written: it always holds another A (A.b → B.a) | make one of these fields optional, such as: a A?"},
	{"message A {\n #1 a text\nmessage B { }", "2:11 unclosed: this { of A is never closed | write } after the last item of A"},
	{"message A { #1 a text }\n}", "3:1 syntax: this } closes nothing | remove it"},
	{"enum Deck { }", "2:6 empty-enum: Deck has no members: no value could be written | add one, such as: #0 unassigned"},
	{"enum Deck { #1 open\n #1 car }", "3:2 number-twice: #1 is used twice in Deck | #2 is free"},
	{"error Full { #1 left int32 }", `2:12 syntax: expected the error's HTTP status here, but there is "{" | write, for example: error Full 409 { … }`},
	{"error Full 200 { }", "2:12 error-status: the HTTP status of an error is 400 to 599, not 200 | 409 says"},
	{"message A { #1 e Full }\nerror Full 409 { }", "2:18 not-a-type: Full is an error; errors stand after fails only"},
	{"service S { call book(text) -> () }", "2:23 not-a-message: requests and answers are messages, not text | declare a message with one field"},
	{"service S { call book(A) -> A }\nmessage A { }\nmessage A { }", "4:9 declared-twice: A is declared twice in module m | rename or remove one of them"},
	{"service S { call book() -> () fails A }\nmessage A { }", "2:37 not-an-error: a call fails with errors, and A is a message | declare it as: error A 409 { … }"},
	{"service S { call book() -> ()\n call book() -> () }", "3:7 name-twice: S has two calls named book | rename one of them"},
	{"service S { call book() -> () savee }", `2:31 syntax: expected a clause, the next call or "}" here, but there is "savee" | a clause is http, fails, needs, safe, idempotent or deprecated`},
	{"message A { #1 a fleet.Deck }", "2:18 unknown-alias: this file uses no module as fleet"},
	{"const A text = \"abc\nmessage B { }", "2:16 unclosed-string: this string is not closed on its line | end it with \""},
	{`const A text = "\x"`, `2:16 bad-string: \x is not an escape | strings are written as in JSON`},
	{`const A text = "\ud800"`, `2:16 bad-string: half of a surrogate pair stands alone here`},
	{"message A { #1 a text /// why\n}", "2:23 stray-documentation: a /// after an item on its own line would document the next item"},
	{"message A { #1 a text\n /// why\n}", "3:2 stray-documentation: this documentation is followed by nothing"},
	{"use m.other\nmessage A { }", "2:5 unknown-module: there is no module m.other | the modules of this project are: m"},
	{"message A { #1 a text deprecated }", `2:34 syntax: expected the reason, in quotes here, but there is "}" | say what to use instead: deprecated "use fare instead"`},
	{"message A { #1 a text deprecated \"\" }", "2:23 no-reason: the reason of a deprecation is empty | say what to use instead"},
	{"enum A deprecated \"x\" deprecated \"y\" { #0 a }", "2:23 mark-twice: deprecated stands here twice | remove one of the two"},
	{"enum Deck { #0 tools }\nmessage A { }", "2:6 name-claimed: a part of Deck would be called DeckTools in generated code, a name that Deck claims for something else"},
	{"message Deck { }\nmessage DeckTools { }", "3:9 name-claimed: DeckTools and Deck both claim the name DeckTools in generated code"},
}

func TestSlips(t *testing.T) {
	for _, s := range slips {
		t.Run(s.text, func(t *testing.T) {
			_, findings := load(t, "module m\n"+s.text)
			var got []string
			for _, f := range findings {
				at := f.Place.File.Position(f.Place.Span.Start)
				line := fmt.Sprintf("%d:%d %s: %s", at.Line, at.Column, f.Name, f.Message)
				if f.Mend != "" {
					line += " | " + f.Mend
				}
				got = append(got, line)
			}
			require.Len(t, got, 1, "one mistake gives one error: %q", got)
			assert.Contains(t, got[0], s.want)
		})
	}
}

func TestTenMistakesGiveTenErrors(t *testing.T) {
	_, findings := load(t, `module m
message A {
  #1 a strin
  #2 B text
  #2 c text
  #4 d [text
  #5 e text = 1
}
mesage B { #1 a text }
enum C { #1 a #1 b }
service D {
  call e(F) -> A
  call g() A
  call h(A) -> A fails A
}`)
	var lines []int
	for _, f := range findings {
		lines = append(lines, f.Place.File.Position(f.Place.Span.Start).Line)
	}
	assert.Equal(t, []int{3, 4, 5, 7, 7, 9, 10, 12, 13, 14}, lines)
}

func TestErrorsOfAllFiles(t *testing.T) {
	_, findings := load(t, "module a\nuse b\nmessage A { #1 x b.Nothing }", "module b\nuse a\nmessage B { #1 x a.Nothing }", "", "module b\nmessage B { }")
	var got []string
	for _, f := range findings {
		got = append(got, f.Place.File.Name+" "+f.Name)
	}
	assert.Equal(t, []string{"file1.faithful unknown-name", "file2.faithful use-cycle", "file2.faithful unknown-name", "file3.faithful no-module", "file4.faithful declared-twice"}, got)
}

func TestSeveralFilesOfOneModule(t *testing.T) {
	defs, findings := load(t, "/// One.\nmodule m\nmessage A { #1 deck Deck = car }", "module m\nconst LIMIT int32 = 7\nenum Deck { #0 open #1 car }\nmessage B { #1 a A #2 n int32 = LIMIT }")
	require.Empty(t, findings)
	assert.Equal(t, Count{Modules: 1, Messages: 2, Enums: 1, Consts: 1}, defs.Count())
	assert.Equal(t, "car", defs.Module("m").Messages[0].Fields[0].Default.(*Member).Name)
	assert.EqualValues(t, 7, defs.Module("m").Messages[1].ByName("n").Default)
}

func TestPositions(t *testing.T) {
	_, findings := load(t, "module m\r\nmessage A {\r\n\t// é世\r\n\t#1 é text\r\n}")
	require.Len(t, findings, 1)
	assert.Equal(t, source.Position{Line: 4, Column: 5}, findings[0].Place.File.Position(findings[0].Place.Span.Start))
}

func TestOddFiles(t *testing.T) {
	for name, text := range map[string]string{"not-text": "module m\x00", "not-text ": "module m // \xff", "syntax": "%!PS", "no-module": "// nothing\n"} {
		_, findings := load(t, text)
		require.Len(t, findings, 1, name)
		assert.Equal(t, strings.TrimSpace(name), findings[0].Name)
	}
	deep := "module m\nmessage A { #1 a " + strings.Repeat("[", 5000) + "text" + strings.Repeat("]", 5000) + " }"
	_, findings := load(t, deep)
	require.Len(t, findings, 1)
	assert.Equal(t, "too-deep", findings[0].Name)
	_, findings = load(t, "\uFEFFmodule m\nmessage A { }")
	assert.Empty(t, findings, "a byte order mark is passed over")
}

func ferry(t testing.TB) []*source.File {
	paths, err := filepath.Glob("../../examples/ferry/definitions/*.faithful")
	require.NoError(t, err)
	require.NotEmpty(t, paths)
	var files []*source.File
	for _, path := range paths {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		files = append(files, source.NewFile(path, string(text)))
	}
	return files
}

func TestCanonicalTextIsReadBack(t *testing.T) {
	defs, findings := Load(ferry(t))
	require.Empty(t, findings)
	var texts []string
	for _, m := range defs.Modules {
		texts = append(texts, m.Canonical())
	}
	again, findings := load(t, texts...)
	require.Empty(t, findings)
	assert.Equal(t, defs.Digest(), again.Digest())
	for i, m := range again.Modules {
		assert.Equal(t, texts[i], m.Canonical())
	}
}

func TestDigest(t *testing.T) {
	digest := func(texts ...string) string {
		defs, findings := load(t, texts...)
		require.Empty(t, findings)
		return defs.Digest()
	}
	one := digest("module a\nuse b\nmessage A { #1 x b.B #2 y text }\nmessage C { }", "module b\nmessage B { }")
	same := digest("module b // layout\nmessage B { }", "module a\nuse b as other\n/// Documented.\nmessage C { }\nmessage A { #2 y text #1 x other.B }")
	assert.Equal(t, one, same, "order, aliases, files and documentation don't count")
	assert.NotEqual(t, one, digest("module a\nuse b\nmessage A { #1 x b.B #2 y text? }\nmessage C { }", "module b\nmessage B { }"))
	assert.Len(t, one, 64)
}
