// Package python writes Python stubs: a package for each module, with types,
// a client and a server, over support files that are emitted with them
// (support/).
//
//	names.go      names of definitions → names in Python
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
//	fast.go       reading what our own writers write
package python

import (
	"bytes"
	"cmp"
	"embed"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

//go:embed support/*.py
var support embed.FS

// Language makes Python stubs.
type Language struct{}

// Name returns "python".
func (Language) Name() string { return "python" }

// Title is "Python".
func (Language) Title() string { return "Python" }

// Within adds a package to a dotted name.
func (Language) Within(packageName, folder string) string { return packageName + "." + folder }

// Begin has nothing: the folder tells the dotted name.
func (Language) Begin(string) []string { return nil }

// Options returns the key package.
func (Language) Options() []stubs.Option {
	return []stubs.Option{
		{Key: "package", Doc: "the dotted name of the output folder's package; required where another output " +
			"shares its types"},
		{Key: "async", Default: "false", Doc: "adds clients for asyncio, which need the library httpx"},
	}
}

// Fits holds the name of the package against what Python takes for one.
func (Language) Fits(_ string, options stubs.Options) error {
	if options.Package != "" && !dotted.MatchString(options.Package) {
		return fmt.Errorf("package = %q is not the dotted name of a package; write, for example: package = \"project.gen\"",
			options.Package)
	}
	return nil
}

var dotted = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*(\.[A-Za-z_][A-Za-z0-9_]*)*$`)

// Generate returns the files of all modules and the support files.
func (Language) Generate(defs *schema.Definitions, about stubs.About, options stubs.Options) ([]stubs.File, error) {
	if !options.Types && !options.TypesInPackage {
		return nil, fmt.Errorf(`the Python output with the types needs its dotted name: write package = "project.gen" in its [[stubs]]`)
	}
	var files []stubs.File
	made := map[string]bool{}
	add := func(path string, source []byte) {
		if !made[path] {
			made[path] = true
			files = append(files, stubs.File{Path: path, Content: stubs.Seal("#", source)})
		}
	}
	calls := options.Client || options.Server
	weigh := weights{map[*schema.Message]int{}, selfHolding(defs)}
	for _, m := range defs.Modules {
		var exports []exported
		any := false
		for _, part := range []struct {
			name   string
			wanted bool
			emit   func(*generator)
		}{
			{"calls", calls && len(m.Services) > 0, (*generator).calls},
			{"client", options.Client && len(m.Services) > 0, (*generator).clients},
			{"client_async", options.Client && options.Async && len(m.Services) > 0, (*generator).asyncClients},
			{"server", options.Server && len(m.Services) > 0, (*generator).servers},
			{"types", options.Types, (*generator).types},
		} {
			if !part.wanted {
				continue
			}
			any = true
			g := &generator{Code: stubs.NewCode("    "), module: m, imports: map[string]bool{}, weights: weigh,
				apart:      part.name != "types",
				exhaustive: options.Exhaustive}
			if !options.Types {
				g.typesAt = options.TypesAt
			}
			part.emit(g)
			add(Folder(m)+"/"+part.name+".py", g.file(part.name))
			if part.name != "calls" && len(g.exported) > 0 {
				slices.SortFunc(g.exported, byKind)
				exports = append(exports, exported{part.name, g.exported})
			}
		}
		if !any {
			continue
		}
		add(Folder(m)+"/__init__.py", indexOf(m, exports))
	}
	for _, m := range defs.Modules {
		parts := Parts(m)
		for i := range parts {
			add(strings.Join(parts[:i], "/")+strings.Repeat("/", min(i, 1))+"__init__.py", nil)
		}
	}
	add("py.typed", nil) // PEP 561: the package has types of its own
	add("faithful/__init__.py", []byte("\"\"\"What the stubs next to it share.\"\"\"\n"))
	if calls {
		manual := options.Server && options.Manual != ""
		add("faithful/about.py", aboutFile(defs, about, manual))
		if manual {
			add("faithful/manual.py", manualFile(options.Manual))
		}
	}
	both := slices.ContainsFunc(defs.Calls(), func(c *schema.Call) bool { return conversation.BothWays(c) })
	wanted := func(name string) bool {
		switch name {
		case "wire.py":
			return options.Types
		case "exchange.py", "client.py":
			return options.Client
		case "sockets.py": // the WebSocket library is wanted only where a call streams both ways
			return options.Client && both
		case "aio.py":
			return options.Client && options.Async
		case "aiosockets.py":
			return options.Client && options.Async && both
		case "server.py", "conditional.py":
			return options.Server
		}
		return calls
	}
	sharedWire := regexp.MustCompile(`\n(from \. import [a-z, ]+), wire`) // of the output with the types
	err := fs.WalkDir(support, "support", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !wanted(d.Name()) {
			return err
		}
		source, err := support.ReadFile(path)
		if !options.Types {
			source = sharedWire.ReplaceAll(source, []byte("\n${1}\nfrom "+options.TypesAt+".faithful import wire"))
			source = bytes.ReplaceAll(source, []byte("\nfrom . import wire\n"),
				[]byte("\nfrom "+options.TypesAt+".faithful import wire\n"))
		}
		add("faithful"+strings.TrimPrefix(path, "support"), source)
		return err
	})
	slices.SortFunc(files, func(a, b stubs.File) int { return strings.Compare(a.Path, b.Path) })
	return files, err
}

// exported are the names that a file of a module gives to others.
type exported struct {
	file  string
	names []string
}

// indexOf is the file of a module's package. What it exports is imported when it is asked for, so
// that types alone cost no client, server or HTTP library.
func indexOf(m *schema.Module, exports []exported) []byte {
	c := stubs.NewCode("    ")
	c.P("%s", docString(moduleDoc(m)))
	if len(exports) == 0 {
		return c.Bytes()
	}
	where := map[string]string{}
	var names []string
	for _, e := range exports {
		names = append(names, e.names...)
		for _, name := range e.names {
			where[name] = e.file
		}
	}
	slices.Sort(names)
	slices.SortStableFunc(names, func(a, b string) int { return kindOf(a) - kindOf(b) })
	c.P("")
	c.P("import typing")
	c.P("from importlib import import_module as _import_module")
	c.P("")
	block(c, "if typing.TYPE_CHECKING:", func() {
		for _, e := range exports {
			c.In(fmt.Sprintf("from .%s import (", e.file), func() {
				for _, name := range e.names {
					c.P("%s,", name)
				}
			}, ")")
		}
	})
	block(c, "else:", func() {
		c.In("_FILES = {", func() {
			for _, name := range names {
				c.P("%s: %s,", quote(name), quote(where[name]))
			}
		}, "}")
		c.P("")
		block(c, "def __getattr__(name: str) -> object:", func() {
			block(c, "if name not in _FILES:", func() {
				c.P("raise AttributeError(f\"module {__name__!r} has no attribute {name!r}\")")
			})
			c.P("value = getattr(_import_module(f\"{__name__}.{_FILES[name]}\"), name)")
			c.P("globals()[name] = value")
			c.P("return value")
		})
		c.P("")
		block(c, "def __dir__() -> list[str]:", func() { c.P("return sorted(_FILES)") })
	})
	c.P("")
	c.P("")
	c.In("__all__ = [", func() {
		for _, name := range names {
			c.P("%s,", quote(name))
		}
	}, "]")
	return c.Bytes()
}

// kindOf tells constants, classes and the rest apart, by which formatters
// order names.
func kindOf(name string) int {
	switch {
	case len(name) > 1 && strings.ToUpper(name) == name:
		return 0
	case name[0] >= 'A' && name[0] <= 'Z':
		return 1
	}
	return 2
}

// byKind orders names as formatters do in imports.
func byKind(a, b string) int {
	return cmp.Or(kindOf(a)-kindOf(b), strings.Compare(strings.ToLower(a), strings.ToLower(b)), strings.Compare(a, b))
}

func moduleDoc(m *schema.Module) string {
	if m.Doc == "" {
		return "The module " + m.Name + "."
	}
	return m.Doc
}

// quote writes a string literal.
func quote(s string) string {
	var b strings.Builder
	mark := '"'
	if strings.Count(s, `"`) > strings.Count(s, `'`) { // as formatters choose
		mark = '\''
	}
	b.WriteRune(mark)
	for _, r := range s {
		switch {
		case r == mark || r == '\\':
			b.WriteString("\\" + string(r))
		case r == '\n':
			b.WriteString(`\n`)
		case r < 0x20 || r == 0x7f:
			b.WriteString(`\x` + strconv.FormatInt(int64(r)+0x100, 16)[1:])
		default:
			b.WriteRune(r)
		}
	}
	return b.String() + string(mark)
}

// bytesLiteral writes bytes.
func bytesLiteral(data []byte) string {
	var b strings.Builder
	b.WriteString(`b"`)
	for _, c := range data {
		switch {
		case c == '"' || c == '\\':
			b.WriteString("\\" + string(rune(c)))
		case c >= 0x20 && c < 0x7f:
			b.WriteByte(c)
		default:
			b.WriteString(`\x` + strconv.FormatInt(int64(c)+0x100, 16)[1:])
		}
	}
	return b.String() + `"`
}

// docString writes documentation.
func docString(doc string) string {
	doc = strings.ReplaceAll(strings.ReplaceAll(doc, `\`, `\\`), `"""`, `\"\"\"`)
	if rest, ok := strings.CutSuffix(doc, `"`); ok {
		if before := strings.TrimRight(rest, `\`); (len(rest)-len(before))%2 == 0 { // not escaped yet
			doc = rest + `\"`
		}
	}
	if strings.Contains(doc, "\n") {
		return `"""` + doc + "\n" + `"""`
	}
	return `"""` + doc + `"""`
}

// generator writes one file of one module.
type generator struct {
	*stubs.Code
	module    *schema.Module
	imports   map[string]bool // whole import lines
	exported  []string
	apart     bool           // whether the module's types are in another file
	local     []*schema.Decl // what is in this file all the same
	pending   []byte         // bytes that wait to be written with what comes after them
	used      map[string]int // how often each name stands for a variable of the current function
	constants []string       // the limits of bounds that have to be made
	typesAt   string         // the package of the output with the types, "" when it is this one
	weights   weights        // what messages weigh

	exhaustive bool
	shown      string // what errors call the message of a body, "" for its own name
}

// def writes a function or method; async is "async " or nothing.
func (g *generator) def(async, name string, parameters []string, result string, body func()) {
	g.block(async+"def "+stubs.Call(name, parameters...)+" -> "+result+":", body)
}

// function writes a function or method, in which every variable is new.
func (g *generator) function(name string, parameters []string, result string, body func()) {
	g.used = map[string]int{}
	g.def("", name, parameters, result, body)
}

// method writes a function as function does, with a line after it.
func (g *generator) method(name string, parameters []string, result string, body func()) {
	g.function(name, parameters, result, body)
	g.P("")
}

// sum writes a sum of texts.
func sum(terms ...string) string { return stubs.Either(terms[0], plus(terms[1:])...) }

func plus(terms []string) []string {
	added := make([]string, len(terms))
	for i, term := range terms {
		added[i] = "+ " + term
	}
	return added
}

// fresh is a name that no variable of the current function has yet.
func (g *generator) fresh(base string) string {
	if g.used == nil {
		g.used = map[string]int{}
	}
	g.used[base]++
	if n := g.used[base]; n > 1 {
		return base + strconv.Itoa(n)
	}
	return base
}

// doc writes a docstring, if there is one.
func (g *generator) doc(doc string) {
	if doc == "" {
		return
	}
	for line := range strings.SplitSeq(docString(doc), "\n") {
		g.P("%s", strings.TrimRight(line, " "))
	}
}

// docOf ends documentation with why something is deprecated.
func docOf(doc, deprecated string) string { return stubs.DocOf(doc, ".. deprecated:: ", deprecated) }

func (g *generator) export(name string) { g.exported = append(g.exported, name) }

// file puts documentation and imports before what was written.
func (g *generator) file(part string) []byte {
	head := stubs.NewCode("    ")
	what := map[string]string{"types": "Types", "calls": "What clients and servers share", "client": "Clients",
		"client_async": "Clients for asyncio", "server": "Servers"}[part]
	head.P("%s", docString(what+" of the module "+g.module.Name+"."))
	head.P("")
	if part == "types" || part == "calls" {
		head.P("# pyright: reportPrivateUsage=false")
		head.P("# The modules of these stubs use what is private in each other, and nobody else does.")
		head.P("")
	}
	head.P("from __future__ import annotations")
	var standard, own []string
	for line := range g.imports {
		if strings.HasPrefix(line, "from .") {
			own = append(own, line)
		} else {
			standard = append(standard, line)
		}
	}
	// As formatters have it: "import" before "from", each by name; relative
	// imports from afar before those from near.
	slices.SortFunc(standard, func(a, b string) int {
		if x, y := strings.HasPrefix(a, "from"), strings.HasPrefix(b, "from"); x != y {
			if x {
				return 1
			}
			return -1
		}
		return strings.Compare(a, b)
	})
	dots := func(s string) int {
		return len(strings.TrimPrefix(s, "from ")) - len(strings.TrimLeft(strings.TrimPrefix(s, "from "), "."))
	}
	slices.SortFunc(own, func(a, b string) int {
		if x, y := dots(a), dots(b); x != y {
			return y - x
		}
		return strings.Compare(strings.ReplaceAll(a, " ", "\x00"), strings.ReplaceAll(b, " ", "\x00"))
	})
	for _, group := range [][]string{standard, own} {
		if len(group) > 0 {
			head.P("")
		}
		for _, line := range group {
			head.P("%s", line)
		}
	}
	if len(g.constants) > 0 {
		head.P("")
		for _, c := range g.constants {
			head.P("%s", c)
		}
	}
	return append(head.Bytes(), g.Bytes()...)
}

// up is the relative path of the output's own package.
func (g *generator) up() string { return strings.Repeat(".", len(Parts(g.module))+1) }

func (g *generator) use(line string) { g.imports[line] = true }

// types is the package that holds the types, as imports write it.
func (g *generator) typesRoot() string {
	if g.typesAt != "" {
		return g.typesAt + "."
	}
	return g.up()
}

func (g *generator) wire() string {
	g.use("from " + g.typesRoot() + "faithful import wire as _wire")
	return "_wire"
}

func (g *generator) faithful(name string) string {
	g.use("from " + g.up() + "faithful import " + name + " as _" + name)
	return "_" + name
}

// name is a declared name as this file writes it.
func (g *generator) name(d *schema.Decl) string {
	switch {
	case d.Module == g.module && (!g.apart || slices.Contains(g.local, d)):
		return d.Name
	case d.Module == g.module && g.typesAt == "":
		g.use("from . import types as _types")
		return "_types." + d.Name
	}
	parts := Parts(d.Module)
	g.use("from " + g.typesRoot() + strings.Join(parts, ".") + " import types as " + importName(d.Module))
	return importName(d.Module) + "." + d.Name
}

func (g *generator) typ(t *schema.Type) string {
	s := spell(t, g.name)
	g.needs(s)
	return s
}

// needs imports what the text of a type names.
func (g *generator) needs(s string) {
	for word, line := range map[string]string{"_UUID": "from uuid import UUID as _UUID",
		"_Decimal": "from decimal import Decimal as _Decimal", "_date": "from datetime import date as _date"} {
		if strings.Contains(s, word) {
			g.use(line)
		}
	}
	if strings.Contains(s, "_wire.") {
		g.wire()
	}
}

// manualFile is the manual of the definitions, for servers.
func manualFile(packed string) []byte {
	c := stubs.NewCode("    ")
	c.P("\"\"\"The manual of the definitions that these stubs were made from.\"\"\"")
	c.P("")
	c.P("MANUAL = \"\"\"%s\"\"\"", packed)
	c.P("\"\"\"What servers answer at /-/manual: pages by their paths, as JSON in gzip in base64url.\"\"\"")
	return c.Bytes()
}

func aboutFile(defs *schema.Definitions, about stubs.About, manual bool) []byte {
	c := stubs.NewCode("    ")
	c.P("\"\"\"The definitions that these stubs were made from.\"\"\"")
	c.P("")
	if manual {
		c.P("from .manual import MANUAL")
	}
	c.P("from .web import Definitions, ErrorPage")
	c.P("")
	c.In("DEFINITIONS = Definitions(", func() {
		c.P("name=%s,", quote(about.Name))
		c.P("version=%s,", quote(about.Version))
		c.P("digest=%s,", quote(defs.Digest()))
		if manual {
			c.P("manual=MANUAL,")
		}
		c.In("modules={", func() {
			for _, m := range defs.Modules {
				c.In(quote(m.Name)+": (", func() {
					for line := range strings.SplitAfterSeq(m.Canonical(), "\n") {
						if line != "" {
							c.P("%s", quote(line))
						}
					}
				}, "),")
			}
		}, "},")
		c.In("errors=[", func() {
			for _, m := range defs.Modules {
				for _, e := range m.Messages {
					if e.IsError() {
						c.P("%s,", stubs.Call("ErrorPage", quote(e.FullName()), strconv.Itoa(e.Status), quote(e.Doc)))
					}
				}
			}
		}, "],")
	}, ")")
	return c.Bytes()
}
