// Package typescript writes TypeScript stubs: a folder for each module, with
// types, a client and a server, over support files that are emitted with them
// (support/). The output is ECMAScript modules for tsc's nodenext resolution.
//
//	names.go      names of definitions → names in TypeScript
//	scalars.go    a row for each scalar
//	types.go      constants, enums, messages and errors
//	named.go      named types
//	unions.go     unions
//	codec.go      reading and writing CBOR and JSON
//	patches.go    patches: how they are read, written, applied and made
//	bounds.go     what finds violations
//	service.go    clients and servers
//	scaffold.go   the first lines of a server
//	compatible.go what changes do to programs over the stubs
//	make.go       what makes values whole
package typescript

import (
	"bytes"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

//go:embed support
var support embed.FS

// Language makes TypeScript stubs.
type Language struct{}

// Name returns "typescript".
func (Language) Name() string { return "typescript" }

// Title is "TypeScript".
func (Language) Title() string { return "TypeScript" }

// Within adds a folder to a specifier.
func (Language) Within(packageName, folder string) string { return packageName + "/" + folder }

// Begin has nothing: files import each other.
func (Language) Begin(string) []string { return nil }

// Options lists the keys of its own.
func (Language) Options() []stubs.Option {
	return []stubs.Option{
		{Key: "package", Doc: "how other packages import the output folder, where they share its types; by default " +
			"they use its path"},
		{Key: "encodings", Default: `["cbor", "json"]`, Doc: "[\"json\"] leaves out CBOR, for small pages: with the roles " +
			"types and client, and target = \"browser\""},
		{Key: "target", Default: "any", Doc: "browser leaves out what only Node runs, so that nothing of Node is " +
			"needed to compile the rest"},
	}
}

// specifier matches what a package is imported by: its name, with a scope or without, and a folder in it; or one of
// package.json's own imports.
var specifier = regexp.MustCompile(`^(@[a-z0-9~-][a-z0-9._~-]*/)?[a-z0-9~-][a-z0-9._~-]*(/[A-Za-z0-9._~-]+)*$|` +
	`^#[A-Za-z0-9._~-]+(/[A-Za-z0-9._~-]+)*$`)

// jsonAlone tells an output that leaves out CBOR.
func jsonAlone(options stubs.Options) bool {
	return len(options.Encodings) > 0 && !slices.Contains(options.Encodings, "cbor")
}

// packaged comes before what is imported from a package.
const packaged = "package:"

// Fits takes any folder: modules are found by where they lie.
func (Language) Fits(_ string, options stubs.Options) error {
	if options.Package != "" && !specifier.MatchString(options.Package) {
		return fmt.Errorf("its package is %q; write how other packages import the folder, such as \"@skerry/messages\"",
			options.Package)
	}
	for _, e := range options.Encodings {
		if e != "cbor" && e != "json" {
			return fmt.Errorf("its encodings have %q; they are cbor and json", e)
		}
	}
	if jsonAlone(options) && (options.Server || !options.Types || options.Target != "browser") {
		return errors.New(`it leaves out CBOR, which servers and Node have: write roles = ["types", "client"] and ` +
			`target = "browser", or remove encodings`)
	}
	if len(options.Encodings) > 0 && !slices.Contains(options.Encodings, "json") {
		return errors.New(`its encodings lack "json", which errors travel in: add it`)
	}
	if !slices.Contains([]string{"", "any", "browser"}, options.Target) {
		return fmt.Errorf("its target is %q; it is any or browser", options.Target)
	}
	return nil
}

// Generate returns the files of all modules and the support files.
func (Language) Generate(defs *schema.Definitions, about stubs.About, options stubs.Options) ([]stubs.File, error) {
	var files []stubs.File
	add := func(path string, source []byte) {
		files = append(files, stubs.File{Path: path, Content: stubs.Seal("//", source)})
	}
	typesAt := ""
	if !options.Types {
		typesAt = options.TypesAt + "/"
		if options.TypesInPackage {
			typesAt = packaged + typesAt
		}
	}
	calls := options.Client || options.Server
	made, fails := madeFrom(defs), failing(defs)
	for _, m := range defs.Modules {
		index := stubs.NewCode("  ")
		index.P("")
		exported := 0
		for _, part := range []struct {
			name   string
			wanted bool
			emit   func(*generator)
		}{
			{"types", options.Types, (*generator).declarations}, {"calls", calls && len(m.Services) > 0, (*generator).calls},
			{"functions", options.Client && len(m.Services) > 0, (*generator).functions},
			{"client", options.Client && len(m.Services) > 0, (*generator).clients},
			{"server", options.Server && len(m.Services) > 0, (*generator).servers},
		} {
			if !part.wanted {
				continue
			}
			g := &generator{Code: stubs.NewCode("  "), module: m, imports: map[string]string{}, apart: part.name != "types",
				typesAt: typesAt, exhaustive: options.Exhaustive, made: made, fails: fails, jsonAlone: jsonAlone(options)}
			part.emit(g)
			add(Folder(m)+"/"+part.name+".ts", g.file())
			switch part.name {
			case "calls", "functions":
			case "types":
				exported += g.reexport(index)
			default:
				index.P("export * from %s;", text("./"+part.name+".js"))
				exported++
			}
		}
		if exported > 0 {
			add(Folder(m)+"/index.ts", index.Bytes())
		}
	}
	anyCall := func(is func(*schema.Call) bool) bool { return slices.ContainsFunc(defs.Calls(), is) }
	both := anyCall(conversation.BothWays)
	raw := anyCall(func(c *schema.Call) bool { return conversation.Raw(c) != nil || conversation.AnswerRaw(c) != nil })
	streams := anyCall(func(c *schema.Call) bool { return c.RequestStream || c.ResponseStream })
	if calls {
		manual := options.Server && options.Manual != ""
		add("faithful/about.ts", aboutFile(defs, about, manual))
		if manual {
			add("faithful/manual.ts", manualFile(options.Manual))
		}
	}
	if options.Client {
		add("faithful/connect.ts", connectFile())
	}
	patches := slices.ContainsFunc(defs.Modules, func(m *schema.Module) bool { return len(m.Patches) > 0 })
	err := fs.WalkDir(support, "support", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		node := options.Target != "browser"
		wanted := calls
		emitted := strings.TrimPrefix(path, "support")
		switch name := d.Name(); {
		case name == "without_cbor.ts":
			wanted, emitted = jsonAlone(options), "/cbor.ts"
		case name == "cbor.ts":
			wanted = options.Types && !jsonAlone(options)
		case name == "patch.ts":
			wanted = options.Types && patches
		case name == "node.ts":
			wanted = calls && node
		case name == "client_bodies.ts":
			wanted = options.Client && raw
		case name == "client_streams.ts":
			wanted = options.Client && streams
		case name == "client_sockets.ts":
			wanted = options.Client && both
		case name == "socket.ts":
			wanted = calls && node && both
		case slices.Contains(serverFiles, name): // Node's client and server are in one file
			wanted = options.Server || calls && node
		case slices.Contains(wireFiles, name):
			wanted = options.Types
		}
		if !wanted {
			return nil
		}
		source, err := support.ReadFile(path)
		if !options.Types {
			source = withTypesAt(source, typesAt)
		}
		add("faithful"+emitted, append([]byte("\n"), source...))
		return err
	})
	slices.SortFunc(files, func(a, b stubs.File) int { return strings.Compare(a.Path, b.Path) })
	return files, err
}

// withTypesAt has a support file import what comes with the types from where they are.
func withTypesAt(source []byte, typesAt string) []byte {
	for _, name := range wireFiles {
		file := strings.TrimSuffix(name, ".ts") + ".js"
		at := relative("faithful", typesAt+"faithful/"+file)
		source = bytes.ReplaceAll(source, []byte(text("./"+file)), []byte(text(at)))
	}
	return source
}

// wireFiles are the support files that types want; the others carry calls.
var wireFiles = []string{"body.ts", "cbor.ts", "json.ts", "json_values.ts", "plain.ts", "values.ts", "wire.ts"}

// serverFiles are those that servers alone want.
var serverFiles = []string{"conditional.ts", "raw.ts", "server.ts"}

// text writes a string literal.
func text(s string) string {
	b, err := json.Marshal(s)
	if err != nil {
		panic(err) // strings always encode
	}
	return string(b)
}

// generator writes one file of one module.
type generator struct {
	*stubs.Code
	module  *schema.Module
	imports map[string]string // name → file, below the output folder
	apart   bool              // whether the module's types are in another file
	local   []*schema.Decl    // what is in this file all the same
	types   []string          // that the module's index exports
	values  []string          // likewise
	typesAt string            // before the path of what the output with the types holds, "" when it is this one

	exhaustive bool
	jsonAlone  bool                  // without CBOR
	made       map[*schema.Decl]bool // see madeFrom
	fails      map[*schema.Decl]bool // see failing
}

// offerType notes a type that the index of the module exports, and returns its name.
func (g *generator) offerType(name string) string {
	g.types = append(g.types, name)
	return name
}

// offerValue is offerType for what is there when a program runs.
func (g *generator) offerValue(name string) string {
	g.values = append(g.values, name)
	return name
}

// reexport writes what the index of a module exports of its types, and returns how much that is: codecs, which are for
// other stubs, are not among it.
func (g *generator) reexport(index *stubs.Code) int {
	if len(g.types) > 0 {
		index.P("export type %s from \"./types.js\";", object(g.types...))
	}
	if len(g.values) > 0 {
		index.P("export %s from \"./types.js\";", object(g.values...))
	}
	return len(g.types) + len(g.values)
}

// file puts the imports before what was written.
func (g *generator) file() []byte {
	head := stubs.NewCode("  ")
	var names []string
	for name := range g.imports {
		names = append(names, name)
	}
	slices.SortFunc(names, func(a, b string) int { return strings.Compare(g.imports[a]+a, g.imports[b]+b) })
	if len(names) > 0 {
		head.P("")
	}
	for _, name := range names {
		head.P("import * as %s from %s;", name, text(relative(Folder(g.module), g.imports[name])))
	}
	return append(head.Bytes(), g.Bytes()...)
}

// relative is how a file of folder from imports another file, which may be in a package.
func relative(from, file string) string {
	if imported, ok := strings.CutPrefix(file, packaged); ok {
		return imported
	}
	up := strings.Repeat("../", strings.Count(from, "/")+1)
	if path.Dir(file) == from {
		return "./" + path.Base(file)
	}
	return up + file
}

func (g *generator) use(name, file string) string {
	g.imports[name] = file
	return name
}

func (g *generator) wire() string { return g.use("wire", g.typesAt+"faithful/wire.js") }
func (g *generator) web() string  { return g.use("web", "faithful/web.js") }

// patches is what patches are made with.
func (g *generator) patches() string { return g.use("patches", g.typesAt+"faithful/patch.js") }

// from is what stands before a name of a declaration: nothing in the file of
// the module's types, else the import.
func (g *generator) from(d *schema.Decl) string {
	switch {
	case d.Module == g.module && (!g.apart || slices.Contains(g.local, d)):
		return ""
	case d.Module == g.module:
		return g.use("types", g.typesAt+Folder(g.module)+"/types.js") + "."
	}
	return g.use(importName(d.Module, append(g.module.Uses(), g.module)), g.typesAt+Folder(d.Module)+"/types.js") + "."
}

// global is a name of the language itself, which a declaration of this module
// may have taken.
func (g *generator) global(name string) string {
	taken := slices.ContainsFunc(g.module.Declarations(), func(decl schema.Declaration) bool {
		switch decl.(type) {
		case *schema.Message, *schema.Enum, *schema.Union, *schema.NamedType:
			return decl.Head().Name == name
		}
		return false
	})
	if taken {
		return "globalThis." + name
	}
	return name
}

func (g *generator) doc(doc string) {
	if doc == "" {
		return
	}
	lines := strings.Split(strings.ReplaceAll(doc, "*/", "*\\/"), "\n")
	if len(lines) == 1 {
		g.P("/** %s */", lines[0])
		return
	}
	g.P("/**")
	for _, line := range lines {
		g.P("%s", strings.TrimRight(" * "+line, " "))
	}
	g.P(" */")
}

// manualFile is the manual of the definitions, for servers.
func manualFile(packed string) []byte {
	c := stubs.NewCode("  ")
	c.P("")
	c.P("/** What servers answer at /-/manual: pages by their paths, as JSON in gzip in base64url. */")
	c.P("export const manual = `%s`;", packed)
	return c.Bytes()
}

func aboutFile(defs *schema.Definitions, about stubs.About, manual bool) []byte {
	c := stubs.NewCode("  ")
	c.P("")
	c.P("/** The definitions that these stubs were made from. */")
	c.P("")
	if manual {
		c.P("import { manual } from \"./manual.js\";")
	}
	c.P("import type { Definitions } from \"./web.js\";")
	c.P("")
	c.P("/** Apart from them, so that clients need not carry their text. */")
	c.P("export const digest = %s;", text(defs.Digest()))
	c.P("")
	c.P("/** What the credentials are called, with and without their modules. */")
	c.P("export type CredentialName =%s;", stubs.Alternatives('|', credentialNames(defs)...))
	c.P("")
	c.In("export const definitions: Definitions = {", func() {
		c.P("name: %s,", text(about.Name))
		c.P("version: %s,", text(about.Version))
		c.P("digest,")
		if manual {
			c.P("manual,")
		}
		c.In("modules: [", func() {
			for _, m := range defs.Modules {
				c.P("{ name: %s, text: %s },", text(m.Name), text(m.Canonical()))
			}
		}, "],")
		c.In("errors: [", func() {
			for _, m := range defs.Modules {
				for _, e := range m.Messages {
					if e.IsError() {
						c.P("{ name: %s, status: %d, documentation: %s },", text(e.FullName()), e.Status, text(e.Doc))
					}
				}
			}
		}, "],")
	}, "};")
	return c.Bytes()
}

// connectFile is what knows the definitions of all services and carries calls of each.
func connectFile() []byte {
	c := stubs.NewCode("  ")
	c.P("")
	c.P("/** What calls servers, for the functions that each call has. */")
	c.P("")
	c.P("import { digest } from \"./about.js\";")
	c.P("import type { CredentialName } from \"./about.js\";")
	c.P("import { Client } from \"./client.js\";")
	c.P("import type * as client from \"./client.js\";")
	c.P("")
	c.P("/** How a client calls. */")
	c.P("export type Options = client.ClientOptions<CredentialName>;")
	c.P("")
	c.P("/** How one call is made. */")
	c.P("export type CallOptions = client.CallOptions<CredentialName>;")
	c.P("")
	c.P("/** Calls the server at base, such as \"http://127.0.0.1:8080\". */")
	c.In("export function connect(base: string, options: Options = {}): Client {", func() {
		c.P("return new Client(base, digest, options);")
	}, "}")
	return c.Bytes()
}

// credentialNames lists what credentials can be called, as literals.
func credentialNames(defs *schema.Definitions) []string {
	var names []string
	for _, m := range defs.Modules {
		for _, c := range m.Credentials {
			names = append(names, text(c.Name), text(c.FullName()))
		}
	}
	if len(names) == 0 {
		return []string{"never"}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// call writes what is called and its arguments.
func call(callee string, arguments ...string) string { return callee + stubs.Rows("(", arguments, ")") }

// object writes an object literal.
func object(members ...string) string {
	return stubs.Padded("{", members, "}")
}

// joined writes parts with an operator after each but the last.
func joined(operator string, parts []string) string {
	ends := slices.Clone(parts)
	for i := range len(ends) - 1 {
		ends[i] += operator
	}
	return stubs.Either(ends[0], ends[1:]...)
}

// function writes a function; its name may begin with "export".
func (g *generator) function(name string, parameters []string, result string, body func()) {
	open := "function "
	if exported, ok := strings.CutPrefix(name, "export "); ok {
		open, name = "export function ", exported
	}
	g.In(open+call(name, parameters...)+": "+result+" {", body, "}")
}

// method writes a method of an object literal.
func (g *generator) method(signature string, body func()) {
	g.In(signature+" {", body, "},")
}
