package manual

import (
	"path"
	"regexp"
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"

	"faithfulcourier/internal/schema"
)

// Markdown returns the pages of a manual as Markdown (CommonMark, with tables), for a repository's own docs. What is in
// it is what the pages of HTML say, in both views.
func Markdown(defs *schema.Definitions, about About) ([]File, error) {
	m := New(defs, about)
	var files []File
	for _, name := range m.Paths() {
		if _, is := m.sheets[name]; !is {
			continue
		}
		doc, err := m.parsed(name)
		if err != nil {
			return nil, err
		}
		w := &plainPage{page: name}
		w.blocks(first(doc, atom.Main))
		text := strings.TrimSpace(blankLines.ReplaceAllString(w.out.String(), "\n\n")) + "\n"
		files = append(files, File{strings.TrimSuffix(name, ".html") + ".md", []byte(text)})
	}
	return files, nil
}

var blankLines = regexp.MustCompile(`\n{3,}`)

// plainPage writes what a page says.
type plainPage struct {
	page string
	out  strings.Builder
}

// blocks writes the blocks of an element, each after an empty line.
func (w *plainPage) blocks(of *html.Node) {
	for n := range of.ChildNodes() {
		if n.Type == html.TextNode {
			if text := strings.TrimSpace(n.Data); text != "" {
				w.block(begins.ReplaceAllString(escaped(text), `\$1`))
			}
			continue
		}
		if n.Type == html.ElementNode {
			w.element(n)
		}
	}
}

func (w *plainPage) block(text string) {
	if text = strings.TrimSpace(text); text != "" {
		w.out.WriteString("\n" + text + "\n")
	}
}

func (w *plainPage) element(n *html.Node) {
	anchor := ""
	if id := attribute(n, "id"); id != "" && n.DataAtom != atom.Main {
		anchor = `<a id="` + html.EscapeString(id) + `"></a>`
	}
	switch n.DataAtom {
	case atom.H1, atom.H2, atom.H3, atom.H4:
		w.block(anchor + strings.Repeat("#", int(n.Data[1]-'0')) + " " + w.inline(n))
	case atom.P, atom.Summary:
		text := w.inline(n)
		if n.DataAtom == atom.Summary && text != "" {
			text = "**" + text + "**"
		}
		w.block(begins.ReplaceAllString(text, `\$1`))
	case atom.Pre:
		text := strings.TrimRight(textOf(n), "\n")
		fence := "```"
		for strings.Contains(text, fence) {
			fence += "`"
		}
		w.block(fence + "\n" + text + "\n" + fence)
	case atom.Ul, atom.Ol:
		var items []string
		for item := range n.ChildNodes() {
			if item.DataAtom == atom.Li {
				items = append(items, "- "+w.inline(item))
			}
		}
		w.block(strings.Join(items, "\n"))
	case atom.Dl:
		w.terms(n)
	case atom.Table:
		w.table(n)
	case atom.Details, atom.Section, atom.Div, atom.Blockquote:
		if strings.Contains(" "+attribute(n, "class")+" ", " try ") {
			return // a form is of no use in text
		}
		w.block(anchor)
		w.blocks(n)
	case atom.Hr:
		w.block("---")
	default:
		w.block(w.inline(n))
	}
}

// terms writes a list of terms, each with what is said of it.
func (w *plainPage) terms(n *html.Node) {
	var items []string
	for child := range n.ChildNodes() {
		switch child.DataAtom {
		case atom.Dt:
			items = append(items, "- "+w.inline(child))
		case atom.Dd:
			if text := w.inline(child); text != "" && len(items) > 0 {
				items[len(items)-1] += ": " + text
			}
		}
	}
	w.block(strings.Join(items, "\n"))
}

// table writes a table, and after it what unfolds in its rows.
func (w *plainPage) table(n *html.Node) {
	var lines []string
	var inside []*html.Node
	for row := range n.Descendants() {
		if row.DataAtom != atom.Tr || nearestTable(row) != n {
			continue
		}
		var cells []string
		for cell := range row.ChildNodes() {
			if cell.DataAtom != atom.Td && cell.DataAtom != atom.Th {
				continue
			}
			if attribute(cell, "colspan") != "" {
				inside = append(inside, cell)
				continue
			}
			text := strings.ReplaceAll(w.inline(cell), "|", `\|`)
			if pre := first(cell, atom.Pre); pre != cell {
				text = "`" + strings.ReplaceAll(strings.TrimSpace(textOf(pre)), "`", "'") + "`"
			}
			if id := attribute(row, "id"); id != "" && len(cells) == 0 {
				text = `<a id="` + html.EscapeString(id) + `"></a>` + text
			}
			cells = append(cells, text)
		}
		if len(cells) == 0 {
			continue
		}
		lines = append(lines, "| "+strings.Join(cells, " | ")+" |")
		if len(lines) == 1 {
			lines = append(lines, "|"+strings.Repeat(" --- |", len(cells)))
		}
	}
	w.block(strings.Join(lines, "\n"))
	for _, cell := range inside {
		w.blocks(cell)
	}
}

func nearestTable(n *html.Node) *html.Node {
	for ; n != nil; n = n.Parent {
		if n.DataAtom == atom.Table {
			return n
		}
	}
	return nil
}

// inline writes what is in a block as one line.
func (w *plainPage) inline(of *html.Node) string {
	var b strings.Builder
	for n := range of.ChildNodes() {
		switch {
		case n.Type == html.TextNode:
			b.WriteString(escaped(spaces.ReplaceAllString(n.Data, " ")))
		case n.Type != html.ElementNode:
		case n.DataAtom == atom.Code || n.DataAtom == atom.Pre:
			b.WriteString(w.code(n))
		case n.DataAtom == atom.A:
			b.WriteString("[" + w.inline(n) + "](" + w.link(attribute(n, "href")) + ")")
		case n.DataAtom == atom.Strong || n.DataAtom == atom.B:
			b.WriteString("**" + w.inline(n) + "**")
		case n.DataAtom == atom.Em:
			b.WriteString("*" + w.inline(n) + "*")
		case n.DataAtom == atom.Br:
			b.WriteString(" ")
		default:
			b.WriteString(w.inline(n) + " ")
		}
	}
	return strings.TrimSpace(strings.ReplaceAll(spaces.ReplaceAllString(b.String(), " "), " ,", ","))
}

var spaces = regexp.MustCompile(`[ \t\r\n]+`)

// code writes code; a link in it goes around all of it.
func (w *plainPage) code(n *html.Node) string {
	text := spaces.ReplaceAllString(textOf(n), " ")
	if text == "" {
		return ""
	}
	quote := "`"
	for strings.Contains(text, quote) {
		quote += "`"
	}
	if len(quote) > 1 {
		text = " " + text + " "
	}
	text = quote + text + quote
	if link := first(n, atom.A); link != n {
		return "[" + text + "](" + w.link(attribute(link, "href")) + ")"
	}
	return text
}

// link is where a link of a page leads from its Markdown.
func (w *plainPage) link(href string) string {
	if strings.Contains(href, ":") || strings.HasPrefix(href, "#") {
		return strings.NewReplacer(" ", "%20", "(", "%28", ")", "%29").Replace(href)
	}
	name, fragment, within := strings.Cut(href, "#")
	name = strings.TrimSuffix(name, path.Ext(name)) + ".md"
	if within {
		name += "#" + fragment
	}
	return name
}

// escaped is text in which nothing is a mark of Markdown or HTML.
func escaped(text string) string { return marks.ReplaceAllString(text, `\$0`) }

var marks = regexp.MustCompile("[\\\\`*_\\[\\]<>|~]")

// begins is how a line begins that Markdown would take for a heading or a list.
var begins = regexp.MustCompile(`^(#|[-+] |[0-9]+[.)] )`)

func textOf(n *html.Node) string {
	if n.Type == html.TextNode {
		return n.Data
	}
	var b strings.Builder
	for child := range n.ChildNodes() {
		b.WriteString(textOf(child))
	}
	return b.String()
}

func attribute(n *html.Node, key string) string {
	for _, a := range n.Attr {
		if a.Key == key {
			return a.Val
		}
	}
	return ""
}
