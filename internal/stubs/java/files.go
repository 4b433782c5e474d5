package java

import (
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// file writes one file: one public type.
type file struct {
	*stubs.Code
	*output
	module      *schema.Module
	packageName string
	self        string            // the type of the file
	top         map[string]bool   // the types of the package
	nested      map[string]bool   // the types inside of this one, which names of others would be taken for
	imports     map[string]string // simple name → full name
	qualified   bool              // whether declared types are written in full, always
	deprecated  bool              // whether something is used that is deprecated
}

// open begins a file of a module, for a type with others inside.
func (o *output) open(m *schema.Module, self string, nested ...string) *file {
	f := &file{Code: stubs.NewCode("  "), output: o, module: m, packageName: o.root + "." + Below(m), self: self,
		top: o.topNames(m), nested: map[string]bool{}, imports: map[string]string{}}
	for _, name := range nested {
		f.nested[name] = true
	}
	return f
}

// topNames are the types of a module's package.
func (o *output) topNames(m *schema.Module) map[string]bool {
	if top, is := o.top[m]; is {
		return top
	}
	top := map[string]bool{}
	o.top[m] = top
	for _, d := range m.Declarations() {
		switch d.(type) {
		case *schema.Const:
			top[constantsClass] = true
		case *schema.Example, *schema.Credential:
		default:
			name := d.Head().Name
			for _, affix := range []string{"", "Patch", "Unlisted", "OfAll", "Client", "Calls", "EveryCall"} {
				top[name+affix] = true
			}
		}
	}
	return top
}

// close adds the file.
func (f *file) close() { f.add(f.packageName, f.self, []byte(f.source())) }

// source is the file: its package, its imports, and what was written.
func (f *file) source() string {
	head := stubs.NewCode("  ")
	if f.packageName != "" {
		head.P("package %s;", f.packageName)
		head.P("")
	}
	var list []string
	for _, full := range f.imports {
		if full[:strings.LastIndexByte(full, '.')] != f.packageName {
			list = append(list, full)
		}
	}
	slices.Sort(list)
	for _, full := range list {
		head.P("import %s;", full)
	}
	if len(list) > 0 {
		head.P("")
	}
	return string(head.Bytes()) + string(f.Bytes())
}

// lang writes a type of java.lang.
func (f *file) lang(name string) string {
	if f.top[name] || f.nested[name] {
		return "java.lang." + name
	}
	return name
}

// override writes the annotation.
func (f *file) override() string { return "@" + f.lang("Override") }

// use imports a type by its full name, and returns what it is called in this file.
func (f *file) use(full string) string {
	simple := full[strings.LastIndexByte(full, '.')+1:]
	if f.nested[simple] || f.top[simple] || simple == f.self || slices.Contains(javaLang, simple) {
		return full
	}
	if taken, is := f.imports[simple]; is && taken != full {
		return full
	}
	f.imports[simple] = full
	return simple
}

// wire and web write types of the support packages.
func (f *file) wire(name string) string { return f.use(f.types + ".faithful.wire." + name) }
func (f *file) web(name string) string  { return f.use(f.root + ".faithful.web." + name) }

// name writes a declared type.
func (f *file) name(d *schema.Decl) string {
	if d.Deprecated != "" && d.Name != f.self {
		f.deprecated = true
	}
	packageName := f.types + "." + Below(d.Module)
	switch full := packageName + "." + d.Name; {
	case f.qualified:
		return full
	case packageName != f.packageName:
		return f.use(full)
	case f.nested[d.Name] && d.Name != f.self:
		return full
	}
	return d.Name
}

// keyOf writes how the keys of a map are read and written.
func (f *file) keyOf(t *schema.Type) string {
	key := f.wire("Key")
	switch {
	case t.Kind == schema.KindEnum:
		return f.name(&t.Enum.Decl) + ".keys()"
	case isRecord(t):
		return f.name(&t.Named.Decl) + ".keys()"
	}
	return key + "." + scalars[t.Kind].key
}

// quote writes a text.
func quote(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteString("\\" + string(r))
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\r':
			b.WriteString(`\r`)
		case r < 0x20 || r == 0x7f:
			fmt.Fprintf(&b, "\\%03o", r)
		case r >= 0x80 && r < 0xa0 || r == 0x2028 || r == 0x2029 || r == 0xfeff:
			fmt.Fprintf(&b, "\\u%04x", r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String() + `"`
}

// longText writes a text of any length: a constant has at most 65,535 bytes.
func longText(s string) string {
	const most = 30_000
	if len(s) <= most {
		return quote(s)
	}
	var parts []string
	for len(s) > 0 {
		end := min(most, len(s))
		for end < len(s) && s[end]&0xc0 == 0x80 {
			end--
		}
		parts = append(parts, quote(s[:end]))
		s = s[end:]
	}
	return "String.join(" + strings.Join(append([]string{`""`}, parts...), ", ") + ")"
}

// doc writes a documentation comment: Markdown as HTML, and tags after it.
func (f *file) doc(text, deprecated string, tags ...string) {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	var out []string
	paragraph := false
	for _, line := range lines {
		line = strings.TrimRight(line, " ")
		if line == "" {
			out = append(out, "")
			paragraph = true
			continue
		}
		line = html(line)
		if paragraph {
			line = "<p>" + line
			paragraph = false
		}
		out = append(out, line)
	}
	if deprecated != "" {
		tags = append(tags, "@deprecated "+html(deprecated))
	}
	if len(tags) > 0 {
		out = append(append(out, ""), tags...)
	}
	if len(out) == 1 && len(out[0]) < stubs.Width-10 {
		f.P("%s", "/** "+out[0]+" */")
		return
	}
	f.P("/**")
	for _, line := range out {
		f.P("%s", strings.TrimRight(" * "+line, " "))
	}
	f.P(" */")
}

// returns writes the documentation of a method without parameters.
func (f *file) returns(what string) {
	for strings.Count(what, "`") > 1 {
		what = strings.Replace(strings.Replace(what, "`", "{@code ", 1), "`", "}", 1)
	}
	f.P("/** {@return %s} */", what)
}

// html writes a line of documentation so that Javadoc shows it as it is.
func html(line string) string {
	var b strings.Builder
	code := false
	for i, r := range line {
		switch {
		case r == '`' && code:
			b.WriteString("</code>")
			code = false
		case r == '`' && beginsCode(line[i+1:]):
			b.WriteString("<code>")
			code = true
		case r == '<':
			b.WriteString("&lt;")
		case r == '>':
			b.WriteString("&gt;")
		case r == '&':
			b.WriteString("&amp;")
		case r == '@':
			b.WriteString("&#64;")
		case r == '\\':
			b.WriteString("&#92;")
		case r == '{' && strings.HasPrefix(line[i+1:], "@"):
			b.WriteString("&#123;")
		case r == '/' && strings.HasSuffix(line[:i], "*"):
			b.WriteString("&#47;")
		case r == '/' && i == 0, r == '*' && i == 0:
			b.WriteString(fmt.Sprintf("&#%d;", r))
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// beginsCode tells whether what follows a backtick is code; doclint refuses elements with nothing in them.
func beginsCode(rest string) bool {
	inside, _, closed := strings.Cut(rest, "`")
	return closed && strings.TrimSpace(inside) != ""
}

// deprecation writes the annotation of what is deprecated.
func (f *file) deprecation(why string) {
	if why != "" {
		f.P("@%s", f.lang("Deprecated"))
	}
}

// about writes the class that has what servers answer at /-/about and /-/definitions.
func (o *output) about(defs *schema.Definitions, about stubs.About) {
	f := &file{Code: stubs.NewCode("  "), output: o, packageName: o.root + ".faithful", self: "About",
		top: map[string]bool{}, nested: map[string]bool{}, imports: map[string]string{}}
	manual := o.options.Server && o.options.Manual != ""
	f.doc("Has the definitions that these stubs were made from.", "")
	f.In("public final class About {", func() {
		f.doc("The name of their project.", "")
		f.P("public static final String NAME = %s;", quote(about.Name))
		f.P("")
		f.doc("Their version.", "")
		f.P("public static final String VERSION = %s;", quote(about.Version))
		f.P("")
		f.doc("Their digest, which is the same for the same definitions, documentation aside.", "")
		f.P("public static final String DIGEST = %s;", quote(defs.Digest()))
		f.P("")
		if o.options.Server {
			f.definitions(defs, manual)
		}
		f.P("private About() {}")
	}, "}")
	f.close()
}

// definitions writes what servers say of themselves.
func (f *file) definitions(defs *schema.Definitions, manual bool) {
	definitions := f.web("Definitions")
	f.doc("What servers answer with at /-/about, /-/definitions and /-/errors/.", "")
	f.P("public static final %s DEFINITIONS = definitions();", definitions)
	f.P("")
	// Statements: the compiler needs more stack for each call of a chain.
	f.In(fmt.Sprintf("private static %s definitions() {", definitions), func() {
		f.P("%s.Builder b = %s.of(NAME, VERSION, DIGEST);", definitions, definitions)
		for _, m := range defs.Modules {
			f.P("b.module(%s, %s);", quote(m.Name), longText(m.Canonical()))
		}
		for _, m := range defs.Modules {
			for _, e := range m.Messages {
				if e.IsError() {
					f.P("b.error(%s, %d, %s);", quote(e.FullName()), e.Status, longText(e.Doc))
				}
			}
		}
		if manual {
			f.P("b.manual(%s);", longText(f.options.Manual))
		}
		f.P("return b.build();")
	}, "}")
	f.P("")
}
