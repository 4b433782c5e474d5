package golang

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	definitions "faithfulcourier/internal/check"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/stubs"
)

func load(t *testing.T, texts ...string) *schema.Definitions {
	var files []*source.File
	for _, text := range texts {
		files = append(files, source.NewFile("f", text))
	}
	defs, findings := definitions.Load(files)
	require.Empty(t, findings)
	return defs
}

func TestNames(t *testing.T) {
	for in, want := range map[string]string{"id": "ID", "made_at": "MadeAt", "vessel_id": "VesselID",
		"http_url": "HTTPURL", "ids": "IDs", "identity": "Identity", "a_1": "A1", "x": "X"} {
		assert.Equal(t, want, Pascal(in))
	}
	defs := load(t, `module m
const LARGEST_PARTY int32 = 1
const API_URL text = ""
enum Deck { #0 open_air #1 id }
message A { #1 error text #2 string text #3 seats_or_default text #4 marshal_json text #5 name text #6 validate text #7 append_cbor text }
/// S.
service S {
  /// C.
  call marshal_json() -> ()
  /// C.
  call find_by_id() -> A
}`)
	m := defs.Modules[0]
	var fields []string
	for _, f := range m.Messages[0].Fields {
		fields = append(fields, FieldName(f))
	}
	assert.Equal(t, []string{"Error_", "String_", "SeatsOrDefault_", "MarshalJSON_", "Name", "Validate_", "AppendCBOR_"},
		fields)
	assert.Equal(t, "APIURL", ConstName(m.Consts[0]))
	assert.Equal(t, "LargestParty", ConstName(m.Consts[1]))
	assert.Equal(t, "DeckOpenAir", MemberName(m.Enums[0].Members[0]))
	assert.Equal(t, "DeckID", MemberName(m.Enums[0].Members[1]))
	assert.Equal(t, "FindByID", CallName(m.Services[0].Calls[0]))
	assert.Equal(t, "MarshalJSON_", CallName(m.Services[0].Calls[1]))
	for name, want := range map[string][2]string{"a.type": {"type_", "a/type"}, "a.main": {"main_", "a/main"},
		"faithful.x": {"x", "faithful_/x"}, "a.internal": {"internal", "a/internal_"},
		"a.two_words": {"twowords", "a/two_words"}} {
		module := &schema.Module{Name: name}
		assert.Equal(t, want[0], PackageName(module))
		assert.Equal(t, want[1], Folder(module))
	}
	one, two := &schema.Module{Name: "a.shared"}, &schema.Module{Name: "b.shared"}
	assert.Equal(t, "shared", importName(one, []*schema.Module{one}))
	assert.Equal(t, "asharedmodule", importName(one, []*schema.Module{one, two}))
	assert.Equal(t, "contextmodule", importName(&schema.Module{Name: "context"}, nil))
}

func TestTypeNames(t *testing.T) {
	defs := load(t, "module m enum E { #0 a } message A { #1 a {text: [uint8]} #2 b E? #3 c [instant]? #4 d bytes? "+
		"#5 e A? #6 f uuid = \"6f0c0000-0000-0000-0000-000000000001\" }")
	var got []string
	for _, f := range defs.Modules[0].Messages[0].Fields {
		got = append(got, FieldTypeName(f))
	}
	assert.Equal(t, []string{"map[string][]uint8", "*m.E", "[]time.Time", "[]byte", "*m.A", "*wire.UUID"}, got)
}

func generate(t *testing.T, defs *schema.Definitions) map[string]string {
	files, err := Language{}.Generate(defs, stubs.About{Name: "n", Version: "1.2.3"}, stubs.Everything("example.org/gen/"))
	require.NoError(t, err)
	byPath := map[string]string{}
	last := ""
	for _, f := range files {
		assert.Less(t, last, f.Path, "sorted")
		assert.Equal(t, stubs.Ours, stubs.OwnerOf(f.Content), f.Path)
		last, byPath[f.Path] = f.Path, string(f.Content)
	}
	return byPath
}

func TestOutput(t *testing.T) {
	defs := load(t, "/// About m.\nmodule a.m\nuse a.other\n/// A booking.\nmessage Booking {\n  /// How many.\n  #1 "+
		"seats int32 = 1\n  #24 notes other.Note? deprecated \"use seats\"\n}\n/// S.\nservice S {\n  /// Books.\n  call book(Booking) -> ()\n}", "module a.other message Note { #1 text text }")
	files := generate(t, defs)
	for path, parts := range map[string][]string{
		"a/m/m.go": {
			"// Package m is the module a.m.\n//\n// About m.\npackage m\n", `"example.org/gen/a/other"`,
			`"example.org/gen/faithful/wire"`,
			"// Booking: A booking.\ntype Booking struct {\n\t// How many.\n\t// Nil is written as 1.\n\tSeats *int32\n\t// Deprecated: use seats\n\tNotes *other.Note\n\n\tunlisted []wire.UnlistedField\n}\n",
			"func (m *Booking) SeatsOrDefault() int32 {", "append(b, 24, 24)",
		},
		"a/m/m_client.go":         {"// Book: Books.\nfunc (c *SClient) Book(ctx context.Context, request *Booking, options ...web.CallOption) error {\n\treturn c.client.For(options).Do(ctx, &sBook, request, nil)\n}\n"},
		"a/m/m_server.go":         {"type SCalls struct {\n\t// Books.\n\tBook func(ctx context.Context, request *Booking) error\n}\n"},
		"faithful/about/about.go": {`Version = "1.2.3"`, defs.Digest(), "/// About m."},
		"faithful/web/web.go":     {`"example.org/gen/faithful/wire"`},
	} {
		require.Contains(t, files, path)
		for _, part := range parts {
			assert.Contains(t, files[path], part, path)
		}
	}
	assert.NotContains(t, files, "a/other/other_client.go", "a module without a service needs no client")
	for path, text := range files {
		assert.NotContains(t, text, "faithfulcourier", "%s speaks of the user's own packages alone", path)
		if !strings.Contains(path, "about") {
			assert.NotContains(t, text, defs.Digest(), "only the about file changes with every change")
		}
	}
	_, err := Language{}.Generate(defs, stubs.About{}, stubs.Everything(""))
	assert.ErrorContains(t, err, "needs its import path")
}

// TestOnlyWhatChangedIsRewritten changes one module: the files of others stay.
func TestOnlyWhatChangedIsRewritten(t *testing.T) {
	one := "module one message A { #1 a text }"
	before := generate(t, load(t, one, "module two message B { #1 b text }"))
	after := generate(t, load(t, one, "module two message B { #1 b text #2 c text? }"))
	var changed []string
	for path := range after {
		if before[path] != after[path] {
			changed = append(changed, path)
		}
	}
	assert.ElementsMatch(t, []string{"two/two.go", "faithful/about/about.go"}, changed)
}
