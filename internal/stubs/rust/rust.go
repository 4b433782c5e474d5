// Package rust writes Rust stubs: a module for each module, over support modules that are emitted with them (support/).
//
//	names.go      names of definitions → names in Rust
//	scalars.go    a row for each scalar
//	types.go      constants, enums, messages and errors
//	named.go      named types
//	unions.go     unions
//	codec.go      reading and writing CBOR and JSON
//	builder.go    what messages are made with
//	bounds.go     what finds violations
//	patches.go    patches: how they are applied and found
//	service.go    services: how calls travel, their errors, clients and servers
package rust

import (
	"embed"
	"io/fs"
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

//go:embed support
var support embed.FS

// Generate returns the files of all modules and of the support modules.
func Generate(defs *schema.Definitions, about stubs.About, options stubs.Options) ([]stubs.File, error) {
	o := &output{}
	tree := &folder{below: map[string]*folder{}}
	tree.at("faithful::wire")
	calls := options.Client || options.Server
	if calls {
		tree.at("faithful::web")
		tree.at("faithful::about").code = aboutModule(defs, about)
	}
	for _, m := range defs.Modules {
		f := o.open(m)
		f.types()
		tree.at(Path(m)).code = f.source()
		for _, s := range m.Services {
			if calls {
				tree.at(Path(m) + "::" + ServiceModule(s)).code = o.service(s).source()
			}
		}
	}
	err := fs.WalkDir(support, "support", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasPrefix(path, "support/web/") && !calls {
			return err
		}
		text, err := support.ReadFile(path)
		name := "faithful/" + strings.TrimPrefix(path, "support/")
		o.add(name, append([]byte("\n"), text...))
		return err
	})
	o.modules(tree, "", "root.rs")
	slices.SortFunc(o.files, func(a, b stubs.File) int { return strings.Compare(a.Path, b.Path) })
	return o.files, err
}

// aboutModule writes what a server says of itself: the one file that changes with every change of the definitions.
func aboutModule(defs *schema.Definitions, about stubs.About) []byte {
	c := stubs.NewCode("    ")
	c.P("//! What the definitions are.")
	c.P("")
	c.P("use crate::faithful::web;")
	c.P("")
	for _, constant := range [][3]string{
		{"NAME", "Is the name of the project.", about.Name},
		{"VERSION", "Is the version of the definitions, or \"draft\".", about.Version},
		{"DIGEST", "Is the digest of the definitions.", defs.Digest()},
	} {
		c.P("/// %s", constant[1])
		c.P("pub const %s: &str = %s;", constant[0], quote(constant[2]))
		c.P("")
	}
	c.P("#[doc(hidden)]")
	c.In("pub static DEFINITIONS: web::Definitions = web::Definitions {", func() {
		c.P("name: NAME,")
		c.P("version: VERSION,")
		c.P("digest: DIGEST,")
		c.In("modules: &[", func() {
			for _, m := range defs.Modules {
				c.P("(%s, %s),", quote(m.Name), quote(m.Canonical()))
			}
		}, "],")
		c.In("errors: &[", func() {
			for _, m := range defs.Modules {
				for _, e := range m.Messages {
					if e.IsError() {
						c.In("web::Page {", func() {
							c.P("name: %s,", quote(e.FullName()))
							c.P("status: %d,", e.Status)
							c.P("doc: %s,", quote(e.Doc))
						}, "},")
					}
				}
			}
		}, "],")
	}, "};")
	return c.Bytes()
}

// allowed are what compilers and linters would say of the definitions alone: what they deprecate, how they are
// documented and named, and how much there is of them.
var allowed = []string{"deprecated", "clippy::doc_markdown", "clippy::enum_variant_names",
	"clippy::field_reassign_with_default", "clippy::large_enum_variant", "clippy::module_inception",
	"clippy::module_name_repetitions", "clippy::similar_names", "clippy::struct_excessive_bools",
	"clippy::struct_field_names", "clippy::too_many_lines", "clippy::type_complexity"}

// output is the folder that is made.
type output struct {
	files []stubs.File
}

func (o *output) add(path string, source []byte) {
	o.files = append(o.files, stubs.File{Path: path, Content: stubs.Seal("//", source)})
}

// folder is a module of Rust, with those below it.
type folder struct {
	code  []byte
	below map[string]*folder
}

func (d *folder) at(path string) *folder {
	for part := range strings.SplitSeq(path, "::") {
		next := d.below[part]
		if next == nil {
			next = &folder{below: map[string]*folder{}}
			d.below[part] = next
		}
		d = next
	}
	return d
}

// modules adds the files of a folder.
func (o *output) modules(d *folder, below, path string) {
	c := stubs.NewCode("    ")
	c.P("")
	names := make([]string, 0, len(d.below))
	for name := range d.below {
		names = append(names, name)
	}
	slices.Sort(names)
	text := string(d.code)
	head, rest, _ := strings.Cut(text, "\n\n")
	if len(d.code) > 0 {
		c.Add([]byte(head + "\n\n"))
	}
	for _, name := range names {
		if below == "" && name != "faithful" {
			c.In("#[allow(", func() { c.P("%s", strings.Join(allowed, ",\n    ")) }, ")]")
		}
		c.P("pub mod %s;", name)
	}
	if len(d.code) > 0 {
		if len(names) > 0 {
			c.P("")
		}
		c.Add([]byte(rest))
	}
	o.add(path, c.Bytes())
	for _, name := range names {
		if below+name == "faithful/wire" || below+name == "faithful/web" {
			continue // its files are those of the support
		}
		o.modules(d.below[name], below+name+"/", below+name+".rs")
	}
}
