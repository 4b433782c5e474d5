package release

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/compare"
	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

// memory is a store of texts.
type memory struct{ names, texts []string }

func (m memory) Versions() []string { return m.names }

func (m memory) Follows(version string) string {
	if i := slices.Index(m.names, version); i > 0 {
		return m.names[i-1]
	}
	return ""
}

func (m memory) Definitions(version string) (*schema.Definitions, error) {
	for i, name := range m.names {
		if name == version {
			return load(m.texts[i])
		}
	}
	return nil, fmt.Errorf("there is no %s", version)
}

func load(fields string) (*schema.Definitions, error) {
	defs, findings := check.Load([]*source.File{source.NewFile("m", "module m\nmessage M stored { "+fields+" }\n")})
	if source.Errors(findings) > 0 {
		return nil, Unreadable("it", findings[0].Message)
	}
	return defs, nil
}

var promise = compare.Promise{Rollout: "server-leads", Stored: "each-reads-other", Covers: []string{"binary", "json"}}

// TestOlderVersions holds a draft against versions before the last: a field that went and
// comes back as another one breaks for their users alone, waived or not.
func TestOlderVersions(t *testing.T) {
	store := memory{[]string{"1.0.0", "1.1.0"}, []string{"#1 a text #2 b int32?", "#1 a text"}}
	draft, err := load("#1 a text #2 b text?")
	require.NoError(t, err)
	last, err := store.Definitions("1.1.0")
	require.NoError(t, err)
	report := compare.Compare(last, draft, promise)
	assert.Equal(t, "compatible", Verdict(report))
	needs, err := Needs("1.1.0", report, nil)
	require.NoError(t, err)
	assert.Equal(t, "1.2.0", needs)

	waiver := compare.Waiver{Change: change.FieldType, Where: "m.M.b", Reason: "nobody wrote it"}
	for _, waivers := range [][]compare.Waiver{nil, {waiver}} {
		older, left, err := EveryOlder(store, report, draft, promise,
			Waived{All: waivers, Unmatched: waivers, Today: "2026-07-15"})
		require.NoError(t, err)
		require.Len(t, older, 1)
		assert.Equal(t, "1.0.0", older[0].Version)
		assert.Equal(t, waivers == nil, older[0].Unwaived())
		assert.Empty(t, left)
		needs, err = Needs("1.1.0", report, older)
		require.NoError(t, err)
		assert.Equal(t, "2.0.0", needs)
	}
	unmatched := compare.Waiver{Change: change.FieldGone, Where: "m.M.a"}
	_, left, err := EveryOlder(store, report, draft, promise,
		Waived{All: []compare.Waiver{unmatched}, Unmatched: []compare.Waiver{unmatched}})
	require.NoError(t, err)
	assert.Len(t, left, 1)
}

// TestBetween reads the versions after one and before another.
func TestBetween(t *testing.T) {
	store := memory{[]string{"1.0.0", "1.1.0", "1.2.0", "1.3.0"},
		[]string{"#1 a text", "#1 b text", "no text", "#1 c text"}}
	assert.Len(t, Between(store, "1.0.0", "1.3.0")(), 1, "one of the two can't be read")
	assert.Len(t, Between(store, "1.0.0", "")(), 2)
	assert.Empty(t, Between(store, "1.3.0", "")())
	assert.Empty(t, Between(store, "2.0.0", "")())
	assert.Empty(t, Between(store, "1.0.0", "elsewhere")())
}
