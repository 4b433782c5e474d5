package compare

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/compare/verdict"
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

// randomChanges draws pairs of definitions that load, as texts of the module
// skerry.truth, always the same ones.
func randomChanges(t *testing.T, count int, draw func(t *rapid.T) [2]string) (pairs [][2]string) {
	generator := rapid.Custom(draw)
	for seed := 0; len(pairs) < count; seed++ {
		require.Less(t, seed, 20*count, "hardly any definitions load")
		pair := generator.Example(seed)
		if loads(pair[0]) && loads(pair[1]) && pair[0] != pair[1] {
			pairs = append(pairs, pair)
		}
	}
	return pairs
}

func loads(text string) bool {
	_, findings := check.Load([]*source.File{source.NewFile("truth.faithful", text)})
	return source.Errors(findings) == 0
}

// loadTogether loads texts of the module skerry.truth, each as a module of its own.
func loadTogether(t *testing.T, texts map[string]string) *schema.Definitions {
	var files []*source.File
	for _, name := range slices.Sorted(maps.Keys(texts)) {
		files = append(files, source.NewFile(name+".faithful",
			strings.ReplaceAll(texts[name], "skerry.truth", "skerry."+name)))
	}
	defs, findings := check.Load(files)
	require.Zero(t, source.Errors(findings), "%v", findings)
	return defs
}

// addTo draws additions to a model: nothing that is there changes.
func addTo(t *rapid.T, m model) string {
	m = m.clone()
	var calls, fails, more string
	for i := range rapid.IntRange(1, 5).Draw(t, "additions") {
		switch rapid.IntRange(0, 9).Draw(t, "addition") {
		case 0, 1, 2:
			x := &m.messages[rapid.IntRange(0, len(m.messages)-1).Draw(t, "message")]
			typ := drawType(t, m)
			presence := drawPresence(t, m, typ)
			if presence == "" {
				presence = "?"
			}
			x.fields = append(x.fields, modelField{20 + i, fmt.Sprintf("added_%d", i), typ, presence, drawBounds(t, typ), ""})
		case 3:
			e := &m.enums[rapid.IntRange(0, len(m.enums)-1).Draw(t, "enum")]
			e.members = append(e.members, modelMember{20 + i, fmt.Sprintf("added_%d", i), ""})
		case 4:
			if len(m.unions) > 0 {
				m.unions[0].alternatives = append(m.unions[0].alternatives,
					modelField{number: 20 + i, name: fmt.Sprintf("added_%d", i), typ: drawType(t, m)})
			}
		case 5:
			more += fmt.Sprintf("error Added%d 409 { #1 why text? }\n", i)
			fails += fmt.Sprintf(", Added%d", i)
		case 6:
			calls += fmt.Sprintf("  call added_%d(%s) -> ()\n", i, m.messages[0].name)
		case 7:
			more += fmt.Sprintf("service Added%d { call come(stream %s) -> %s call go(%s) -> stream %s }\n", i,
				m.messages[0].name, m.messages[1].name, m.messages[1].name, m.messages[0].name)
		case 8:
			more += fmt.Sprintf("const ADDED_%d text = \"x\"\ntype Added%d = [%s] where count <= 4\n", i, i, m.enums[0].name)
		case 9:
			more += fmt.Sprintf("message Added%d { #1 other %s? #2 deck %s = %s }\nenum AddedEnum%d { #0 none }\nunion "+
				"AddedUnion%d { #1 note text }\n",
				i, m.messages[0].name, m.enums[0].name, m.enums[0].members[0].name, i, i)
		}
	}
	text := strings.TrimSuffix(m.text(), "}\n")
	if fails != "" {
		text += "    fails " + strings.TrimPrefix(fails, ", ") + "\n"
	}
	return text + calls + "}\n" + more
}

// TestAdditionsNeverBreakCode makes random additions to random definitions, and
// compiles programs that use all of the old stubs against the new ones, in every
// language.
func TestAdditionsNeverBreakCode(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out what takes long")
	}
	const count = 100
	pairs := randomChanges(t, count, func(t *rapid.T) [2]string {
		m := drawModel(t)
		return [2]string{m.text(), addTo(t, m)}
	})
	texts, before := map[string]string{}, map[string]*schema.Definitions{}
	facts := 0
	for i, pair := range pairs {
		old := loadTogether(t, map[string]string{"harbour": pair[0]})
		report := Compare(old, loadTogether(t, map[string]string{"harbour": pair[1]}),
			Promise{Rollout: "server-leads", Stored: "each-reads-other",
				Languages: languages})
		for _, f := range report.Changes {
			assert.Equal(t, verdict.Compatible, f.Verdict(), "%s %s in\n%s", f.Kind, f.Where, pair[1])
		}
		facts += len(report.Changes)
		name := fmt.Sprintf("m%d", i)
		texts[name], before[name] = pair[1], old
	}
	new := loadTogether(t, texts)
	// The program of each old module uses the new module in its place.
	renamed := func(program, name string) string {
		return regexp.MustCompile(`\bharbour\b`).ReplaceAllString(program, name)
	}

	t.Run("go", func(t *testing.T) {
		dir := t.TempDir()
		write(t, filepath.Join(dir, "go.mod"), "module truth\n\ngo 1.24\n")
		writeStubs(t, filepath.Join(dir, "new"), golang.Language{}, new, stubs.Everything("truth/new"))
		for name, old := range before {
			for _, who := range concerned {
				program := goProgram(old, "truth/new", who)
				program = strings.Replace(program, "_ harbour.Booking", "_ harbour.Message0", 1)
				write(t, filepath.Join(dir, "use", name, who, "use.go"), renamed(program, name))
			}
		}
		toolchain.Run(t, dir, "go", "build", "./...")
	})
	t.Run("typescript", func(t *testing.T) {
		toolchain.Require(t, "typescript")
		dir := typescriptProject(t)
		writeStubs(t, filepath.Join(dir, "src"), typescript.Language{}, new, stubs.Everything(""))
		for name, old := range before {
			for _, who := range concerned {
				write(t, filepath.Join(dir, "src", name+"_"+who+".ts"), renamed(tsProgram(old, who), name))
			}
		}
		toolchain.Run(t, dir, "node_modules/.bin/tsc")
	})
	t.Run("python", func(t *testing.T) {
		interpreter := toolchain.Python(t)
		dir := t.TempDir()
		writeStubs(t, filepath.Join(dir, "gen"), python.Language{}, new, stubs.Everything("gen"))
		arguments := []string{"-m", "mypy", "--strict", "--explicit-package-bases", "--follow-imports=silent"}
		for name, old := range before {
			for _, who := range concerned {
				write(t, filepath.Join(dir, name+"_"+who+".py"), renamed(pyProgram(old, "gen", who), name))
				arguments = append(arguments, name+"_"+who+".py")
			}
		}
		assert.Contains(t, toolchain.Run(t, dir, interpreter, arguments...),
			fmt.Sprintf("no issues found in %d source files", len(concerned)*len(before)))
	})
	t.Run("java", func(t *testing.T) {
		toolchain.Require(t, "java")
		dir := t.TempDir()
		writeStubs(t, filepath.Join(dir, "new", "gen"), java.Language{}, new, stubs.Everything("gen"))
		for name, old := range before {
			for _, who := range concerned {
				program := javaProgram(old, "gen", "skerry.harbour", who)
				program = strings.Replace(program, "package use;", "package use."+name+";", 1)
				write(t, filepath.Join(dir, "new", "use", name, "Use_"+who+".java"), renamed(program, name))
			}
		}
		assert.Empty(t, javaFails(t, dir, []string{"new"}))
	})
	t.Logf("%d random definitions with %d additions compile in each language", len(pairs), facts)
}

// typescriptProject is a folder in which tsc checks src/ strictly.
func typescriptProject(t *testing.T) string {
	example := filepath.Join(toolchain.Root(), "examples/ferry/typescript")
	toolchain.InstallNode(t, example)
	dir := t.TempDir()
	require.NoError(t, os.Symlink(filepath.Join(example, "node_modules"), filepath.Join(dir, "node_modules")))
	config, err := os.ReadFile(filepath.Join(example, "tsconfig.json"))
	require.NoError(t, err)
	write(t, filepath.Join(dir, "tsconfig.json"),
		strings.NewReplacer(`"noUnusedLocals": true,`, "", `"noUnusedParameters": true,`, "").Replace(string(config)))
	write(t, filepath.Join(dir, "package.json"), `{"type": "module"}`)
	return dir
}

// replayed is a proof, and what its reader makes of it.
type replayed struct {
	Message    string            `json:"message"` // its module and its name
	Encoding   string            `json:"encoding"`
	Payload    string            `json:"payload"` // hexadecimal
	Accepted   bool              `json:"accepted"`
	CBOR       *string           `json:"cbor"`
	JSON       *string           `json:"json"`
	Why        string            `json:"why,omitempty"`
	Violations []value.Violation `json:"violations"`
}

// TestProofsInEveryLanguage gives the proofs of random changes to the readers
// that are generated: they must make of them what the reference reader does, whose
// outcome the proof states.
func TestProofsInEveryLanguage(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out what takes long")
	}
	const count = 100
	pairs := randomChanges(t, count, func(t *rapid.T) [2]string {
		before := drawModel(t)
		after := before
		for range rapid.IntRange(1, 3).Draw(t, "changes") {
			after = changeModel(t, after)
		}
		return [2]string{before.text(), after.text()}
	})
	texts := map[string]string{}
	var list []replayed
	for i, pair := range pairs {
		names := [2]string{fmt.Sprintf("old%d", i), fmt.Sprintf("new%d", i)}
		texts[names[0]], texts[names[1]] = pair[0], pair[1]
		sides := [2]*schema.Definitions{loadTogether(t, map[string]string{"truth": pair[0]}),
			loadTogether(t, map[string]string{"truth": pair[1]})}
		report := Compare(sides[0], sides[1], Promise{Rollout: "unordered", Stored: "each-reads-other",
			Covers: []string{"binary", "json"}})
		for _, f := range report.Changes {
			for _, e := range f.Effects {
				w := e.Proof
				if w == nil || w.Alone || e.Verdict != verdict.Breaking || w.ReadAs == "" || standsAlone(sides, w.ReadAs) {
					continue
				}
				side := 0
				if e.NewReads {
					side = 1
				}
				reader := messageOf(sides[side], w.ReadAs)
				require.NotNil(t, reader, "%s", w.ReadAs)
				r := replay(reader, w)
				assert.True(t, !r.Accepted || len(r.Violations) > 0 || strings.Contains(w.Outcome, "reads ") ||
					strings.Contains(w.Outcome, "finds no "), "%s", w.Outcome)
				r.Message = names[side] + "." + reader.Name
				list = append(list, r)
			}
		}
	}
	require.Greater(t, len(list), count, "changes with proofs")
	all := loadTogether(t, texts)
	content, err := json.Marshal(list)
	require.NoError(t, err)
	agree := fmt.Sprintf("%d payloads agree\n", len(list))

	t.Run("go", func(t *testing.T) {
		dir := t.TempDir()
		write(t, filepath.Join(dir, "go.mod"), "module truth\n\ngo 1.24\n")
		writeStubs(t, filepath.Join(dir, "gen"), golang.Language{}, all, stubs.Everything("truth/gen"))
		program, err := os.ReadFile("testdata/replay/main.go")
		require.NoError(t, err)
		write(t, filepath.Join(dir, "main.go"), string(program))
		var imports, entries strings.Builder
		for _, m := range all.Modules {
			fmt.Fprintf(&imports, "\t%q\n", "truth/gen/"+golang.Folder(m))
			for _, x := range m.Messages {
				fmt.Fprintf(&entries, "\t%q: func() message { return new(%s.%s) },\n", golang.PackageName(m)+"."+x.Name,
					golang.PackageName(m), x.Name)
			}
		}
		write(t, filepath.Join(dir, "messages.go"),
			fmt.Sprintf("package main\n\nimport (\n%s)\n\nvar messages = map[string]func() message{\n%s}\n", imports.String(),
				entries.String()))
		write(t, filepath.Join(dir, "list.json"), string(content))
		assert.Equal(t, agree, toolchain.Run(t, dir, "go", "run", ".", "list.json"))
	})
	t.Run("typescript", func(t *testing.T) {
		toolchain.Require(t, "typescript")
		dir := typescriptProject(t)
		writeStubs(t, filepath.Join(dir, "src/gen"), typescript.Language{}, all, stubs.Everything(""))
		source := filepath.Join(toolchain.Root(), "conformance/typescript/src")
		program, err := os.ReadFile(filepath.Join(source, "vectors.ts"))
		require.NoError(t, err)
		write(t, filepath.Join(dir, "src/vectors.ts"), string(program))
		codecs, err := os.ReadFile(filepath.Join(source, "codecs.ts"))
		require.NoError(t, err)
		_, attempt, found := strings.Cut(string(codecs), "/** What comes of an attempt")
		require.True(t, found)
		var imports, entries strings.Builder
		for _, m := range all.Modules {
			name := strings.TrimPrefix(m.Name, "skerry.")
			fmt.Fprintf(&imports, "import * as %s from \"./gen/skerry/%s/types.js\";\n", name, name)
			for _, x := range m.Messages {
				fmt.Fprintf(&entries, "  %q: %s.%s,\n", name+"."+x.Name, name, typescript.ToolsName(&x.Decl))
			}
		}
		write(t, filepath.Join(dir, "src/codecs.ts"),
			fmt.Sprintf("import * as wire from \"./gen/faithful/wire.js\";\n%s\nexport const codecs: "+
				"Readonly<Record<string, wire.ValueTools<unknown>>> = {\n%s};\n\n/** What comes of an attempt%s", imports.String(),
				entries.String(), attempt))
		write(t, filepath.Join(dir, "list.json"), string(content))
		toolchain.Run(t, dir, "node_modules/.bin/tsc")
		assert.Equal(t, agree, toolchain.Run(t, dir, "node", "dist/vectors.js", "list.json"))
	})
	t.Run("python", func(t *testing.T) {
		interpreter := toolchain.Python(t)
		dir := t.TempDir()
		writeStubs(t, filepath.Join(dir, "gen"), python.Language{}, all, stubs.Everything("gen"))
		program, err := os.ReadFile(filepath.Join(toolchain.Root(), "conformance/python/vectors.py"))
		require.NoError(t, err)
		head, rest, found := strings.Cut(string(program), "from gen.skerry.language")
		require.True(t, found)
		_, rest, found = strings.Cut(rest, "\nT = TypeVar")
		require.True(t, found)
		var modules []string
		for _, m := range all.Modules {
			modules = append(modules, fmt.Sprintf("%q", strings.TrimPrefix(m.Name, "skerry.")))
		}
		write(t, filepath.Join(dir, "vectors.py"), head+fmt.Sprintf(`import importlib

CLASSES: dict[str, Any] = {}
for name in (%s):
    module = importlib.import_module("gen.skerry." + name + ".types")
    CLASSES.update({name + "." + key: value for key, value in vars(module).items() if hasattr(value, "from_cbor")})

T = TypeVar`, strings.Join(modules, ", "))+rest)
		write(t, filepath.Join(dir, "list.json"), string(content))
		assert.Equal(t, agree, toolchain.Run(t, dir, interpreter, "vectors.py", "list.json"))
	})
	t.Run("java", func(t *testing.T) {
		toolchain.Require(t, "java")
		dir := t.TempDir()
		writeStubs(t, filepath.Join(dir, "conformance", "gen"), java.Language{}, all, stubs.Options{Types: true,
			Package: "conformance.gen"})
		program, err := os.ReadFile(filepath.Join(toolchain.Root(), "conformance/java/src/conformance/Vectors.java"))
		require.NoError(t, err)
		text := regexp.MustCompile(`import conformance\.gen\.skerry.*\n`).ReplaceAllString(string(program), "")
		head, rest, found := strings.Cut(text, "      Map.ofEntries(\n")
		require.True(t, found)
		_, rest, found = strings.Cut(rest, "CODEC));\n")
		require.True(t, found)
		var entries []string
		for _, m := range all.Modules {
			for _, x := range m.Messages {
				entries = append(entries, fmt.Sprintf("all.put(%q, conformance.gen.%s.%s.CODEC);",
					strings.TrimPrefix(m.Name, "skerry.")+"."+x.Name, m.Name, x.Name))
			}
		}
		write(t, filepath.Join(dir, "conformance", "Vectors.java"),
			head+"all();\n\nstatic Map<String, Codec<?>> all() {\nMap<String, Codec<?>> all = new java.util.HashMap<>();\n"+
				strings.Join(entries, "\n")+"\nreturn all;\n}\n"+rest)
		lines := strings.ReplaceAll(strings.Trim(string(content), "[]"), "},{\"message\"", "}\n{\"message\"")
		write(t, filepath.Join(dir, "list.jsonl"), lines)
		toolchain.CompileJava(t, ".", filepath.Join(dir, "classes"), dir)
		assert.Equal(t, agree,
			toolchain.Run(t, dir, "java", "-cp", "classes", "conformance.Vectors", "list.jsonl"))
	})
	t.Logf("%d proofs of %d random changes", len(list), len(pairs))
}

// standsAlone tells whether a name is that of an enum, a union or a named type, which is
// judged without a message: there is nothing to read it by.
func standsAlone(sides [2]*schema.Definitions, name string) bool {
	for _, d := range sides {
		for _, decl := range d.Modules[0].Declarations() {
			if _, isMessage := decl.(*schema.Message); !isMessage && decl.Head().FullName() == name {
				return true
			}
		}
	}
	return false
}

func messageOf(d *schema.Definitions, name string) *schema.Message {
	for _, m := range d.Modules[0].Messages {
		if m.FullName() == name {
			return m
		}
	}
	return nil
}

// replay lets the reference decide what must become of a proof.
func replay(reader *schema.Message, w *verdict.Proof) replayed {
	r := replayed{Encoding: "cbor", Payload: hex.EncodeToString(w.Binary)}
	read, payload := value.DecodeCBOR, w.Binary
	if w.Encoding == "json" {
		r.Encoding, r.Payload = "json", hex.EncodeToString([]byte(w.JSON))
		read, payload = value.DecodeJSON, []byte(w.JSON)
	}
	m, err := read(reader, payload, 0)
	if err != nil {
		r.Why = err.Error()
		return r
	}
	r.Accepted, r.Violations = true, value.Validate(m)
	if b, err := value.EncodeCBOR(m); err == nil {
		s := hex.EncodeToString(b)
		r.CBOR = &s
	}
	if b, err := value.EncodeJSON(m); err == nil {
		s := string(b)
		r.JSON = &s
	}
	return r
}
