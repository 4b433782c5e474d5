package advice

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/schema"
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
`

func TestAdviceIsLinear(t *testing.T) {
	var b strings.Builder
	b.WriteString("module m\n/// S.\nservice S {\n/// C.\ncall c() -> ()\n}\n")
	for i := range 30_000 {
		fmt.Fprintf(&b, "message Leg%d { #1 next Leg%d? }\n", i, i)
	}
	defs, findings := schema.Load([]*source.File{source.NewFile("m", b.String())})
	require.Empty(t, findings)
	start := time.Now()
	assert.NotEmpty(t, Advise(defs, nil, nil))
	assert.Less(t, time.Since(start), 2*time.Second)
}

func TestAdvice(t *testing.T) {
	defs, findings := schema.Load([]*source.File{source.NewFile("quay", quay), source.NewFile("other", "module other\nmessage Used { }")})
	require.Zero(t, source.Errors(findings), findings)
	var got []string
	for _, f := range Advise(defs, findings, nil) {
		assert.Equal(t, source.Advice, f.Severity)
		at := f.Place.File.Position(f.Place.Span.Start)
		got = append(got, fmt.Sprintf("%s:%d %s: %s", f.Place.File.Name, at.Line, f.Name, f.Message))
	}
	assert.Equal(t, []string{
		"other:2 unused-type: nothing uses Used",
		"quay:2 unused-use: nothing of other is used in this file",
		"quay:14 undocumented: the service Bad has no documentation",
		"quay:15 undocumented: the call all has no documentation",
		"quay:15 unlimited-list: all answers the list items, and a request can't say how much of it",
		"quay:16 deprecated-used: more uses Old, which is deprecated: nobody needs it",
		"quay:16 undocumented: the call more has no documentation",
		"quay:19 stutter: the field list_request_id repeats the name of ListRequest",
		"quay:19 deprecated-used: old uses Old, which is deprecated: nobody needs it",
		"quay:23 unused-type: nothing uses Alone",
		"quay:24 stutter: the member deck_open repeats the name of Deck",
		"quay:25 unused-type: nothing uses the enum Nobody",
		"quay:28 undocumented: the error Unknown has no documentation",
		"quay:28 unused-type: nothing uses Unknown",
	}, got)
	for _, r := range Rules {
		assert.NotEmpty(t, r.Why)
		for _, f := range Advise(defs, findings, []string{r.Name}) {
			assert.NotEqual(t, r.Name, f.Name, "what is switched off is not said")
		}
	}
	assert.Empty(t, Advise(defs, findings, Names()))
}
