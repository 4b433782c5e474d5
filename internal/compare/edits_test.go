package compare

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

// TestMend carries out the safe mends of a change each: the definitions then load,
// what broke payloads or requests holds, and what the change was for is there.
func TestMend(t *testing.T) {
	promise := Promise{Rollout: "unordered", Kept: "each-reads-other", Forms: []string{"binary", "json", "http"}, Languages: []string{"go", "typescript"}}
	against := func(old *schema.Definitions) func(*schema.Definitions) *Report {
		return func(new *schema.Definitions) *Report { return Compare(old, new, promise) }
	}
	for _, c := range []struct{ old, new, mended, says string }{
		{"#4 email text?", "#4 mail text? // short", "#4 mail text? json \"email\" // short", "kept its name in JSON"},
		{"#4 email text?", "#9 email text?", "#4 email text?", "gave it back its number"},
		{"#4 email text?", "#4 email text? json \"mail\"", "#4 email text? json \"email\"", "gave it back its name in JSON"},
		{"#5 fare  Money", "#5 fare  Money\n  #7 lane [int32] where count 1..2", "#7 lane [int32]? where count 1..2", "made it optional"},
		{"#4 email text?\n", "", "  #6 notes [Money]\n  retired #4 \"email\"\n}", "retired its number and its name"},
		{"#1 open #2 car }", "#1 open }", "#1 open retired #2 \"car\" }", "retired its number and its name"},
		{"#1 open #2 car }", "#1 open #2 saloon }", "#2 saloon json \"car\" }", "kept its name in JSON"},
		{"#1 open #2 car }", "#1 open #5 car }", "#2 car }", "gave it back its number"},
		{"  call count() -> Money", "  call number() -> Money", "  call number() -> Money\n    http POST \"/skerry/quay/bookings/count\"\n", "kept its path"},
		{"call nudge(Money) -> ()", "call push(Money) -> ()", "call push(Money) -> ()\n    http POST \"/skerry/quay/bookings/nudge\"\n", "kept its path"},
		{"#2 seats int32 = 1\n", "#2 seats int64 = 1\n", "", ""},  // there is no safe way
		{"#4 email text?", "#4 email text", "", ""},               // nor here
		{"#1 id    uuid", "#2 id    uuid\n  #1 key uuid", "", ""}, // the number is taken
	} {
		old := definitions(t, quay)
		file := source.NewFile("quay.faithful", strings.Replace(quay, c.old, c.new, 1)).At("quay.faithful")
		after, mended, report := Mend([]*source.File{file}, against(old))
		if c.mended == "" {
			assert.Empty(t, mended, "%s", c.new)
			assert.Equal(t, file.Text, after[0].Text)
			continue
		}
		if assert.Len(t, mended, 1, "%s", c.new) {
			assert.Equal(t, c.says, mended[0].Mend)
		}
		assert.Contains(t, after[0].Text, c.mended)
		for _, f := range report.Facts {
			if strings.HasSuffix(string(f.Kind), "-gone") {
				continue // that it is gone may break; its number is safe now
			}
			for _, e := range f.Effects {
				assert.False(t, e.Verdict == Breaks && e.Position != Code, "%s: %s still breaks %s", c.new, f.Kind, e.Form)
			}
		}
		_, more, _ := Mend(after, against(old))
		assert.Empty(t, more, "once is enough")
	}
	// Where one mend does not do, the others are carried out all the same.
	file := source.NewFile("quay.faithful", strings.NewReplacer("#1 id    uuid", "#2 id    uuid\n  #1 key uuid", "#2 seats int32 = 1\n  #3 deck  Deck\n  #4 email text?", "#3 deck Deck #4 mail text?").Replace(quay)).At("quay.faithful")
	after, mended, _ := Mend([]*source.File{file}, against(definitions(t, quay)))
	assert.Contains(t, after[0].Text, "#4 mail text? json \"email\"")
	assert.NotEmpty(t, mended)
	// What the project accepts stays as it is.
	renamed := source.NewFile("quay.faithful", strings.Replace(quay, "#4 email", "#4 mail", 1)).At("quay.faithful")
	_, mended, _ = Mend([]*source.File{renamed}, func(new *schema.Definitions) *Report {
		r := Compare(definitions(t, quay), new, promise)
		r.Waive([]Waiver{{Fact: FieldRenamed, Where: "skerry.quay.Booking.email", Reason: "nobody reads it"}}, "2026-07-15")
		return r
	})
	assert.Empty(t, mended)
	// What has no path was not read from a file of the user's.
	served := source.NewFile("quay.faithful", strings.Replace(quay, "#4 email", "#4 mail", 1))
	_, mended, _ = Mend([]*source.File{served}, against(definitions(t, quay)))
	assert.Empty(t, mended)
}
