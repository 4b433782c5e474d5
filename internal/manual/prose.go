package manual

import (
	"bytes"
	"html/template"
	"strings"
	"sync"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/renderer"
	"github.com/yuin/goldmark/util"
)

// prose turns documentation, which is Markdown (CommonMark), into HTML. HTML in it is shown as text, an image
// becomes a link to it, and links to scripts lose their target. There are no extensions: those of the library
// make each start of the program, whatever it does, 0.7 ms longer.
func prose(doc string) template.HTML {
	var b bytes.Buffer
	if err := markdown().Convert([]byte(plainly(doc)), &b); err != nil {
		return template.HTML(template.HTMLEscapeString(doc)) // which never fails on a buffer
	}
	return template.HTML(b.String())
}

// line is the first sentence of documentation, or as much of it as one line, as text.
func line(doc string) string {
	first, _, _ := strings.Cut(plainly(doc), "\n")
	if sentence, _, more := strings.Cut(first, ". "); more {
		return sentence + "."
	}
	return first
}

// plainly leaves out characters that turn text around (Unicode Standard Annex 9): they would show what is not there.
func plainly(s string) string {
	return strings.Map(func(c rune) rune {
		switch {
		case c == '\u061c', c >= '\u200e' && c <= '\u200f', c >= '\u202a' && c <= '\u202e', c >= '\u2066' && c <= '\u2069':
			return -1
		}
		return c
	}, s)
}

// markdown is made when it is needed, as templates are.
var markdown = sync.OnceValue(func() goldmark.Markdown {
	return goldmark.New(goldmark.WithRendererOptions(renderer.WithNodeRenderers(util.Prioritized(asText{}, 100))))
})

// asText writes what of Markdown the manual does not take over.
type asText struct{}

func (asText) RegisterFuncs(r renderer.NodeRendererFuncRegisterer) {
	r.Register(ast.KindRawHTML, inlineHTML)
	r.Register(ast.KindHTMLBlock, blockOfHTML)
	r.Register(ast.KindImage, linkToImage)
}

func inlineHTML(w util.BufWriter, source []byte, n ast.Node, entering bool) (ast.WalkStatus, error) {
	if entering {
		segments := n.(*ast.RawHTML).Segments
		for i := range segments.Len() {
			at := segments.At(i)
			template.HTMLEscape(w, at.Value(source))
		}
	}
	return ast.WalkSkipChildren, nil
}

func blockOfHTML(w util.BufWriter, source []byte, n ast.Node, entering bool) (ast.WalkStatus, error) {
	block := n.(*ast.HTMLBlock)
	if entering {
		_, _ = w.WriteString("<p>")
		for i := range block.Lines().Len() {
			at := block.Lines().At(i)
			template.HTMLEscape(w, at.Value(source))
		}
		if block.HasClosure() {
			template.HTMLEscape(w, block.ClosureLine.Value(source))
		}
		_, _ = w.WriteString("</p>\n")
	}
	return ast.WalkContinue, nil
}

func linkToImage(w util.BufWriter, _ []byte, n ast.Node, entering bool) (ast.WalkStatus, error) {
	if !entering {
		_, _ = w.WriteString("</a>")
		return ast.WalkContinue, nil
	}
	_, _ = w.WriteString(`<a href="`)
	if to := n.(*ast.Image).Destination; safe(to) {
		_, _ = w.Write(util.EscapeHTML(util.URLEscape(to, true)))
	}
	_, _ = w.WriteString(`">`)
	return ast.WalkContinue, nil
}

// safe tells a target that a page may link to: of the web, or next to the page.
func safe(to []byte) bool {
	scheme, _, has := strings.Cut(string(to), ":")
	return !has || strings.ContainsAny(scheme, "/?#") || strings.EqualFold(scheme, "https") ||
		strings.EqualFold(scheme, "http") || strings.EqualFold(scheme, "mailto")
}
