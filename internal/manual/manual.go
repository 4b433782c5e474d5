// Package manual makes a reference of definitions that people read and try: pages of HTML that work from a disk, with
// one style sheet and one script. It knows nothing of HTTP, files or the command line; it is given definitions, and
// returns files.
//
//	manual.go  the files, and what all pages share
//	pages.go   what is on each page
//	forms.go   what the script builds the forms of calls from
//	changes.go what versions changed
//	single.go  all pages in one file
//	markdown.go  the same as Markdown
//	words.go   bounds, encodings and promises in words
//	prose.go   documentation, which is Markdown
//	page/      templates, the style sheet, the script: manual.js is made of *.ts by go generate
//	bundle/    what makes it
package manual

import (
	"bytes"
	"compress/gzip"
	"embed"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html/template"
	"slices"
	"strings"
	"sync"

	"faithfulcourier/internal/schema"
)

//go:generate go run ./bundle/write

//go:embed page/*.html page/manual.css page/manual.js
var page embed.FS

// templates are parsed when they are needed: other commands need not wait for that.
var templates = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("").Funcs(template.FuncMap{"pair": pair, "up": upFrom}).ParseFS(page, "page/*.html"))
})

// pair is what the template of one side of a call is given.
func pair(word string, of *side) map[string]any { return map[string]any{"Word": word, "Side": of} }

// upFrom is what the template of a step is given: where the folder of the manual is, too.
func upFrom(up string, step stepView) map[string]any { return map[string]any{"Up": up, "Step": step} }

// File is one file of a manual. Path has slashes, and is below the manual's folder.
type File struct {
	Path    string
	Content []byte
}

// About is what a manual says of the project.
type About struct {
	Name    string
	Version string // "draft", or a sealed version
	// Steps are what versions changed, newest first; nil for nothing. Versions are those of which any two can be
	// compared, newest first, which Between does.
	Steps    func() ([]Step, error)
	Versions []string
	Between  func(old, new string) (Step, error)
	Calling  Calling
	Send     Send
	To       string // the server that calls are sent to, as in http://127.0.0.1:8080
	Secret   string // of SendRelay: what proves that a page is ours
}

// Send says how pages send calls.
type Send string

// Pages send nothing, which is for pages from a disk; or to the server that they are from; or through the program
// that serves them.
const (
	SendNothing Send = ""
	SendOwn     Send = "own"
	SendRelay   Send = "relay"
)

// Calling makes the same request for other programs. Its functions may be nil.
type Calling struct {
	// Name is a call as the command line finds it.
	Name func(call *schema.Call) string
	// Code is the same call as a program of each language.
	Code func(call *schema.Call, head, request []byte) []Copy
	// Copies is given what is sent before a stream and in it, as JSON; nil for nothing.
	Copies func(call *schema.Call, head, request []byte) []Copy
}

// Copy is a request as somebody can take it along.
type Copy struct {
	As   string `json:"as"`
	Text string `json:"text"`
}

// Manual is a manual whose pages are made when they are asked for.
type Manual struct {
	site   *site
	sheets map[string]sheet // by path
	data   map[string]func() ([]byte, error)
}

// New returns a manual of definitions.
func New(defs *schema.Definitions, about About) *Manual {
	if about.Steps == nil {
		about.Steps = func() ([]Step, error) { return nil, nil }
	}
	about.Steps = sync.OnceValues(about.Steps)
	if about.Calling.Name == nil {
		about.Calling.Name = (*schema.Call).FullName
	}
	s := &site{defs: defs, about: about, users: defs.Users(), named: map[string]schema.Element{},
		samples: map[*schema.Message]sample{}}
	for _, e := range defs.Everything() {
		s.named[e.FullName()] = e
	}
	m := &Manual{site: s, sheets: map[string]sheet{}, data: map[string]func() ([]byte, error){"names.js": s.index}}
	for _, p := range s.pages() {
		m.sheets[p.path] = p
	}
	for _, name := range []string{"manual.css", "manual.js"} {
		m.data[name] = func() ([]byte, error) { return page.ReadFile("page/" + name) }
	}
	for _, module := range defs.Modules {
		for _, service := range module.Services {
			m.data[formsPath(service)] = func() ([]byte, error) { return s.forms(service) }
		}
	}
	return m
}

// Paths lists the files of a manual, sorted.
func (m *Manual) Paths() []string {
	return slices.Sorted(func(yield func(string) bool) {
		for path := range m.sheets {
			if !yield(path) {
				return
			}
		}
		for path := range m.data {
			if !yield(path) {
				return
			}
		}
	})
}

// File makes the file at a path; nil where there is none.
func (m *Manual) File(path string) (content []byte, err error) {
	if p, is := m.sheets[path]; is {
		return m.site.render(p)
	}
	if make, is := m.data[path]; is {
		return make()
	}
	return nil, nil
}

// Make returns all files of a manual, sorted by path.
func Make(defs *schema.Definitions, about About) ([]File, error) {
	m := New(defs, about)
	var files []File
	for _, path := range m.Paths() {
		content, err := m.File(path)
		if err != nil {
			return nil, err
		}
		files = append(files, File{path, content})
	}
	return files, nil
}

// site is what the pages of a manual are made from.
type site struct {
	defs  *schema.Definitions
	about About
	users map[schema.Declaration][]schema.Use
	named map[string]schema.Element // by full name

	mu      sync.Mutex // pages may be asked for at the same time
	samples map[*schema.Message]sample
}

// sheet is one page before it is HTML.
type sheet struct {
	path, title, template string
	body                  func() (any, error)
	forms                 string // the script with its forms, from the folder of the manual; "" for none
}

// up leads from a page to the folder of the manual.
func (p sheet) up() string { return strings.Repeat("../", strings.Count(p.path, "/")) }

// shared is what the layout of each page is made from.
type shared struct {
	Title, Up, Home   string
	Project, Version  string
	Services, Modules []item
	Send              Send
	To, Secret, Forms string
	Body              any
}

// item is a link with a line about it.
type item struct {
	Name, To, Line string
	Deprecated     bool
	Calls          []item
}

func (s *site) render(p sheet) ([]byte, error) {
	content, err := p.body()
	if err != nil {
		return nil, fmt.Errorf("%s: %w", p.path, err)
	}
	layout := shared{Title: p.title, Up: p.up(), Home: p.up() + "index.html", Project: s.about.Name,
		Version: s.about.Version, Send: s.about.Send, To: s.about.To, Secret: s.about.Secret, Forms: p.forms, Body: content}
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
func formsPath(s *schema.Service) string   { return "services/" + s.FullName() + ".js" }
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

// Packed is a manual for a server to answer with: its files by their paths, as JSON (RFC 8259) in gzip (RFC 1952) in
// base64url (RFC 4648, section 5), in lines of 120 characters.
func Packed(defs *schema.Definitions, about About) (string, error) {
	files, err := Make(defs, about)
	if err != nil {
		return "", err
	}
	pages := map[string]string{}
	for _, f := range files {
		pages[f.Path] = string(f.Content)
	}
	text, err := json.Marshal(pages)
	if err != nil {
		return "", err
	}
	var compressed bytes.Buffer
	gz, err := gzip.NewWriterLevel(&compressed, gzip.BestCompression)
	if err != nil {
		return "", err
	}
	if _, err := gz.Write(text); err != nil {
		return "", err
	}
	if err := gz.Close(); err != nil {
		return "", err
	}
	packed := base64.RawURLEncoding.EncodeToString(compressed.Bytes())
	var b strings.Builder
	for line := range slices.Chunk([]byte(packed), 120) {
		if b.Len() > 0 {
			b.WriteByte('\n')
		}
		b.Write(line)
	}
	return b.String(), nil
}
