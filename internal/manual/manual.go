// Package manual makes a reference of definitions that people read: pages of HTML that work from a disk, with one style
// sheet and one script. It knows nothing of HTTP, files or the command line; it is given definitions, and
// returns files.
//
//	manual.go  the files, and what all pages share
//	pages.go   what is on each page
//	changes.go what versions changed
//	words.go   bounds, encodings and promises in words
//	prose.go   documentation, which is Markdown
//	page/      templates, the style sheet, the script
package manual

import (
	"bytes"
	"embed"
	"encoding/json"
	"fmt"
	"html/template"
	"slices"
	"strings"
	"sync"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

//go:embed page
var page embed.FS

// templates are parsed when they are needed: other commands need not wait for that.
var templates = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("").Funcs(template.FuncMap{"pair": pair}).ParseFS(page, "page/*.html"))
})

// pair is what the template of one side of a call is given.
func pair(word string, of *side) map[string]any { return map[string]any{"Word": word, "Side": of} }

// File is one file of a manual. Path has slashes, and is below the manual's folder.
type File struct {
	Path    string
	Content []byte
}

// About is what a manual says of the project.
type About struct {
	Name    string
	Version string // "draft", or a sealed version
	Steps   []Step // what versions changed, newest first

	// Copies makes the same request for other programs: a call, and what is sent before its stream and in it, as
	// JSON; nil for nothing. It may be nil.
	Copies func(call *schema.Call, head, request []byte) []Copy
}

// Copy is a request as somebody can take it along.
type Copy struct{ As, Text string }

// Make returns all files of a manual, sorted by path.
func Make(defs *schema.Definitions, about About) ([]File, error) {
	s := &site{defs: defs, about: about, maker: value.NewMaker(defs, 0), users: defs.Users(),
		named: map[string]schema.Element{}}
	for _, e := range defs.Everything() {
		s.named[e.FullName()] = e
	}
	for _, p := range s.pages() {
		content, err := s.render(p)
		if err != nil {
			return nil, err
		}
		s.files = append(s.files, File{p.path, content})
	}
	for _, name := range []string{"manual.css", "manual.js"} {
		content, err := page.ReadFile("page/" + name)
		if err != nil {
			return nil, err
		}
		s.files = append(s.files, File{name, content})
	}
	index, err := s.index()
	if err != nil {
		return nil, err
	}
	s.files = append(s.files, File{"names.js", index})
	slices.SortFunc(s.files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	return s.files, nil
}

// site is a manual while it is made.
type site struct {
	defs  *schema.Definitions
	about About
	maker *value.Maker
	users map[schema.Declaration][]schema.Use
	named map[string]schema.Element // by full name
	files []File
}

// sheet is one page before it is HTML.
type sheet struct {
	path, title, template string
	body                  any
}

// up leads from a page to the folder of the manual.
func (p sheet) up() string { return strings.Repeat("../", strings.Count(p.path, "/")) }

// shared is what the layout of each page is made from.
type shared struct {
	Title, Up         string
	Project, Version  string
	Services, Modules []item
	Body              any
}

// item is a link with a line about it.
type item struct {
	Name, To, Line string
	Deprecated     bool
	Calls          []item
}

func (s *site) render(p sheet) ([]byte, error) {
	layout := shared{Title: p.title, Up: p.up(), Project: s.about.Name, Version: s.about.Version, Body: p.body}
	for _, m := range s.defs.Modules {
		layout.Modules = append(layout.Modules, item{Name: m.Name, To: p.up() + modulePath(m)})
		for _, service := range m.Services {
			layout.Services = append(layout.Services, item{Name: service.Name, To: p.up() + servicePath(service)})
		}
	}
	var body bytes.Buffer
	if err := templates().ExecuteTemplate(&body, p.template, layout); err != nil {
		return nil, fmt.Errorf("%s: %w", p.path, err)
	}
	return body.Bytes(), nil
}

func modulePath(m *schema.Module) string { return "modules/" + m.Name + ".html" }

// dataPath is the page of what is declared in a module: a page of its own where the module has much of it. No name
// has a hyphen in it.
func dataPath(d *schema.Decl) string {
	if large(d.Module) {
		return "modules/" + d.Module.Name + "-" + d.Name + ".html"
	}
	return modulePath(d.Module)
}

// mostOnPage is how many declarations a page has at most.
const mostOnPage = 50

func large(m *schema.Module) bool {
	return len(m.Consts)+len(m.Types)+len(m.Enums)+len(m.Unions)+len(m.Messages)+len(m.Examples) > mostOnPage
}

func servicePath(s *schema.Service) string { return "services/" + s.FullName() + ".html" }
func address(of schema.Element) string {
	switch e := of.(type) {
	case *schema.Module:
		return modulePath(e)
	case *schema.Service:
		return servicePath(e)
	case *schema.Call:
		return servicePath(e.Service) + "#" + e.Name
	case *schema.Field:
		return address(e.Message) + "." + e.Name
	case *schema.Member:
		return address(e.Enum) + "." + e.Name
	case *schema.Alternative:
		return address(e.Union) + "." + e.Name
	case *schema.Credential:
		return "credentials.html#" + e.FullName()
	case schema.Declaration:
		return dataPath(e.Head()) + "#" + e.Head().Name
	}
	return ""
}

// found is a name that the search of the pages knows.
type found struct {
	Name string `json:"n"`
	Noun string `json:"k"`
	To   string `json:"t"`
	Line string `json:"d,omitempty"`
	More string `json:"m,omitempty"` // a path, or a number
}

// index is a script that gives the search its names: from a disk, nothing else can be loaded.
func (s *site) index() ([]byte, error) {
	var all []found
	for _, e := range s.defs.Everything() {
		_, noun, _ := strings.Cut(e.Noun(), " ")
		doc, _ := written(e)
		f := found{Name: e.FullName(), Noun: noun, To: address(e), Line: line(doc)}
		switch e := e.(type) {
		case *schema.Call:
			f.More = method(e)
		case *schema.Field:
			f.More = fmt.Sprintf("#%d", e.Number)
		case *schema.Member:
			f.More = fmt.Sprintf("#%d", e.Number)
		case *schema.Alternative:
			f.More = fmt.Sprintf("#%d", e.Number)
		}
		all = append(all, f)
	}
	text, err := json.Marshal(all)
	if err != nil {
		return nil, err
	}
	return append(append([]byte("manualNames("), text...), ");\n"...), nil
}
