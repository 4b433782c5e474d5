package compare

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/stubs/golang"
	"faithfulcourier/internal/stubs/typescript"
)

// TestFix carries out the safe fixes of a change each: the definitions then load,
// what broke payloads or requests holds, and what the change was for is there.
func TestFix(t *testing.T) {
	promise := Promise{Rollout: "unordered", Stored: "each-reads-other", Covers: []string{"binary", "json", "http"},
		Languages: []stubs.Language{golang.Language{}, typescript.Language{}}}
	against := func(old *schema.Definitions) func(*schema.Definitions) *Report {
		return func(new *schema.Definitions) *Report { return Compare(old, new, promise) }
	}
	for _, c := range []struct{ old, new, fixed, says string }{
		{"#4 email text?", "#4 mail text? // short", "#4 mail text? json \"email\" // short", "restored its name in JSON"},
		{"#4 email text?", "#9 email text?", "#4 email text?", "gave it back its number"},
		{"#4 email text?", "#4 email text? json \"mail\"", "#4 email text? json \"email\"", "gave it back its name in JSON"},
		{"#5 fare  Money", "#5 fare  Money\n  #7 lane [int32] where count 1..2", "#7 lane [int32]? where count 1..2",
			"made it optional"},
		{"#4 email text?\n", "", "  #6 notes [Money]\n  retired #4 \"email\"\n}", "retired its number and its name"},
		{"#1 open #2 car }", "#1 open }", "#1 open retired #2 \"car\" }", "retired its number and its name"},
		{"#1 open #2 car }", "#1 open #2 saloon }", "#2 saloon json \"car\" }", "restored its name in JSON"},
		{"#1 open #2 car }", "#1 open #5 car }", "#2 car }", "gave it back its number"},
		{"  call count() -> Money", "  call number() -> Money",
			"  call number() -> Money\n    http POST \"/skerry/quay/bookings/count\"\n", "restored its path"},
		{"call nudge(Money) -> ()", "call push(Money) -> ()",
			"call push(Money) -> ()\n    http POST \"/skerry/quay/bookings/nudge\"\n", "restored its path"},
		{"#2 seats int32 = 1\n", "#2 seats int64 = 1\n", "", ""},  // there is no safe way
		{"#4 email text?", "#4 email text", "", ""},               // nor here
		{"#1 id    uuid", "#2 id    uuid\n  #1 key uuid", "", ""}, // the number is taken
	} {
		old := definitions(t, quay)
		file := source.NewFile("quay.faithful", strings.Replace(quay, c.old, c.new, 1)).At("quay.faithful")
		after, fixed, report := FixSafely([]*source.File{file}, against(old))
		if c.fixed == "" {
			assert.Empty(t, fixed, "%s", c.new)
			assert.Equal(t, file.Text, after[0].Text)
			continue
		}
		if assert.Len(t, fixed, 1, "%s", c.new) {
			assert.Equal(t, c.says, fixed[0].Fix)
		}
		assert.Contains(t, after[0].Text, c.fixed)
		for _, f := range report.Changes {
			if strings.HasSuffix(string(f.Kind), "-gone") {
				continue // that it is gone may break; its number is safe now
			}
			for _, e := range f.Effects {
				assert.False(t, e.Verdict == verdict.Breaking && e.Position != verdict.Code, "%s: %s still breaks %s", c.new,
					f.Kind, e.Covers)
			}
		}
		_, more, _ := FixSafely(after, against(old))
		assert.Empty(t, more, "once is enough")
	}
	// Where one fix does not do, the others are carried out all the same.
	file := source.NewFile("quay.faithful", strings.NewReplacer("#1 id    uuid", "#2 id    uuid\n  #1 key uuid",
		"#2 seats int32 = 1\n  #3 deck  Deck\n  #4 email text?",
		"#3 deck Deck #4 mail text?").Replace(quay)).At("quay.faithful")
	after, fixed, _ := FixSafely([]*source.File{file}, against(definitions(t, quay)))
	assert.Contains(t, after[0].Text, "#4 mail text? json \"email\"")
	assert.NotEmpty(t, fixed)
	// What the project accepts stays as it is.
	renamed := source.NewFile("quay.faithful", strings.Replace(quay, "#4 email", "#4 mail", 1)).At("quay.faithful")
	_, fixed, _ = FixSafely([]*source.File{renamed}, func(new *schema.Definitions) *Report {
		r := Compare(definitions(t, quay), new, promise)
		r.Waive([]Waiver{{Change: change.FieldRenamed, Where: "skerry.quay.Booking.email", Reason: "nobody reads it"}},
			"2026-07-15")
		return r
	})
	assert.Empty(t, fixed)
	// What has no path was not read from a file of the user's.
	served := source.NewFile("quay.faithful", strings.Replace(quay, "#4 email", "#4 mail", 1))
	_, fixed, _ = FixSafely([]*source.File{served}, against(definitions(t, quay)))
	assert.Empty(t, fixed)
}
