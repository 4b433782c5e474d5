package manual

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"html/template"
	"path"
	"slices"
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"

	"faithfulcourier/internal/schema"
)

// onePage is what the layout of a manual in one file is made from.
type onePage struct {
	shared
	Policy string
	Style  template.HTML // the whole element, since its hash is that of what is in it
	Script template.HTML
	Nav    template.HTML
	Pages  []pageIn
}

// pageIn is a page of a manual in one file.
type pageIn struct {
	ID   string
	Main template.HTML
}

// Single returns a manual as one file of HTML, which needs no other one. Its first line has the SHA-256 of the rest.
func Single(defs *schema.Definitions, about About) ([]byte, error) {
	m := New(defs, about)
	one := onePage{shared: shared{Title: about.Name, Home: "#index", Project: about.Name, Version: about.Version,
		To: about.To}}
	for _, name := range m.Paths() {
		if _, is := m.sheets[name]; !is {
			continue
		}
		main, nav, err := m.parts(name)
		if err != nil {
			return nil, err
		}
		if name == "index.html" {
			one.Nav = nav
			one.Pages = slices.Insert(one.Pages, 0, pageIn{"index", main})
		} else {
			one.Pages = append(one.Pages, pageIn{idIn(name), main})
		}
	}
	style, err := page.ReadFile("page/manual.css")
	if err != nil {
		return nil, err
	}
	script, err := page.ReadFile("page/manual.js")
	if err != nil {
		return nil, err
	}
	for _, name := range m.Paths() {
		if m.data[name] == nil || path.Ext(name) != ".js" || name == "manual.js" {
			continue
		}
		data, err := m.File(name)
		if err != nil {
			return nil, err
		}
		script = append(append(script, '\n'), data...)
	}
	// Nothing in a script may look like the end of its element; in the texts of scripts that is never but in strings.
	script = bytes.ReplaceAll(bytes.ReplaceAll(script, []byte("</script"), []byte(`<\/script`)), []byte("<!--"),
		[]byte(`<\!--`))
	hash := func(content []byte) string {
		sum := sha256.Sum256(content)
		return "'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
	}
	one.Policy = "default-src 'none'; script-src " + hash(script) + "; style-src " + hash(style) +
		"; img-src blob:; base-uri 'none'; form-action 'none'"
	one.Style = template.HTML("<style>" + string(style) + "</style>")
	one.Script = template.HTML("<script>" + string(script) + "</script>")
	var b bytes.Buffer
	if err := templates().ExecuteTemplate(&b, "single.html", one); err != nil {
		return nil, err
	}
	return append([]byte(singleMark+digestOf(b.Bytes())+" -->\n"), b.Bytes()...), nil
}

// singleMark begins a manual in one file.
const singleMark = "<!-- made by faithful manual; sha256 "

func digestOf(content []byte) string {
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:])
}

// Untouched tells whether a file is a manual as Single made it.
func Untouched(content []byte) bool {
	mark, rest, _ := bytes.Cut(content, []byte("\n"))
	return string(mark) == singleMark+digestOf(rest)+" -->"
}

// idIn is the id of a page, or of what is on it, in a manual in one file: links lead from "services/a.B.html#c" to
// "#services/a.B--c".
func idIn(address string) string {
	name, fragment, within := strings.Cut(address, "#")
	name = strings.TrimSuffix(name, ".html")
	if within {
		name += "--" + fragment
	}
	return name
}

// parts are what a page says, and the list of pages, with links to where they are in one file.
func (m *Manual) parts(name string) (main, nav template.HTML, err error) {
	doc, err := m.parsed(name)
	if err != nil {
		return "", "", err
	}
	for n := range doc.Descendants() {
		for i, a := range n.Attr {
			switch {
			case a.Key == "id":
				n.Attr[i].Val = idIn(name + "#" + a.Val)
			case a.Key == "href" && strings.HasPrefix(a.Val, "#"):
				n.Attr[i].Val = "#" + idIn(name+a.Val)
			case a.Key == "href" && !strings.Contains(a.Val, ":"):
				n.Attr[i].Val = "#" + idIn(path.Join(path.Dir(name), a.Val))
			}
		}
	}
	inside := func(of atom.Atom) (template.HTML, error) {
		var b strings.Builder
		for child := range first(doc, of).ChildNodes() {
			if err := html.Render(&b, child); err != nil {
				return "", fmt.Errorf("%s: %w", name, err)
			}
		}
		return template.HTML(b.String()), nil
	}
	if main, err = inside(atom.Main); err != nil {
		return "", "", err
	}
	nav, err = inside(atom.Nav)
	return main, nav, err
}

// parsed is a page as a tree.
func (m *Manual) parsed(name string) (*html.Node, error) {
	content, err := m.File(name)
	if err != nil {
		return nil, err
	}
	doc, err := html.Parse(bytes.NewReader(content))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return doc, nil
}

// first is the first element of a kind. Every page has the one that is asked for.
func first(doc *html.Node, of atom.Atom) *html.Node {
	for n := range doc.Descendants() {
		if n.Type == html.ElementNode && n.DataAtom == of {
			return n
		}
	}
	return doc
}
