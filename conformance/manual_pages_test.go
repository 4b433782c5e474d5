package conformance

import (
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestManualsPages asks servers of each language for their manual as any tool may: below a base, with other methods,
// and where it is guarded or hidden.
func TestManualsPages(t *testing.T) {
	all := withJava(t)
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	for _, s := range all {
		t.Run(s.language, func(t *testing.T) {
			ask := func(address, method, path, key string) (*http.Response, string) {
				t.Helper()
				r, err := http.NewRequest(method, address+path, nil)
				require.NoError(t, err)
				if key != "" {
					r.Header.Set("Desk-Key", key)
				}
				response, err := client.Do(r)
				require.NoError(t, err)
				defer response.Body.Close()
				body, err := io.ReadAll(response.Body)
				require.NoError(t, err)
				return response, string(body)
			}
			open := start(t, s, attackedArguments[s.language]...) + attackedBase
			response, _ := ask(open, "GET", "/-/manual", "")
			assert.Equal(t, 308, response.StatusCode)
			assert.Equal(t, attackedBase+"/-/manual/", response.Header.Get("Location"))
			for path, kind := range map[string]string{"": "text/html", "index.html": "text/html", "manual.css": "text/css",
				"manual.js": "text/javascript", "services/skerry.matrix.Pier.html": "text/html",
				"services/skerry.matrix.Pier.js": "text/javascript"} {
				response, body := ask(open, "GET", "/-/manual/"+path, "")
				assert.Equal(t, 200, response.StatusCode, path)
				assert.Equal(t, kind+";charset=utf-8", strings.ReplaceAll(response.Header.Get("Content-Type"), " ", ""), path)
				assert.Contains(t, response.Header.Get("Content-Security-Policy"), "frame-ancestors 'none'", path)
				assert.Equal(t, "nosniff", response.Header.Get("X-Content-Type-Options"), path)
				assert.NotEmpty(t, body, path)
				response, body = ask(open, "HEAD", "/-/manual/"+path, "")
				assert.Equal(t, 200, response.StatusCode, path)
				assert.Empty(t, body, path)
			}
			_, first := ask(open, "GET", "/-/manual/", "")
			assert.Contains(t, first, `data-send="own"`)
			response, body := ask(open, "GET", "/-/manual/nothing.html", "")
			assert.Equal(t, 404, response.StatusCode)
			assert.Contains(t, body, "unknown-call")
			response, _ = ask(open, "GET", "/-/manual/../state", "")
			assert.Contains(t, []int{200, 404}, response.StatusCode, "whoever resolves it, no file is read")
			response, _ = ask(open, "POST", "/-/manual/", "")
			assert.Equal(t, 405, response.StatusCode)

			t.Setenv("MATRIX_DEFINITIONS", "guarded")
			guarded := start(t, s, attackedArguments[s.language]...) + attackedBase
			for key, status := range map[string]int{"": 200, "expired": 401, "stolen": 403} {
				response, body := ask(guarded, "GET", "/-/manual/", key)
				assert.Equal(t, status, response.StatusCode, key)
				assert.Equal(t, status == 200, strings.Contains(body, "<main"), key)
			}
			t.Setenv("MATRIX_DEFINITIONS", "hidden")
			hidden := start(t, s, attackedArguments[s.language]...) + attackedBase
			response, _ = ask(hidden, "GET", "/-/manual/", "")
			assert.Equal(t, 404, response.StatusCode)
		})
	}
}
