// Package java writes Java stubs: a package for each module, with one public type per file, over
// support packages that are emitted with them (support/).
//
//	names.go      names of definitions → names in Java
//	scalars.go    a row for each scalar
//	files.go      a file: its package, imports, and names that would be taken for others
//	types.go      constants, enums, messages and errors
//	named.go      named types
//	unions.go     unions
//	codec.go      reading and writing CBOR and JSON
//	patches.go    patches: how they are made, applied and found
//	bounds.go     what finds violations
//	jackson.go    the module for Jackson
//	service.go    clients and servers
//	scaffold.go   the first lines of a server
//	calling.go    programs that make one call
//	compatible.go what changes do to programs over the stubs
package java

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

//go:embed support
var support embed.FS

// supportPackage is what the support files are below before they are emitted.
const supportPackage = "faithfulcourier"

// Language makes Java stubs.
type Language struct{}

// Name returns "java".
func (Language) Name() string { return "java" }

// Title is "Java".
func (Language) Title() string { return "Java" }

// Within adds a package to a dotted name.
func (Language) Within(packageName, folder string) string { return packageName + "." + folder }

// Begin has the name of a package, which files of Java need.
func (Language) Begin(name string) []string {
	return []string{fmt.Sprintf("package  = %q   # the package that all others are in", packageOf(name)+".gen")}
}

// packageOf makes a package of a project's name.
func packageOf(name string) string {
	part := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '_':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return -1
	}, name)
	if part == "" || part[0] >= '0' && part[0] <= '9' || slices.Contains(keywords, part) {
		return "project" + part
	}
	return part
}

// Fits holds the name of the package against what Java takes for one.
func (Language) Fits(_ string, options stubs.Options) error {
	if options.Package == "" {
		return nil // said by Generate
	}
	if !dotted.MatchString(options.Package) {
		return fmt.Errorf("package = %q is not the name of a package; write, for example: package = \"ferry.gen\"",
			options.Package)
	}
	for part := range strings.SplitSeq(options.Package, ".") {
		if slices.Contains(keywords, part) {
			return fmt.Errorf("package = %q has the part %q, which is a word of Java; write, for example: "+
				"package = \"ferry.gen\"",
				options.Package, part)
		}
	}
	if options.Framework == spring && !options.Servlet {
		return errors.New("the framework \"spring\" needs the servlet: write servlet = true at the java output in " +
			"faithful.toml")
	}
	return nil
}

var dotted = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*(\.[A-Za-z_][A-Za-z0-9_]*)*$`)

// Generate returns the files of all modules and of the support packages.
func (Language) Generate(defs *schema.Definitions, about stubs.About, options stubs.Options) ([]stubs.File, error) {
	if options.Package == "" {
		return nil, fmt.Errorf(`a Java output needs the name of its package: write package = "ferry.gen"`)
	}
	o := &output{options: options, root: options.Package, types: options.TypesAt,
		top: map[*schema.Module]map[string]bool{}}
	if options.Types {
		o.types = o.root
	}
	for _, m := range defs.Modules {
		for _, d := range m.Declarations() {
			if why := taken(m, d); why != "" {
				return nil, fmt.Errorf("the Java stubs can't have the type %q: %s; give it another name in the definitions",
					d.Head().FullName(), why)
			}
		}
	}
	for _, m := range defs.Modules {
		if options.Types {
			o.typesOf(m)
		}
		if options.Client || options.Server {
			o.servicesOf(m)
		}
	}
	if options.Client || options.Server {
		o.about(defs, about)
	}
	if options.Jackson && options.Types {
		o.jackson(defs)
	}
	if err := o.support(defs); err != nil {
		return nil, err
	}
	if o.err != nil {
		return nil, o.err
	}
	slices.SortFunc(o.files, func(a, b stubs.File) int { return strings.Compare(a.Path, b.Path) })
	return o.files, nil
}

// output is the folder that is made.
type output struct {
	options stubs.Options
	root    string // its package
	types   string // the package of the output with the types
	top     map[*schema.Module]map[string]bool
	files   []stubs.File
	err     error
}

// add adds a file, by the package and the name of its type.
func (o *output) add(packageName, name string, source []byte) {
	path := name + ".java"
	if below := strings.TrimPrefix(strings.TrimPrefix(packageName, o.root), "."); below != "" {
		path = strings.ReplaceAll(below, ".", "/") + "/" + path
	}
	o.files = append(o.files, stubs.File{Path: path, Content: stubs.Seal("//", append([]byte("\n"), source...))})
}

// support adds the files that are the same for all definitions, but for their packages.
func (o *output) support(defs *schema.Definitions) error {
	patches := slices.ContainsFunc(defs.Modules, func(m *schema.Module) bool { return len(m.Patches) > 0 })
	packages := strings.NewReplacer(supportPackage+".wire", o.types+".faithful.wire", supportPackage, o.root+".faithful")
	return fs.WalkDir(support, "support", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		folder, name, _ := strings.Cut(strings.TrimPrefix(path, "support/"), "/")
		name = strings.TrimSuffix(name, ".java")
		wanted := o.options.Client || o.options.Server
		switch {
		case folder == "wire":
			wanted = o.options.Types && (name != "Change" || patches)
		case slices.Contains(clientFiles, name):
			wanted = o.options.Client
		case name == "ServletMount":
			wanted = o.options.Server && o.options.Servlet
		case slices.Contains(serverFiles, name):
			wanted = o.options.Server
		}
		if !wanted {
			return nil
		}
		text, err := support.ReadFile(path)
		if err == nil {
			o.add(o.root+".faithful."+folder, name, []byte(packages.Replace(string(text))))
		}
		return err
	})
}

// The support files for one role alone; all others of web are for both.
var (
	clientFiles = strings.Fields(`AnswerStream BadAnswerException CallException CallOptions Client ClientBuilder ClientMiddleware
		Conversation MissingCredentialException NotModifiedException ProblemException Sender UnreachableException`)
	serverFiles = strings.Fields(`Answers Authorizer Caching Carrier Context Definitions Elements Exchange ForbiddenException
		HandlerThread HttpServerMount Middleware NotImplementedCallException OverloadedException RefusalException Route Routes
		Served ServerOptions SocketListener SocketPeer Tags UnauthenticatedException`)
)
