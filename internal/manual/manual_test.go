package manual

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

func loaded(t *testing.T, texts ...string) *schema.Definitions {
	t.Helper()
	var list []*source.File
	for i, text := range texts {
		list = append(list, source.NewFile(fmt.Sprintf("%d.faithful", i), text))
	}
	defs, findings := check.Load(list)
	require.Zero(t, source.Errors(findings), "%v", findings)
	return defs
}

func ferry(t *testing.T) *schema.Definitions {
	paths, err := filepath.Glob("../../examples/ferry/definitions/*.faithful")
	require.NoError(t, err)
	var texts []string
	for _, p := range paths {
		text, err := os.ReadFile(p)
		require.NoError(t, err)
		texts = append(texts, string(text))
	}
	return loaded(t, texts...)
}

// pagesOf parses all pages of a manual.
func pagesOf(t *testing.T, defs *schema.Definitions) (pages map[string]*html.Node, files map[string][]byte) {
	t.Helper()
	made, err := Make(defs, About{Name: "line", Version: "1.0.0"})
	require.NoError(t, err)
	pages, files = map[string]*html.Node{}, map[string][]byte{}
	for _, f := range made {
		files[f.Path] = f.Content
		if strings.HasSuffix(f.Path, ".html") {
			pages[f.Path], err = html.Parse(bytes.NewReader(f.Content))
			require.NoError(t, err)
		}
	}
	return pages, files
}

// each visits the elements of a page.
func each(page *html.Node, visit func(n *html.Node, attribute map[string]string)) {
	for n := range page.Descendants() {
		if n.Type == html.ElementNode {
			attributes := map[string]string{}
			for _, a := range n.Attr {
				attributes[a.Key] = a.Val
			}
			visit(n, attributes)
		}
	}
}

// TestLinks follows the links of the ferries' manual.
func TestLinks(t *testing.T) {
	followLinks(t, ferry(t))
}

// TestLargeModule gives each declaration of a large module a page of its own, and all links lead there.
func TestLargeModule(t *testing.T) {
	var b strings.Builder
	b.WriteString("module line\nenum Deck {\n  #0 open deprecated \"1.1: cold\"\n}\n" +
		"union Way {\n  #1 text text\n}\nerror Full 409 {\n}\ncredential crew = bearer\n" +
		"service Desk {\n  call book(B0) -> B1\n    fails Full\n    needs crew\n  call alter(Change) -> B2\n}\n" +
		"message Change {\n  #1 to patch B3\n}\nexample one of B0 { name: \"Eider\", deck: open }\n")
	for i := range mostOnPage {
		fmt.Fprintf(&b, "/// A berth.\nmessage B%d {\n  #1 name text\n  #2 deck Deck\n  #3 next B%d?\n  #4 way Way?\n}\n", i,
			(i+1)%mostOnPage)
	}
	defs := loaded(t, b.String())
	followLinks(t, defs)
	pages, _ := pagesOf(t, defs)
	assert.Contains(t, wordsOf(pages["modules/line.html"]), "B7 message A berth.")
	assert.NotContains(t, wordsOf(pages["modules/line.html"]), "Must it be there")
	assert.Contains(t, wordsOf(pages["modules/line-B7.html"]), "line B7 message A berth. Number Field")
	small, _ := pagesOf(t, ferry(t))
	assert.Nil(t, small["modules/skerry.booking-Booking.html"])
}

// followLinks follows each link of each page, and each name that the search knows.
func followLinks(t *testing.T, defs *schema.Definitions) {
	t.Helper()
	pages, files := pagesOf(t, defs)
	places := map[string]bool{}
	for at, page := range pages {
		places[at] = true
		seen := map[string]bool{}
		each(page, func(_ *html.Node, attribute map[string]string) {
			if id := attribute["id"]; id != "" {
				assert.False(t, seen[id], "%s has the id %q twice", at, id)
				seen[id] = true
				places[at+"#"+id] = true
			}
		})
	}
	followed := 0
	for at, page := range pages {
		each(page, func(n *html.Node, attribute map[string]string) {
			to := attribute["href"] + attribute["src"]
			if to == "" {
				return
			}
			followed++
			if strings.HasPrefix(to, "#") {
				assert.True(t, places[at+to], "%s has a link to %s", at, to)
				return
			}
			target := path.Join(path.Dir(at), to)
			assert.True(t, places[target] || files[target] != nil, "%s has a link to %s", at, to)
		})
	}
	assert.Greater(t, followed, 500)
	for _, e := range defs.Everything() {
		assert.True(t, places[address(e)], "%s is at %s", e.FullName(), address(e))
		assert.Contains(t, string(files["names.js"]), `"n":"`+e.FullName()+`"`)
	}
}

// TestHostileText holds that what somebody writes in documentation stays text.
func TestHostileText(t *testing.T) {
	doc := "/// <script>alert(1)</script> <img src=x onerror=alert(2)> [go](javascript:alert(3))\n" +
		"/// ![i](data:text/html,x)\n" +
		"/// </script><style>*{display:none}</style> <a href='javascript:alert(4)'>x</a>\n///\n" +
		"/// <div onclick=alert(5)>\n/// block\n/// </div>\n///\n" +
		"/// [a](//elsewhere.example) ![picture](https://elsewhere.example/p.png)\n"
	pages, files := pagesOf(t, loaded(t, doc+"module m\n"+doc+"message A {\n"+
		doc+"  #1 a text = \"</script><script>alert(6)</script>\"\n}\n"+
		doc+"error E 400 { }\n"+doc+"service S {\n"+doc+"  call c(A) -> A\n    fails E\n}\n"))
	for at, page := range pages {
		scripts := 0
		each(page, func(n *html.Node, attribute map[string]string) {
			switch n.Data {
			case "script":
				scripts++
				assert.Nil(t, n.FirstChild, "%s has a script in it", at)
			case "style", "img", "iframe", "object", "base":
				assert.Fail(t, "a page has what it should not have", "%s: %s", at, n.Data)
			}
			for name, value := range attribute {
				assert.False(t, strings.HasPrefix(name, "on"), "%s: %s=%q", at, name, value)
				if name == "href" {
					assert.NotContains(t, strings.ToLower(value), "script:", at)
					assert.NotContains(t, value, "data:", at)
				}
			}
		})
		wanted := 2
		if strings.HasPrefix(at, "services/") {
			wanted++ // its forms
		}
		assert.Equal(t, wanted, scripts, at)
	}
	assert.Contains(t, string(files["modules/m.html"]), "&lt;script&gt;alert(1)&lt;/script&gt;")
	for _, name := range []string{"names.js", "services/m.S.js"} {
		assert.NotEmpty(t, files[name])
		assert.NotContains(t, string(files[name]), "</script>")
	}
	assert.Equal(t, "gnp.txt", plainly("\u202egnp.txt\u2066"), "from servers, definitions come with what checks refuse")
}

// TestDeprecations lists everything deprecated of the ferries, with why and with what still uses it.
func TestDeprecations(t *testing.T) {
	defs := ferry(t)
	pages, _ := pagesOf(t, defs)
	words := wordsOf(pages["deprecated.html"])
	for _, told := range []string{
		"skerry.quay.Refusal.no_ticket member of an enum 1.2: every passage has a ticket",
		"skerry.quay.office credential 1.2: sign in as crew Still used by skerry.quay.Quay.set_fares as credential.",
	} {
		assert.Contains(t, words, told)
	}
	text, err := os.ReadFile("../../examples/ferry/definitions/quay.faithful")
	require.NoError(t, err)
	assert.Len(t, (&site{defs: defs}).deprecations(), strings.Count(string(text), `deprecated "`))
	pages, _ = pagesOf(t, loaded(t, "module m\n"))
	assert.Contains(t, wordsOf(pages["deprecated.html"]), "Nothing is deprecated.")
}

// TestSizes counts the bytes of a sample as they travel.
func TestSizes(t *testing.T) {
	pages, _ := pagesOf(t, loaded(t, "module m\nmessage A {\n  #1 name text\n  #2 seats int32\n}\n"+
		"example first of A { name: \"Eider\", seats: 9 }\nservice S {\n  call c(A) -> ()\n}\n"))
	words := wordsOf(pages["services/m.S.html"])
	assert.Contains(t, words, fmt.Sprintf("As JSON : %d bytes without blanks", len(`{"name":"Eider","seats":9}`)))
	assert.Contains(t, words, fmt.Sprintf("As CBOR: %d bytes", len("\xa2\x01\x65Eider\x02\x09")))
}

// TestWords says bounds as people do.
func TestWords(t *testing.T) {
	_, files := pagesOf(t, loaded(t, `module m
type Name = text where length 1..40
message A {
  #1 name  Name
  #2 names [text] where count 1..1
  #3 seats {text: int32}? where count >= 2
  #4 level int8 = 3 where 1..5
  #5 ids   [int32] where unique
  #6 data  bytes where length <= 9
}
`))
	text := string(files["modules/m.html"])
	for _, words := range []string{"1 to 40 characters", "exactly 1 element", "at least 2 entries", "1 to 5",
		"no two equal", "at most 9 bytes", "defaults to 3", "optional", "No service is declared"} {
		assert.Contains(t, text+string(files["index.html"]), words)
	}
	for _, scalar := range schema.Scalars {
		assert.NotEmpty(t, scalars[scalar.Kind].cbor, scalar.Word)
		assert.NotEmpty(t, scalars[scalar.Kind].json, scalar.Word)
	}
}

// TestThousandMessages measures the pages of 1,000 messages and 100 calls: under 1 s, and under 150 kB each in gzip.
func TestThousandMessages(t *testing.T) {
	var texts []string
	for m := range 20 {
		var b strings.Builder
		fmt.Fprintf(&b, "/// Of the pier %d.\nmodule line.m%d\n", m, m)
		for i := range 50 {
			fmt.Fprintf(&b, "/// What is known of a berth.\nmessage M%d {\n  /// Its name.\n"+
				"  #1 name text where length 1..40\n  #2 seats int32 = 1\n"+
				"  #3 next M%d?\n  #4 lanes [uint32]\n  #5 fares {text: decimal}\n}\n", i, (i+1)%50)
		}
		b.WriteString("/// Calls.\nservice S {\n")
		for i := range 5 {
			fmt.Fprintf(&b, "  /// Asks.\n  call c%d(M%d) -> M%d\n", i, i, i+1)
		}
		b.WriteString("}\n")
		texts = append(texts, b.String())
	}
	defs := loaded(t, texts...)
	start := time.Now()
	made, err := Make(defs, About{Name: "line", Version: "draft"})
	require.NoError(t, err)
	took := time.Since(start)
	largest := 0
	for _, f := range made {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		_, err := w.Write(f.Content)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		largest = max(largest, b.Len())
	}
	t.Logf("%d files in %v, the largest %d bytes in gzip", len(made), took, largest)
	assert.Less(t, largest, 150_000)
	assert.Less(t, took, 4*time.Second, "the target is 1 s; a busy machine takes longer")
}
