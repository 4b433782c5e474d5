package advice

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/source"
)

const quay = `module quay
use other

/// Documented.
service Good {
  /// Documented.
  call list(ListRequest) -> ListAnswer safe fails Known
  /// Documented, and not safe.
  call drop(ListRequest) -> Long
  /// On its way out.
  call old(Old) -> () deprecated "use list"
}

service Bad {
  call all() -> Long safe
  call more(Old) -> ()
}

message ListRequest { #1 limit int32 = 50 #2 list_request_id uuid #3 deck Deck #4 old Old? #5 gone Old? deprecated "too" }
message ListAnswer { #1 items [text] }
message Long { #1 items [text] }
message Old deprecated "nobody needs it" { #1 next Old? }
message Alone { #1 again Alone? }
enum Deck { #0 deck_open #1 car }
enum Nobody { #0 a }
/// Documented.
error Known 404 { }
error Unknown 404 { }

/// Documented.
credential door = key header "Door"
credential spare = basic deprecated "nobody has one"

/// Documented.
service Third {
  needs door
  /// Documented.
  call find(Search) -> () http POST "/find" safe
  /// Documented.
  call tell(Search) -> () needs spare
  /// Documented.
  call open() -> () needs nothing
}

message Search {
  #1 text text #2 short text where length 1..9 #3 code text where pattern "^[A-Z]{3}$" #4 open text where pattern "^[A-Z]+$"
  #5 list [int32] #6 few [Name] where count 0..5 #7 blob bytes? #8 way Way #9 again Search? #10 table Table
}
/// Documented.
type Name = text
/// Documented.
type Table = {int32: text} where count 0..3
/// Documented.
type Spare = int32
/// Documented.
union Way { #1 way_by_sea Sea #2 land [text] }
message Sea { #1 miles [[int32]] }
message Log stored { #1 text text }
example one of Search { text: "", short: "a", code: "ABC", open: "A", list: [], few: [], way: { land: [] }, table: {} }
`

func TestAdviceIsLinear(t *testing.T) {
	var b strings.Builder
	b.WriteString("module m\n/// S.\nservice S {\n/// C.\ncall c() -> ()\n}\n")
	for i := range 30_000 {
		fmt.Fprintf(&b, "message Leg%d { #1 next Leg%d? }\n", i, i)
	}
	defs, findings := check.Load([]*source.File{source.NewFile("m", b.String())})
	require.Empty(t, findings)
	start := time.Now()
	assert.NotEmpty(t, Advise(defs, nil, nil))
	assert.Less(t, time.Since(start), 2*time.Second)
}

func TestAdvice(t *testing.T) {
	defs, findings := check.Load([]*source.File{source.NewFile("quay", quay),
		source.NewFile("other", "module other\nmessage Used { }")})
	require.Zero(t, source.Errors(findings), findings)
	var got []string
	for _, f := range Advise(defs, findings, nil) {
		assert.Equal(t, source.Advice, f.Severity)
		at := f.Place.File.Position(f.Place.Span.Start)
		got = append(got, fmt.Sprintf("%s:%d %s: %s", f.Place.File.Name, at.Line, f.Name, f.Message))
	}
	assert.Equal(t, []string{
		"other:2 unused-type: nothing uses \"Used\"",
		"quay:2 unused-use: nothing of \"other\" is used in this file",
		"quay:9 no-credential: \"drop\" may change something, and needs no credential",
		"quay:11 no-credential: \"old\" may change something, and needs no credential",
		"quay:14 undocumented: the service \"Bad\" has no documentation",
		"quay:15 undocumented: the call \"all\" has no documentation",
		"quay:15 unlimited-list: \"all\" answers the list \"items\", and a request can't say how much of it",
		"quay:16 deprecated-used: \"more\" uses \"Old\", which is deprecated: nobody needs it",
		"quay:16 no-credential: \"more\" may change something, and needs no credential",
		"quay:16 undocumented: the call \"more\" has no documentation",
		"quay:19 example-missing: \"ListRequest\" is the request of \"drop\", and has no example",
		"quay:19 owner-repeated: the field \"list_request_id\" repeats the name of \"ListRequest\"",
		"quay:19 deprecated-used: \"old\" uses \"Old\", which is deprecated: nobody needs it",
		"quay:21 undocumented: \"Long\", which 2 declarations use, has no documentation",
		"quay:22 example-missing: \"Old\" is the request of \"more\", and has no example",
		"quay:22 undocumented: \"Old\", which 3 declarations use, has no documentation",
		"quay:23 unused-type: nothing uses \"Alone\"",
		"quay:24 undocumented: the enum \"Deck\" has no documentation",
		"quay:24 owner-repeated: the member \"deck_open\" repeats the name of \"Deck\"",
		"quay:25 undocumented: the enum \"Nobody\" has no documentation",
		"quay:25 unused-type: nothing uses the enum \"Nobody\"",
		"quay:28 undocumented: the error \"Unknown\" has no documentation",
		"quay:28 unused-type: nothing uses \"Unknown\"",
		"quay:32 undocumented: the credential \"spare\" has no documentation",
		"quay:40 deprecated-used: \"tell\" uses \"spare\", which is deprecated: nobody has one",
		"quay:46 unbounded-input: \"text\" has no limit: in a request it may be text of any length",
		"quay:46 unbounded-input: \"open\" has no limit: in a request it may be text of any length",
		"quay:47 unbounded-input: \"list\" has no limit: in a request it may be a list of any size",
		"quay:47 unbounded-input: \"blob\" has no limit: in a request it may be bytes of any length",
		"quay:50 unbounded-input: \"Name\" has no limit: in a request it may be text of any length",
		"quay:52 unbounded-input: an element of \"Table\" has no limit: in a request it may be text of any length",
		"quay:54 unused-type: nothing uses the named type \"Spare\"",
		"quay:56 owner-repeated: the alternative \"way_by_sea\" repeats the name of \"Way\"",
		"quay:56 unbounded-input: \"land\" has no limit: in a request it may be a list of any size",
		"quay:56 unbounded-input: an element of \"land\" has no limit: in a request it may be text of any length",
		"quay:57 unbounded-input: \"miles\" has no limit: in a request it may be a list of any size",
		"quay:57 unbounded-input: an element of \"miles\" has no limit: in a request it may be a list of any size",
	}, got)
	for _, r := range Rules {
		assert.NotEmpty(t, r.Why)
		for _, f := range Advise(defs, findings, []string{r.Name}) {
			assert.NotEqual(t, r.Name, f.Name, "what is switched off is not said")
		}
	}
	assert.Empty(t, Advise(defs, findings, Names()))
}

// TestAdviceOffForADeclaration: a comment before a declaration switches a rule off in it,
// and nowhere else.
func TestAdviceOffForADeclaration(t *testing.T) {
	const text = `module pier
// advice off: no-credential anybody may look
// advice off: undocumentd
/// The pier.
service Pier {
  call moor() -> () }
/// The quay.
service Quay {
  call post() -> ()
}
`
	defs, findings := check.Load([]*source.File{source.NewFile("pier", text)})
	require.Zero(t, source.Errors(findings), findings)
	var got []string
	for _, f := range Advise(defs, findings, nil) {
		got = append(got, fmt.Sprintf("%d %s", f.Place.File.Position(f.Place.Span.Start).Line, f.Name))
		if f.Name == "no-such-rule" {
			assert.Equal(t, `did you mean "undocumented"?`, f.Fix)
		}
	}
	assert.Equal(t, []string{"5 no-such-rule", "6 undocumented", "9 no-credential", "9 undocumented"}, got)
}

// TestSafeWithBody is said only where check would take what it proposes.
func TestSafeWithBody(t *testing.T) {
	for fields, want := range map[string]bool{"#1 a text #2 b [int32] #3 c uuid?": true, "": true, "#1 a Leg": false,
		"#1 a bytes": false, "#1 a bytes where length <= 9": true, "#1 a [text]?": false, "#1 a any": false} {
		text := "module m\nmessage Leg {}\nmessage Find { " + fields +
			" }\nservice S { call find(Find) -> Leg http POST \"/find\" safe }\n"
		defs, findings := check.Load([]*source.File{source.NewFile("m", text)})
		require.Zero(t, source.Errors(findings), findings)
		got := slices.ContainsFunc(Advise(defs, findings, nil),
			func(f source.Finding) bool { return f.Name == "safe-with-body" })
		assert.Equal(t, want, got, fields)
		if got {
			_, findings = check.Load([]*source.File{source.NewFile("m", strings.Replace(text, "POST", "GET", 1))})
			assert.Zero(t, source.Errors(findings), findings)
		}
	}
}
