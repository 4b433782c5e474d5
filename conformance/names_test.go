package conformance

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"faithfulcourier/examples/ferry"
	"faithfulcourier/internal/check"
	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/stubs/golang"
	"faithfulcourier/internal/stubs/java"
	"faithfulcourier/internal/stubs/python"
	"faithfulcourier/internal/stubs/typescript"
	"faithfulcourier/internal/toolchain"
	"faithfulcourier/internal/value"
)

// awkward are words that some language, or our own emitted code, has taken.
var awkward = strings.Fields(`about abstract add_note and answer any append append_json args as assert async await b body bool
	boolean box break builder byte bytes call calls cap case catch cbor char class classmethod client
	clone close cls codec complex const constructor context continue cookie copy count crate credential
	ctx d data debugger declare def default defer del delete dict do double dyn e elif else entries
	entry enum equals err error error_name error_status errors eval except exec exit export extends
	extern fallthrough false fetch field fields final finalize finally float float64 fmt fn for from
	from_json func function gate get get_class global go goto has_own_property hash hash_code head
	headers help http i id if impl implements import in index init input instanceof int interface
	internal into_iter io is is_prototype_of isinstance item j json key keyof kind lambda left len let
	list listed long loop m main make map marshal_binary marshal_json match math max message min mod
	module move mro mut n name names namespace native needs net never new nil none nonlocal not notify
	notify_all null number numbers object of open options or out package panic pass path permits place
	places print private property protected pub public query r raise range raw read read_cbor read_json
	readonly record recover ref register repr request require rest return route sealed seats_or_default
	seen select self set setattr short slices sorted stack start static staticmethod status str strictfp
	string string_or_default strings struct sum super switch symbol synchronized table tag testdata text
	this throw throws time to_builder to_cbor to_string to_text tools total trait transient true try
	tuple type typeof uint32 undefined union unknown unmarshal_json unsafe url use uuid v validate value
	value_of values var vars vendor view violations void volatile w wait web where while wire with
	with_traceback write write_cbor write_json yield zip`)

// packages are what generated code may import: a module may end in each.
var packages = strings.Fields(`base64 binary bytes cmp errors flag fmt http httptest io iter json log maps math os regexp
	signal slices slog sort strconv strings sync syscall testing time unicode utf8 wire web`)

func init() {
	for _, name := range packages {
		if !slices.Contains(awkward, name) {
			awkward = append(awkward, name)
		}
	}
}

// isUsed tells the words whose modules the definitions use.
func isUsed(i int, word string) bool { return i%4 == 0 || slices.Contains(packages, word) }

// claimedByEnums and claimedByUnions are what no part of one may be called.
var (
	claimedByEnums  = []string{"tools"}
	claimedByUnions = []string{"tools", "init", "unlisted"}
)

// awkwardDefinitions use every awkward word as module, field, member, call and
// constant, and, as far as claims allow, as the name of a type.
func awkwardDefinitions(t *testing.T) *schema.Definitions {
	var files []*source.File
	add := func(name, text string) { files = append(files, source.NewFile(name+".faithful", text)) }
	var every strings.Builder
	every.WriteString("module all.names\n")
	for i, word := range awkward {
		if isUsed(i, word) {
			fmt.Fprintf(&every, "use odd.%s as alias_%d\n", word, i)
		}
	}
	every.WriteString("message Fields {\n")
	for i, word := range awkward {
		typ := []string{"text", "int64?", "bool = true", "[bytes]", "{text: instant}", "uuid?", "Members", "Members = of",
			"Fields?", "float64"}[i%10]
		fmt.Fprintf(&every, "  #%d %s %s\n", i+1, word, typ)
	}
	every.WriteString("}\nerror Failed 500 {\n")
	for i, word := range awkward {
		fmt.Fprintf(&every, "  #%d %s %s\n", i+1, word, []string{"text?", "int32 = 1", "uint32"}[i%3])
	}
	every.WriteString("}\nenum Members {\n")
	for i, word := range awkward {
		// A member must not be called as what its enum claims.
		if !slices.Contains(claimedByEnums, word) {
			fmt.Fprintf(&every, "  #%d %s\n", i, word)
		}
	}
	every.WriteString("}\nunion Ways {\n")
	for i, word := range awkward {
		// An alternative must not be called as what its union claims.
		if !slices.Contains(claimedByUnions, word) {
			fmt.Fprintf(&every, "  #%d %s %s\n", i+1, word,
				[]string{"text", "Fields", "[int32]", "Reference", "{Members: bool}"}[i%5])
		}
	}
	every.WriteString("}\ntype Reference = text where length 1..9\nmessage Others {\n  #1 way Ways?\n  #3 list " +
		"[Reference]?\n")
	for i, word := range awkward {
		if isUsed(i, word) {
			fmt.Fprintf(&every, "  #%d field_%d alias_%d.Thing?\n", i+4, i, i)
		}
	}
	every.WriteString("}\nservice Calls {\n")
	for i, word := range awkward {
		fmt.Fprintf(&every, "  call %s(%s) -> %s\n", word, []string{"Fields", "", "Others", "stream Others"}[i%4],
			[]string{"Others", "stream Fields", "()"}[i%3])
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
		add("odd_"+word, "module odd."+word+"\n/// Ends with */ and a `quote`.\nmessage Thing { #1 inner Deep? #2 level "+
			"Level = high }\nmessage Deep { #1 text text }\nenum Level { #0 low #1 high }\nservice Thinking { call think(Thing) -> Thing }\n")
	}
	for _, top := range []string{"faithful", "internal.vendor", "skerry.one.shared", "skerry.two.shared"} {
		add("top_"+top, "module "+top+"\nmessage Top { #1 x text }\n")
	}
	add("both", "module skerry.both\nuse skerry.one.shared\nuse skerry.two.shared as shared_two\nmessage Both { #1 a "+
		"shared.Top #2 b shared_two.Top #3 c [shared.Top] }\n")
	for _, name := range []string{"String", "Error", "Map", "Date", "Symbol", "Promise", "Object", "Array", "Number",
		"Uint8Array", "Request", "Response", "Time", "Context", "Wire", "Set", "Omit", "ReadonlyMap", "ArrayBuffer", "A",
		"Z9z"} {
		add("type_"+name, fmt.Sprintf("module types.%s\nmessage %s { #1 a text #2 b {text: instant} #3 c [uuid] #4 d "+
			"bytes? #5 e int64 = -5 #6 f bytes = \"AA\" }\nerror Gone 410 { #1 a text? }\n", strings.ToLower(name), name))
	}
	defs, findings := check.Load(files)
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
	t.Parallel() // with the other tests that measure no time, after those that do
	if testing.Short() {
		t.Skip("skipped: -short leaves out stubs of thousands of names")
	}
	compileEverywhere(t, awkwardDefinitions(t))
}

// mostPrograms is for how many calls of definitions a program is compiled: each is much like the others.
const mostPrograms = 40

// writePrograms writes the program that a manual has for each call, into files of a folder.
func writePrograms(t *testing.T, defs *schema.Definitions, language stubs.Language, options stubs.Options,
	dir, file string) (names []string) {
	sampled := func(m *schema.Message, seed int) *value.Message {
		if m == nil {
			return nil
		}
		made, err := value.NewMaker(defs, uint64(seed)).Element(m, 0)
		var impossible *value.Impossible
		if errors.As(err, &impossible) {
			return &value.Message{Type: m, Fields: map[int]value.Value{}}
		}
		require.NoError(t, err)
		return made
	}
	for i, c := range defs.Calls() {
		if i == mostPrograms {
			break
		}
		sent := stubs.Sent{Base: "http://127.0.0.1:8080", Head: sampled(c.Head, i), Request: sampled(c.Request, i),
			Variable: conversation.Variable}
		name := fmt.Sprintf(file, i)
		names = append(names, name)
		path := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
		require.NoError(t, os.WriteFile(path, []byte(language.Calling(c, sent, options)), 0o666))
	}
	return names
}

// compileEverywhere makes everything in each language, and compiles it.
func compileEverywhere(t *testing.T, defs *schema.Definitions) {
	t.Run("go", func(t *testing.T) {
		dir := t.TempDir()
		project, err := ferry.Files() // a Go module with the library for WebSockets
		require.NoError(t, err)
		_, wanted, _ := strings.Cut(project["go.mod"], "\n")
		require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module awkward\n"+wanted), 0o666))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "go.sum"), []byte(project["go.sum"]), 0o666))
		files, err := golang.Language{}.Generate(defs, stubs.About{Name: "awkward", Version: "draft"},
			stubs.Everything("awkward/gen"))
		require.NoError(t, err)
		writeFiles(t, filepath.Join(dir, "gen"), files)
		writePrograms(t, defs, golang.Language{}, stubs.Everything("awkward/gen"), dir, "calls/call%d/main.go")
		toolchain.Run(t, dir, "go", "vet", "./...")
	})
	t.Run("typescript", func(t *testing.T) {
		toolchain.Require(t, "typescript")
		toolchain.InstallNode(t, "typescript")
		dir := t.TempDir()
		modules, err := filepath.Abs("typescript/node_modules")
		require.NoError(t, err)
		require.NoError(t, os.Symlink(modules, filepath.Join(dir, "node_modules")))
		for _, name := range []string{"package.json", "tsconfig.json"} {
			text, err := os.ReadFile(filepath.Join("typescript", name))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), text, 0o666))
		}
		files, err := typescript.Language{}.Generate(defs, stubs.About{Name: "awkward", Version: "draft"},
			stubs.Everything(""))
		require.NoError(t, err)
		writeFiles(t, filepath.Join(dir, "src", "gen"), files)
		options := stubs.Everything("")
		options.Into = "gen"
		writePrograms(t, defs, typescript.Language{}, options, filepath.Join(dir, "src"), "call%d.ts")
		toolchain.Run(t, dir, "node_modules/.bin/tsc", "--noEmit")
	})
	t.Run("python", func(t *testing.T) {
		interpreter := toolchain.Python(t)
		dir := t.TempDir()
		files, err := python.Language{}.Generate(defs, stubs.About{Name: "awkward", Version: "draft"}, stubs.Everything(""))
		require.NoError(t, err)
		writeFiles(t, filepath.Join(dir, "gen"), files)
		toolchain.Run(t, dir, interpreter, "-m", "mypy", "--strict", "--python-version", "3.10", "-p", "gen")
		programs := writePrograms(t, defs, python.Language{}, stubs.Everything("gen"), dir, "call%d.py")
		if len(programs) > 0 {
			strict := []string{"-m", "mypy", "--strict", "--python-version", "3.10"}
			toolchain.Run(t, dir, interpreter, append(strict, programs...)...)
		}
		// A name that is taken shows only when a module is loaded.
		imports := ""
		for _, m := range defs.Modules {
			imports += "import gen." + strings.Join(python.Parts(m), ".") + "\n"
		}
		toolchain.Run(t, dir, interpreter, "-c", imports)
	})
	t.Run("java", func(t *testing.T) {
		libraries := toolchain.JavaLibraries(t)
		dir := t.TempDir()
		options := stubs.Everything("awkward.gen")
		options.Servlet, options.Jackson = true, true
		files, err := java.Language{}.Generate(defs, stubs.About{Name: "awkward", Version: "draft"}, options)
		require.NoError(t, err)
		writeFiles(t, filepath.Join(dir, "gen"), files)
		classes := filepath.Join(dir, "classes")
		toolchain.LintJava(t, libraries, classes, filepath.Join(dir, "gen"))
		programs := writePrograms(t, defs, java.Language{}, options, filepath.Join(dir, "calls"), "Call%d.java")
		for i, name := range programs { // whose classes may be called the same
			path := filepath.Join(dir, "calls", name)
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			changed := fmt.Sprintf("package call%d;\n", i) + strings.Replace(string(text), "public final class",
				"final class", 1)
			require.NoError(t, os.WriteFile(path, []byte(changed), 0o666))
		}
		if len(programs) > 0 {
			toolchain.CompileJava(t, classes+string(filepath.ListSeparator)+libraries, filepath.Join(dir, "compiled"),
				filepath.Join(dir, "calls"))
		}
	})
}
