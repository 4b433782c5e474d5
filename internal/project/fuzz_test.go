package project

import (
	"context"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
)

// FuzzFetch asks servers that answer anything for their definitions: what is believed has
// modules with names that lead nowhere else, and the digest of its texts.
func FuzzFetch(f *testing.F) {
	f.Add("application/json", []byte(`{"name":"a","version":"1.0.0","digest":"d","modules":[{"name":"a","text":"module a"}]}`))
	f.Add("application/json", []byte(`{"modules":[{"name":"../../a","text":""},{"name":"a\u001b[2J","text":"x"}]}`))
	f.Add("application/problem+json", []byte(`{"title":"no\u001b[2J","detail":"x"}`))
	f.Fuzz(func(t *testing.T, encoding string, body []byte) {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", encoding)
			_, _ = w.Write(body)
		}))
		defer server.Close()
		served, err := Fetch(context.Background(), server.URL, Access{Limit: 1 << 20})
		if err != nil {
			assert.NotContains(t, err.Error(), "\x1b")
			return
		}
		for _, file := range served.Files {
			assert.Regexp(t, `#[a-z][a-z0-9_.]*$`, file.Name)
		}
		assert.NotContains(t, served.Name+served.Version, "\x1b")
	})
}
