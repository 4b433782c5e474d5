package conformance

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/stubs/golang"
	"faithfulcourier/internal/stubs/typescript"
	"faithfulcourier/internal/toolchain"
)

// awkward are words that some language, or our own emitted code, has taken.
var awkward = strings.Fields(`abstract about answer any append as async await b bool break bytes byte call calls cap case catch cbor class client close codec complex
	const constructor context continue copy ctx data debugger declare default defer delete do e else entries entry enum err error errors eval export extends
	fallthrough false fetch field fields final finally float64 fmt for from func function get go goto http i id if implements import in index init instanceof int
	interface internal io is item json key keyof len let list m main make map math max message min module n name namespace native net never new nil null number object
	of options out package panic path print private protected public r range read readonly recover register request require rest return route seen select self set slices
	start static status stack string strings struct super switch symbol table tag testdata text this throw throws time to_string true try type typeof uint32 undefined
	unknown url uuid v validate value values var vendor view void volatile w web while wire with write yield marshal_json unmarshal_json marshal_binary read_cbor append_json
	error_name error_status string_or_default seats_or_default to_cbor from_json violations tools has_own_property value_of is_prototype_of`)

// awkwardDefinitions use every awkward word as module, field, member, call and
// constant, and, as far as claims allow, as the name of a type.
func awkwardDefinitions(t *testing.T) *schema.Definitions {
	var files []*source.File
	add := func(name, text string) { files = append(files, source.NewFile(name+".faithful", text)) }
	var every strings.Builder
	every.WriteString("module all.names\n")
	for i, word := range awkward {
		if i%4 == 0 {
			fmt.Fprintf(&every, "use odd.%s as alias_%d\n", word, i)
		}
	}
	every.WriteString("message Fields {\n")
	for i, word := range awkward {
		typ := []string{"text", "int64?", "bool = true", "[bytes]", "{text: instant}", "uuid?", "Members", "Members = of", "Fields?", "float64"}[i%10]
		fmt.Fprintf(&every, "  #%d %s %s\n", i+1, word, typ)
	}
	every.WriteString("}\nerror Failed 500 {\n")
	for i, word := range awkward {
		fmt.Fprintf(&every, "  #%d %s %s\n", i+1, word, []string{"text?", "int32 = 1", "uint32"}[i%3])
	}
	every.WriteString("}\nenum Members {\n")
	for i, word := range awkward {
		// A member must not be called as what its enum claims.
		if word != "tools" && word != "init" && word != "unlisted" {
			fmt.Fprintf(&every, "  #%d %s\n", i, word)
		}
	}
	every.WriteString("}\nmessage Others {\n")
	for i := range awkward {
		if i%4 == 0 {
			fmt.Fprintf(&every, "  #%d field_%d alias_%d.Thing?\n", i+1, i, i)
		}
	}
	every.WriteString("}\nservice Calls {\n")
	for i, word := range awkward {
		fmt.Fprintf(&every, "  call %s(%s) -> %s\n", word, []string{"Fields", "", "Others"}[i%3], []string{"Others", "Fields", "()"}[i%3])
		if i%5 == 0 {
			every.WriteString("    fails Failed\n")
		}
	}
	every.WriteString("}\n")
	for i, word := range awkward {
		if strings.ToUpper(word) != word {
			fmt.Fprintf(&every, "const %s_ int32 = %d\n", "C_"+strings.ToUpper(word), i)
		}
	}
	add("names", strings.ReplaceAll(every.String(), "_ int32", " int32"))
	for _, word := range awkward {
		add("odd_"+word, "module odd."+word+"\n/// Ends with */ and a `quote`.\nmessage Thing { #1 inner Deep? #2 level Level = high }\nmessage Deep { #1 text text }\nenum Level { #0 low #1 high }\nservice Thinking { call think(Thing) -> Thing }\n")
	}
	for _, top := range []string{"faithful", "internal.vendor", "skerry.one.shared", "skerry.two.shared"} {
		add("top_"+top, "module "+top+"\nmessage Top { #1 x text }\n")
	}
	add("both", "module skerry.both\nuse skerry.one.shared\nuse skerry.two.shared as shared_two\nmessage Both { #1 a shared.Top #2 b shared_two.Top #3 c [shared.Top] }\n")
	for _, name := range []string{"String", "Error", "Map", "Date", "Symbol", "Promise", "Object", "Array", "Number", "Uint8Array", "Request", "Response", "Time", "Context", "Wire", "Set", "Omit", "ReadonlyMap", "ArrayBuffer", "A", "Z9z"} {
		add("type_"+name, fmt.Sprintf("module types.%s\nmessage %s { #1 a text #2 b {text: instant} #3 c [uuid] #4 d bytes? #5 e int64 = -5 #6 f bytes = \"AA\" }\nerror Gone 410 { #1 a text? }\n", strings.ToLower(name), name))
	}
	defs, findings := schema.Load(files)
	for _, f := range findings {
		at := f.Place.File.Position(f.Place.Span.Start)
		t.Errorf("%s:%d: %s", f.Place.File.Name, at.Line, f.Message)
	}
	require.False(t, t.Failed())
	return defs
}

func writeFiles(t *testing.T, dir string, files []stubs.File) {
	for _, f := range files {
		path := filepath.Join(dir, filepath.FromSlash(f.Path))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
		require.NoError(t, os.WriteFile(path, f.Content, 0o666))
	}
}

// TestAwkwardNames compiles stubs of definitions whose names languages, or the
// emitted code, have taken.
func TestAwkwardNames(t *testing.T) {
	defs := awkwardDefinitions(t)
	t.Run("go", func(t *testing.T) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module awkward\n\ngo 1.24\n"), 0o666))
		files, err := golang.Language{}.Generate(defs, stubs.About{Name: "awkward", Version: "draft"}, map[string]string{"package": "awkward/gen"})
		require.NoError(t, err)
		writeFiles(t, filepath.Join(dir, "gen"), files)
		toolchain.Run(t, dir, "go", "vet", "./...")
	})
	t.Run("typescript", func(t *testing.T) {
		toolchain.Require(t, "typescript")
		toolchain.InstallTypeScript(t, "typescript")
		dir := t.TempDir()
		modules, err := filepath.Abs("typescript/node_modules")
		require.NoError(t, err)
		require.NoError(t, os.Symlink(modules, filepath.Join(dir, "node_modules")))
		for _, name := range []string{"package.json", "tsconfig.json"} {
			text, err := os.ReadFile(filepath.Join("typescript", name))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), text, 0o666))
		}
		files, err := typescript.Language{}.Generate(defs, stubs.About{Name: "awkward", Version: "draft"}, nil)
		require.NoError(t, err)
		writeFiles(t, filepath.Join(dir, "src"), files)
		toolchain.Run(t, dir, "node_modules/.bin/tsc", "--noEmit")
	})
}
