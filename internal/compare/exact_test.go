package compare

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/compare/verdict"
)

// worst says the worst verdict of a comparison in each thing that is promised, such as
// "binary breaks, json holds, http holds".
func worst(t *testing.T, old, new string, rollout string) string {
	r := Compare(definitions(t, old), definitions(t, new),
		Promise{Rollout: rollout, Stored: "each-reads-other", Covers: []string{"binary", "json", "http"}})
	verdicts := map[string]verdict.Verdict{}
	for _, f := range r.Changes {
		assert.False(t, f.Undecided, "%s is decided", f.Kind)
		for _, e := range f.Effects {
			verdicts[e.Covers] = max(verdicts[e.Covers], e.Verdict)
			if e.Verdict == verdict.Breaking {
				require.NotNil(t, e.Proof, "%s: %s", f.Kind, e.Sentence)
				assert.NotEmpty(t, e.Proof.Outcome, "%s: %s", f.Kind, e.Sentence)
			}
		}
	}
	return fmt.Sprintf("binary %s, json %s, http %s", verdicts["binary"], verdicts["json"], verdicts["http"])
}

// TestExactly holds verdicts against what happens in cases that were judged wrongly
// once, or are near to them.
func TestExactly(t *testing.T) {
	const get, post = `http GET "/ask" safe`, `http POST "/ask"`
	call := func(declarations, request, clause string) string {
		return "module m\n" + declarations + "\nmessage Answer { #1 x int32 }\nservice S { call ask(" + request +
			") -> Answer " + clause + " needs nothing }\n"
	}
	ask := func(fields, clause string) string { return call("message Ask { "+fields+" }", "Ask", clause) }
	body := func(field string) string {
		return call("message Ask { #1 v "+field+" } message Child { #1 n int32 } message Twice { #1 n int32 #2 m int32 "+
			"} enum E { #0 a #1 b } enum One { #0 a } type Code = text where pattern \"^[A-Z]{2}$\" union U { #1 a uint64 #2 t text } union Keyed { #1 a {int8: bool} }", "Ask", post)
	}
	query := func(field string) string {
		return call("message Ask { #1 v "+field+" } enum E { #0 a #1 b } enum F { #0 a #1 c } type Code = text where "+
			"pattern \"^[A-Z]{2}$\"", "Ask", get)
	}
	const holds, httpBreaks, httpShifts = "binary compatible, json compatible, http compatible",
		"binary compatible, json compatible, http breaking", "binary compatible, json compatible, http altering"
	const allBreak, binaryBreaks, jsonBreaks, bothShift = "binary breaking, json breaking, http compatible",
		"binary breaking, json compatible, http compatible", "binary compatible, json breaking, http compatible",
		"binary altering, json altering, http compatible"
	const jsonShifts, apart = "binary compatible, json altering, http compatible",
		"binary breaking, json altering, http compatible"
	for _, c := range []struct{ old, new, want string }{
		// Placed on one side alone.
		{ask("#1 a text", post), ask(`#1 a text #2 t text in header "T"`, post), httpBreaks},
		{ask("#1 a text", post), ask(`#1 a text #2 t text? in header "T"`, post), holds},
		{ask(`#1 a text #2 t text? in header "T"`, post), ask("#1 a text", post), httpShifts},
		{ask("", get), ask("#1 q text", get), httpBreaks},
		{ask("", get), ask("#1 q text?", get), holds},
		{ask("", get), ask("#1 q [text]", get), holds},
		{ask("", get), ask("#1 q [text] where count 1..3", get), httpBreaks},
		{ask("", post), ask("#1 q text in cookie", post), httpBreaks},
		{call("", "", get), call("message Ask { #1 q text }", "Ask", get), httpBreaks},
		{call("", "", get), call("message Ask { #1 q text? }", "Ask", get), holds},
		{ask("#1 a text #2 q [text] in query", post), ask("#1 a text", post), httpShifts},
		{ask("#1 a text", post), ask("#1 a text #2 q [text] in query", post), holds},
		// Values outside of bodies, by their texts.
		{query("int32"), query("text"), holds}, {query("uuid"), query("text"), holds},
		{query("date"), query("text"), holds}, {query("E"), query("text"), holds},
		{query("bool"), query("text"), holds}, {query("decimal"), query("text"), holds},
		{query("int32"), query("decimal"), holds}, {query("uint64"), query("decimal"), holds},
		{query("int32"), query("[int64]"), holds}, {query("text?"), query("[text]"), holds},
		{query("text"), query("[text] where count 2..5"), httpBreaks},
		{query("text"), query("[Code]"), httpBreaks}, {query("E"), query("F"), httpBreaks},
		{query("text"), query("int32"), httpBreaks}, {query("int64"), query("int32"), httpBreaks},
		{query(`text where pattern "^[1-9][0-9]{2}$"`), query("int32"), holds},
		{query(`text where pattern "^[1-9][0-9]{2}$"`), query("int8"), httpBreaks},
		{query(`text where pattern "^(true|false)$"`), query("bool"), holds},
		{query(`text where pattern "^[ab]$"`), query("E"), holds}, {query("[text]"), query("text"), httpBreaks},
		{query("[text] where count 1..1"), query("text"), holds},
		{query("[text] where count 0..1"), query("text?"), holds},
		{query("[text] where count 0..1"), query("text"), httpBreaks},
		{query("text"), query("text where length 1..9"), httpBreaks},
		{query("text where length 2..5"), query("text where length 1..9"), holds},
		{ask(`#1 t text in header "Tag"`, post), ask(`#1 t text in header "tag"`, post), holds},
		{ask("#1 id text", `http GET "/ask/{id}" safe`), ask("#1 id text where length >= 1", `http GET "/ask/{id}" safe`),
			holds},
		{ask("#1 id text", `http GET "/ask/{id}" safe`), ask("#1 id text where length >= 2", `http GET "/ask/{id}" safe`),
			httpBreaks},
		// Streams and nothing.
		{call("message Opt { #1 a text? }", "", ""), call("message Opt { #1 a text? }", "stream Opt", ""), httpBreaks},
		{strings.Replace(ask("", ""), "-> Answer", "-> ()", 1),
			strings.Replace(ask("", ""), "-> Answer", "-> stream Answer", 1),
			"binary compatible, json compatible, http breaking"},
		// How many there may be.
		{body("{text: int32} where count 0..2"), body("{text: int32} where count 0..1"), allBreak},
		{body("[Twice] where count 0..9, unique"), body("[Twice] where count 0..8, unique"), allBreak},
		{body("[uuid] where count 0..9, unique"), body("[uuid] where count 0..8, unique"), allBreak},
		{body("{int8: bool} where count 0..10"), body("{int8: bool} where count 0..9"), allBreak},
		{body("{One: bool} where count 0..2"), body("{One: bool} where count 0..1"), holds},
		{body("[bool] where count 0..5, unique"), body("[bool] where count 0..2, unique"), holds},
		{body("[text]"), body("[text] where unique"), allBreak},
		{body("[text] where count 0..1"), body("[text] where unique"), holds},
		{body("text where length 0..20001"), body("text where length 0..20000"), allBreak},
		{body("text where length 0..20000"), body("text where length 0..20001"), holds},
		{body(`text where pattern "^(aa)*$", length 0..30001`), body(`text where pattern "^(aa)*$", length 0..30000`), holds},
		{body(`text where pattern "^(aa)*$", length 0..30002`), body(`text where pattern "^(aa)*$", length 0..30001`),
			allBreak},
		{body("bytes where length 0..4000000000"), body("bytes where length 0..3999999999"), allBreak},
		{body("[int32] where count 0..4000000000"), body("[int32] where count 0..3999999999"), allBreak},
		{body("text"), body(`text where pattern "^[a-c]+$"`), allBreak},
		{body(`text where pattern "^[a-c]+$"`), body(`text where pattern "^[a-d]*$"`), holds},
		{body(`text where pattern "^[a-c]+$"`), body(`text where pattern "^[ab]+$"`), allBreak},
		// Numbers of other kinds.
		{body("int32 where 1..100"), body("int8 where 1..100"), holds},
		{body("int64 where -1000..1000"), body("float64"), holds}, {body("uint16 where 0..1"), body("E"), holds},
		{body("uint16 where 0..2"), body("E"), allBreak}, {body("int64"), body("float64"), allBreak},
		{body("int32"), body("float64"), holds}, {body("int32"), body("float32"), allBreak},
		{body("int32 where -16777216..16777216"), body("float32"), holds},
		{body("int32 where 0..33554432"), body("float32"), allBreak},
		{body("int64 where 0..18014398509481984"), body("float64"), allBreak},
		{body("float64 where 0..1"), body("float32 where 0..1"), allBreak},
		{body("float64 where 1..1"), body("float32"), holds},
		{body(`decimal where "1".."1"`), body("int32"), "binary breaking, json breaking, http compatible"},
		{body("int32"), body("decimal"), binaryBreaks}, {body("uint64"), body("decimal"), binaryBreaks},
		{body("[text] where count 0..3"), body("[text] where count 0..5"), holds},
		{body("decimal where 0..5"), body("decimal where 0..4"), allBreak},
		// An any is what it holds.
		{body("text"), body("any"), holds}, {body("int32"), body("any"), holds}, {body("bool"), body("any"), holds},
		{body("[text]"), body("any"), holds}, {body("{text: text}"), body("any"), holds},
		{body("Child"), body("any"), apart}, {body("Twice"), body("any"), allBreak}, {body("any"), body("text"), allBreak},
		{body("E"), body("any"), jsonShifts}, {body("decimal"), body("any"), apart},
		{body("float64 where -1000..1000"), body("any"), holds},
		{body("float64 where 0..1e22"), body("any"), jsonBreaks}, {body("float32 where -1e20..0"), body("any"), jsonBreaks},
		{body("any?"), body("any?"), holds}, {body("{int8: bool}"), body("any"), apart},
		{body("Keyed"), body("any"), allBreak}, {body("U"), body("any"), apart},
		// Another kind with the same text.
		{body("instant"), body("text"), apart}, {body("uuid"), body("text"), apart}, {body("date"), body("text"), apart},
		{body("duration"), body("text"), apart}, {body("decimal"), body("text"), apart},
		{body("bytes"), body("text"), apart}, {body("text"), body("uuid"), allBreak}, {body("E"), body("text"), apart},
		{body("int32"), body("text"), allBreak}, {body("{int32: text}"), body("{text: text}"), apart},
		{body("instant"), body("text where length 0..20"), allBreak}, {body("uuid"), body("text where length 36..36"), apart},
	} {
		got := worst(t, c.old, c.new, "server-leads")
		assert.Equal(t, c.want, got, "%s\n%s", c.old, c.new)
	}
	// Whole modules.
	module := func(text string) string { return "module m\n" + text }
	const nested = "message M { #1 n int32 #2 s text } union Inner { #1 i M #2 j text } union Outer { #1 o Inner #2 " +
		"p text } message Q { } message Answer { #1 x Outer } service S { call ask(Q) -> Answer needs nothing }"
	const circle = "message Q { #1 u U } message A { } service S { call ask(Q) -> A needs nothing } union V { #1 x " +
		"text } union U { #1 a uint64 #2 b "
	for _, c := range []struct{ old, new, want string }{
		{module(nested), module(strings.Replace(nested, "#1 n int32", "#1 m int32", 1)), jsonBreaks},
		{module(nested), module(strings.Replace(nested, "#1 n int32", "#3 n int32", 1)), binaryBreaks},
		{module(nested), module(strings.Replace(nested, "s text", "s text where length 0..9", 1)), holds},
		{module(strings.Replace(nested, "s text", "s text where length 0..9", 1)), module(nested), bothShift},
		{module(circle + "U }"), module(circle + "V }"), allBreak},
		{module(strings.Replace(circle, "u U", "u [U]", 1) + "U }"),
			module(strings.Replace(circle, "u U", "u [V]", 1) + "U }"), allBreak},
		// What no call uses is judged as stored data.
		{module("union U { #1 a text #2 b int32 }"), module("union U { #1 a text #2 b text }"), allBreak},
		{module("type T = text"), module("type T = int32"), allBreak},
		{module("enum E { #0 a #1 b }"), module("enum E { #0 a #2 b }"), binaryBreaks},
		{module("enum E { #0 a json \"x\" #1 b json \"y\" }"), module("enum E { #0 a json \"y\" #1 b json \"x\" }"),
			jsonBreaks},
		{module("message M { #1 p A json \"x\" #2 q B json \"y\" } enum A { #0 a } enum B { #0 b }"),
			module("message M { #1 p A json \"y\" #2 q B json \"x\" } enum A { #0 a } enum B { #0 b }"), jsonBreaks},
		{module("message M { #1 p A json \"x\" #2 q A json \"y\" } enum A { #0 a }"),
			module("message M { #1 p A json \"y\" #2 q A json \"x\" } enum A { #0 a }"), holds},
		{module("message M { #1 a int32? json \"x\" }"), module("message M { #2 c text? json \"x\" }"),
			"binary altering, json breaking, http compatible"},
		{module("message M stored { #1 a text } message N { #1 b text }"), module("message N { #1 b text }"), allBreak},
		// What changes nothing.
		{module("message M { #1 a text retired #10 }"), module("message M { #1 a text retired #10 \"coupon\" }"), holds},
		{module("message M { #1 a text retired #10 \"coupon\" }"), module("message M { #1 a text retired #10 }"),
			"binary altering, json altering, http altering"},
		{module("message M { #1 a decimal = \"1.5\" }"), module("message M { #1 a decimal = \"1.50\" }"), holds},
		// Calls that go on elsewhere.
		{module("message Q { #1 a text } message A { } service S { call ask(Q) -> A http POST \"/ask\" call more() -> " +
			"() } service T { call other() -> () }"), module("message Q { #1 a text } message A { } service S { call more() -> () } service T { call other() -> () call ask(Q) -> A http POST \"/ask\" }"), holds},
		{module("message Q { #1 a text } message A { } service S { call ask(Q) -> A http POST \"/ask\" }"),
			module("message Q { #1 a text } message A { } service T { call ask(Q) -> A http POST \"/ask\" call " +
				"added() -> () }"), holds},
		{module("message Q { #1 a text } message A { } service S { call ask(Q) -> A }"),
			module("message Q { #1 a text } message A { } service T { call ask(Q) -> A http POST \"/m/s/ask\" }"), holds},
		{module("message Q { #1 a text } message A { } service S { call ask(Q) -> A }"),
			module("message Q { #1 a text } message A { } service T { call ask(Q) -> A }"), httpBreaks},
		{module("message Q { #1 a text } message A { } service S { call ask(Q) -> A http POST \"/ask\" }"),
			module("message P { #1 a text #2 b text? } message Q { #1 a text } message A { } service S { call tell(P) -> A " +
				"http POST \"/ask\" }"), holds},
		{module("message Q { #1 a text } message A { } service S { call ask(Q) -> A http POST \"/ask\" }"),
			module("message Q { #1 a text } message A { } service S { call ask(Q) -> A http POST \"/ask\" 201 }"), httpShifts},
		{module("message Q { #1 a text } message A { } error E 409 { #1 a text } service S { call ask(Q) -> A fails E }"),
			module("message Q { #1 a text } message A { } error E 410 { #1 a text } service S { call ask(Q) -> A fails E }"),
			httpShifts},
		{module("message Q { #1 a text } message A { } error E 409 { #1 a text } service S { call ask(Q) -> A fails E }"),
			module("message Q { #1 a text } message A { } error E 409 { #1 a int32 } service S { call ask(Q) -> A fails E }"),
			httpBreaks},
		{module("message Q { #1 a text } message A { } error E 409 { #1 a text } service S { call ask(Q) -> A fails E }"),
			module("message Q { #1 a text } message A { } error F 409 { #1 a text } service S { call ask(Q) -> A fails F }"),
			httpBreaks},
		{module("message Q { #1 a text } message A { } service S { call ask(Q) -> A safe }"),
			module("message Q { #1 a text } message A { } service S { call ask(Q) -> A }"), httpShifts},
		{module("message Q { #1 a text } message A { } service S { call ask(Q) -> A }"),
			module("message Q { #1 a text } message A { } service S { call ask(Q) -> A safe }"), holds},
		{module("message M stored { #1 a text }"), module("message M { #1 a text }"),
			"binary altering, json altering, http altering"},
		{module("const N int32 = 1"), module("const N int32 = 2"), "binary altering, json altering, http altering"},
		// A module that is renamed pairs what has the same name.
		{"module m\nmessage A { #1 x text }\nmessage B { #1 x text }",
			"module n\nmessage A { #1 x text #2 y text? }\nmessage B { #1 x text }", holds},
		{"module m\nmessage A { #1 x text }\nmessage B { #1 x text }",
			"module n\nmessage A { #1 x int32 }\nmessage B { #1 x text }", allBreak},
	} {
		assert.Equal(t, c.want, worst(t, c.old, c.new, "server-leads"), "%s\n%s", c.old, c.new)
	}
	// The other way round.
	for _, c := range []struct{ old, new, want string }{
		{ask("#1 q text", get), ask("", get), httpBreaks},
		{call("message Opt { #1 a text? }", "stream Opt", ""), call("message Opt { #1 a text? }", "", ""), httpBreaks},
		{call("message Ask { #1 q text }", "Ask", get), call("", "", get), httpBreaks},
	} {
		assert.Equal(t, c.want, worst(t, c.old, c.new, "client-leads"), "%s\n%s", c.old, c.new)
	}
}
