// Package golang writes Go stubs: a package for each module, with types,
// codecs, clients and servers, over two support packages that are emitted
// with them (support/).
//
//	names.go      names of definitions → names in Go
//	scalars.go    a row for each scalar
//	types.go      constants, enums, messages and errors
//	named.go      named types
//	unions.go     unions
//	codec.go      reading and writing CBOR and JSON
//	bounds.go     what finds violations
//	service.go    clients and servers
//	scaffold.go   the first lines of a server
//	compatible.go what changes do to programs over the stubs
//	layout.go     the layout of gofmt
package golang

import (
	"embed"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

//go:embed support
var support embed.FS

const supportImport = "faithfulcourier/internal/stubs/golang/support"

// Language makes Go stubs.
type Language struct{}

// Name returns "go".
func (Language) Name() string { return "go" }

// Title is "Go".
func (Language) Title() string { return "Go" }

// Within adds a folder to an import path.
func (Language) Within(packageName, folder string) string { return packageName + "/" + folder }

// Begin has an import path, without which Go can import nothing.
func (Language) Begin(name string) []string {
	return []string{fmt.Sprintf("package  = %q   # its import path: the module of your go.mod, and the folder",
		name+"/gen/go")}
}

// Options returns the key package.
func (Language) Options() []stubs.Option {
	return []stubs.Option{{Key: "package", Doc: "the import path of the output folder; required"}}
}

// Fits holds the import path against the module that the folder is in.
func (Language) Fits(dir string, options stubs.Options) error {
	if options.Package == "" {
		return nil // said by Generate
	}
	if !importPath.MatchString(options.Package) {
		return fmt.Errorf("package = %q is not an import path; write, for example: package = \"example.org/project/gen\"",
			options.Package)
	}
	for root := dir; filepath.Dir(root) != root; root = filepath.Dir(root) {
		text, err := os.ReadFile(filepath.Join(root, "go.mod"))
		if err != nil {
			continue
		}
		module := modulePath.FindSubmatch(text)
		below, err := filepath.Rel(root, dir)
		if module == nil || err != nil {
			return err
		}
		if fits := path.Join(string(module[1]), filepath.ToSlash(below)); fits != options.Package {
			return fmt.Errorf("package = %q does not fit go.mod, by which the folder is %q: write package = %q",
				options.Package, fits, fits)
		}
		return nil
	}
	return nil
}

// importPath is what Go takes for a path (go.dev/ref/mod, section Module paths), and
// modulePath finds the path of a module in its go.mod.
var (
	importPath = regexp.MustCompile(`^[A-Za-z0-9_~-][A-Za-z0-9._~-]*(/[A-Za-z0-9_~-][A-Za-z0-9._~-]*)*$`)
	modulePath = regexp.MustCompile(`(?m)^module[ \t]+"?([^\s"]+)`)
)

// Generate returns the files of all modules and of the support packages.
func (Language) Generate(defs *schema.Definitions, about stubs.About, options stubs.Options) ([]stubs.File, error) {
	root, types := strings.Trim(options.Package, "/"), strings.Trim(options.TypesAt, "/")
	if root == "" {
		return nil, fmt.Errorf(`a Go output needs its import path: write package = "example.org/project/gen"`)
	}
	if options.Types {
		types = root
	}
	var files []stubs.File
	add := func(path string, source []byte, as layout) error {
		formatted, err := laidOut(source, as)
		if err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		files = append(files, stubs.File{Path: path, Content: stubs.Seal("//", append([]byte("\n"), formatted...))})
		return nil
	}
	calls := options.Client || options.Server
	for _, m := range defs.Modules {
		g := &generator{module: m, root: root, types: types, exhaustive: options.Exhaustive}
		base := Folder(m) + "/" + PackageName(m)
		documented := false
		for _, part := range []struct {
			suffix string
			wanted bool
			apart  bool
			as     layout
			emit   func()
		}{
			{".go", options.Types, false, bodies, g.typesOf},
			{"_calls.go", calls && len(m.Services) > 0, !options.Types, columns, g.calls},
			{"_client.go", options.Client && len(m.Services) > 0, !options.Types, columns, g.clients},
			{"_server.go", options.Server && len(m.Services) > 0, !options.Types, columns, g.servers},
		} {
			if !part.wanted {
				continue
			}
			g.Code, g.imports, g.apart = stubs.NewCode("\t"), map[string]string{}, part.apart
			part.emit()
			if err := add(base+part.suffix, g.file(!documented), part.as); err != nil {
				return nil, err
			}
			documented = true
		}
	}
	if calls {
		manual := options.Server && options.Manual != ""
		if err := add("faithful/about/about.go", aboutFile(defs, about, root, manual), columns); err != nil {
			return nil, err
		}
		if manual {
			if err := add("faithful/about/manual.go", manualFile(options.Manual), columns); err != nil {
				return nil, err
			}
		}
	}
	both := slices.ContainsFunc(defs.Calls(), func(c *schema.Call) bool { return conversation.BothWays(c) })
	patches := slices.ContainsFunc(defs.Modules, func(m *schema.Module) bool { return len(m.Patches) > 0 })
	err := fs.WalkDir(support, "support", func(path string, d fs.DirEntry, err error) error {
		// The WebSocket library is wanted only where a call streams both ways, and changes where
		// there are patches.
		if err != nil || d.IsDir() || strings.HasSuffix(path, "_test.go") || d.Name() == "socket.go" && !both ||
			d.Name() == "change.go" && !patches {
			return err
		}
		if isWire := strings.HasPrefix(path, "support/wire/"); isWire && !options.Types || !isWire && !calls {
			return nil
		}
		text, err := support.ReadFile(path)
		if err != nil {
			return err
		}
		imports := strings.NewReplacer(supportImport+"/wire", types+"/faithful/wire", supportImport, root+"/faithful")
		return add("faithful"+strings.TrimPrefix(path, "support"), []byte(imports.Replace(string(text))), written)
	})
	slices.SortFunc(files, func(a, b stubs.File) int { return strings.Compare(a.Path, b.Path) })
	return files, err
}

// generator writes one file of one module.
type generator struct {
	*stubs.Code
	module *schema.Module
	root   string // the import path of this output
	types  string // and that of the one with the types
	apart  bool   // whether the module's types are in another package
	// For Scaffold: the import path of the server, and the modules that a file may use.
	here   string
	beside []*schema.Module

	exhaustive bool
	imports    map[string]string // path → name, "" for the last part of the path
	shown      string            // what errors call the message of a body, "" for its own name
	starts     int               // variables named start1, start2… in the current method
}

// file puts package clause and imports before what was written.
func (g *generator) file(withDoc bool) []byte {
	head := stubs.NewCode("\t")
	head.P("")
	if withDoc {
		if g.module.Doc != "" {
			head.P("// Package %s is the module %s.", PackageName(g.module), g.module.Name)
			head.P("//")
			comment(head, g.module.Doc)
		} else {
			head.P("// Package %s is the module %s.", PackageName(g.module), g.module.Name)
		}
	}
	head.P("package %s", PackageName(g.module))
	head.P("")
	var standard, own []string
	for path, name := range g.imports {
		line := strconv.Quote(path)
		if name != "" && name != path[strings.LastIndexByte(path, '/')+1:] {
			line = name + " " + line
		}
		if strings.HasPrefix(path, g.root+"/") || strings.HasPrefix(path, g.types+"/") ||
			g.here != "" && strings.HasPrefix(path, g.here+"/") {
			own = append(own, line)
		} else {
			standard = append(standard, line)
		}
	}
	slices.Sort(standard)
	slices.Sort(own)
	if len(own)+len(standard) > 0 {
		head.In("import (", func() {
			for _, line := range standard {
				head.P("%s", line)
			}
			if len(standard) > 0 && len(own) > 0 {
				head.P("")
			}
			for _, line := range own {
				head.P("%s", line)
			}
		}, ")")
	}
	return append(head.Bytes(), g.Bytes()...)
}

func (g *generator) wire() string { return g.useType("faithful/wire", "wire") }
func (g *generator) web() string  { return g.use("faithful/web", "web") }

func (g *generator) use(folder, name string) string {
	g.imports[g.root+"/"+folder] = name
	return name
}

// useType is use for what the output with the types holds.
func (g *generator) useType(folder, name string) string {
	g.imports[g.types+"/"+folder] = name
	return name
}

func (g *generator) std(path string) string {
	g.imports[path] = ""
	return path[strings.LastIndexByte(path, '/')+1:]
}

// name is a declared name as this package writes it.
func (g *generator) name(d *schema.Decl) string {
	switch {
	case d.Module == g.module && !g.apart:
		return d.Name
	case d.Module == g.module:
		return g.useType(Folder(d.Module), "types") + "." + d.Name
	}
	beside := g.beside
	if beside == nil {
		beside = append(g.module.Uses(), g.module)
	}
	return g.useType(Folder(d.Module), importName(d.Module, beside)) + "." + d.Name
}

// manualFile is the manual of the definitions, for servers.
func manualFile(packed string) []byte {
	c := stubs.NewCode("\t")
	c.P("")
	c.P("package about")
	c.P("")
	c.P("// manual is what servers answer at /-/manual: pages by their paths, as JSON in gzip in base64url.")
	c.P("const manual = `%s`", packed)
	return c.Bytes()
}

func aboutFile(defs *schema.Definitions, about stubs.About, root string, manual bool) []byte {
	c := stubs.NewCode("\t")
	c.P("")
	c.P("// Package about contains the definitions that these stubs were made from.")
	c.P("package about")
	c.P("")
	c.P("import %q", root+"/faithful/web")
	c.P("")
	c.P("// The definitions: their project, version and digest.")
	c.In("const (", func() {
		c.P("Name = %q", about.Name)
		c.P("Version = %q", about.Version)
		c.P("Digest = %q", defs.Digest())
	}, ")")
	c.P("")
	c.P("// Definitions is what servers answer at /-/about, /-/definitions and /-/errors/.")
	c.In("var Definitions = web.Definitions{", func() {
		c.P("Name: Name,")
		c.P("Version: Version,")
		c.P("Digest: Digest,")
		if manual {
			c.P("Manual: manual,")
		}
		c.In("Modules: []web.Module{", func() {
			for _, m := range defs.Modules {
				c.P("{Name: %q, Text: %s},", m.Name, textLiteral(m.Canonical()))
			}
		}, "},")
		c.In("Errors: []web.ErrorPage{", func() {
			for _, m := range defs.Modules {
				for _, e := range m.Messages {
					if e.IsError() {
						c.P("{Name: %q, Status: %d, Doc: %q},", e.FullName(), e.Status, e.Doc)
					}
				}
			}
		}, "},")
	}, "}")
	return c.Bytes()
}

// textLiteral writes long text over several lines where Go can.
func textLiteral(s string) string {
	if strings.ContainsAny(s, "`\r") {
		return strconv.Quote(s)
	}
	return "`" + s + "`"
}
