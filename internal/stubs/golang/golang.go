// Package golang writes Go stubs: a package for each module, with types,
// codecs, clients and servers, over two support packages that are emitted
// with them (support/).
//
//	names.go    names of definitions → names in Go
//	types.go    messages, enums, errors and their codecs
//	service.go  clients and servers
package golang

import (
	"embed"
	"fmt"
	"go/format"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

//go:embed support/wire/wire.go support/wire/cbor.go support/wire/json.go support/wire/scalar.go support/web/web.go support/web/client.go support/web/server.go
var support embed.FS

const supportImport = "faithfulcourier/internal/stubs/golang/support"

// Language makes Go stubs.
type Language struct{}

// Name returns "go".
func (Language) Name() string { return "go" }

// Generate returns the files of all modules and of the support packages. The
// option "package" is the import path of the output folder.
func (Language) Generate(defs *schema.Definitions, about stubs.About, options map[string]string) ([]stubs.File, error) {
	root := strings.Trim(options["package"], "/")
	if root == "" {
		return nil, fmt.Errorf(`a Go output needs its import path: write package = "example.org/project/gen"`)
	}
	var files []stubs.File
	add := func(path string, source []byte) error {
		formatted, err := format.Source(source)
		if err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		files = append(files, stubs.File{Path: path, Content: stubs.Seal("//", formatted)})
		return nil
	}
	for _, m := range defs.Modules {
		g := &generator{Code: stubs.NewCode("\t"), module: m, root: root, imports: map[string]string{}}
		base := Folder(m) + "/" + PackageName(m)
		g.types()
		if err := add(base+".go", g.file(true)); err != nil {
			return nil, err
		}
		if len(m.Services) == 0 {
			continue
		}
		for _, part := range []struct {
			suffix string
			emit   func()
		}{{"_client.go", g.clients}, {"_server.go", g.servers}} {
			g.Code, g.imports = stubs.NewCode("\t"), map[string]string{}
			part.emit()
			if err := add(base+part.suffix, g.file(false)); err != nil {
				return nil, err
			}
		}
	}
	if err := add("faithful/about/about.go", aboutFile(defs, about, root)); err != nil {
		return nil, err
	}
	err := fs.WalkDir(support, "support", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := support.ReadFile(path)
		if err != nil {
			return err
		}
		text = []byte(strings.ReplaceAll(string(text), supportImport, root+"/faithful"))
		return add("faithful"+strings.TrimPrefix(path, "support"), text)
	})
	slices.SortFunc(files, func(a, b stubs.File) int { return strings.Compare(a.Path, b.Path) })
	return files, err
}

// generator writes one file of one module.
type generator struct {
	*stubs.Code
	module  *schema.Module
	root    string
	imports map[string]string // path → name, "" for the last part of the path
	starts  int               // variables named start1, start2… in the current method
}

// file puts package clause and imports before what was written.
func (g *generator) file(withDoc bool) []byte {
	head := stubs.NewCode("\t")
	head.P("")
	if withDoc {
		if g.module.Doc != "" {
			head.P("// Package %s is the module %s.", PackageName(g.module), g.module.Name)
			head.P("//")
			stubs.Comment(head, "//", g.module.Doc)
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
		if strings.HasPrefix(path, g.root) {
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

func (g *generator) wire() string { return g.use("faithful/wire", "wire") }
func (g *generator) web() string  { return g.use("faithful/web", "web") }

func (g *generator) use(folder, name string) string {
	g.imports[g.root+"/"+folder] = name
	return name
}

func (g *generator) std(path string) string {
	g.imports[path] = ""
	return path
}

// name is a declared name as this package writes it.
func (g *generator) name(d *schema.Decl) string {
	if d.Module == g.module {
		return d.Name
	}
	return g.use(Folder(d.Module), importName(d.Module, append(g.module.Uses(), g.module))) + "." + d.Name
}

func aboutFile(defs *schema.Definitions, about stubs.About, root string) []byte {
	c := stubs.NewCode("\t")
	c.P("")
	c.P("// Package about holds the definitions that these stubs were made from.")
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
