package conformance

import (
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"faithfulcourier/internal/toolchain"
)

const browsed = `unary: ü
answer headers: kept, 4, so, undefined, the cookie is the server's now
not modified: "kept.*"
upload: 3000000 bytes of image/x-made, 3000000 in all
download: 3000000 bytes
answer stream: 20
both ways: 2
request stream: TypeError: skerry.matrix.Pier.sum takes a stream, which browsers can't send: send it from a server, or declare a call that takes a list
redirect: TypeError: skerry.matrix.Pier.move is answered with a redirect, which browsers hide from scripts: let the page go there itself
`

// TestBrowser opens a page in Chromium that calls the servers, which are of another origin: with
// cookies, bodies as they are, streams and WebSockets.
func TestBrowser(t *testing.T) {
	toolchain.Require(t, "typescript")
	toolchain.Browser(t)
	all := withJava(t)
	dir := typescriptPrograms(t)
	tools := filepath.Join("lint")
	toolchain.InstallNode(t, tools)
	script := filepath.Join(t.TempDir(), "page.js")
	toolchain.Run(t, ".", filepath.Join(tools, "node_modules", ".bin", "esbuild"), "typescript/src/browser/page.ts",
		"--bundle", "--format=esm", "--platform=browser", "--outfile="+script)
	pages := http.NewServeMux()
	pages.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = io.WriteString(w, `<!doctype html><title>at work</title><script type="module" src="/page.js"></script><body>`)
	})
	pages.HandleFunc("GET /page.js", func(w http.ResponseWriter, r *http.Request) { http.ServeFile(w, r, script) })
	site := httptest.NewServer(pages)
	defer site.Close()
	t.Setenv("MATRIX_ORIGINS", site.URL)
	for _, s := range all {
		t.Run(s.language, func(t *testing.T) {
			if lacks := s.lacks["both ways"]; lacks != "" {
				t.Skip("skipped: " + lacks)
			}
			address := start(t, s)
			shown := toolchain.Run(t, ".", "node", filepath.Join(dir, "browser", "drive.js"),
				site.URL+"/?server="+url.QueryEscape(address))
			assert.Equal(t, strings.Repeat(browsed, 2), shown)
		})
	}
}
