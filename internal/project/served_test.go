package project

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/source"
)

// serving is a server of definitions that can be changed; each request is shown to
// look.
type serving struct {
	*httptest.Server
	texts []string
	look  func(r *http.Request)
}

func serveDefinitions(t *testing.T, texts ...string) *serving {
	s := &serving{texts: texts, look: func(*http.Request) {}}
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.look(r)
		if r.URL.Path != "/v1/-/definitions" {
			http.NotFound(w, r)
			return
		}
		var files []*source.File
		for _, text := range s.texts {
			files = append(files, source.NewFile("x", text))
		}
		defs, _ := check.Load(files)
		document := map[string]any{"name": "fleet", "version": "2.1.0", "digest": defs.Digest()}
		var modules []map[string]string
		for _, m := range defs.Modules {
			modules = append(modules, map[string]string{"name": m.Name, "text": m.Canonical()})
		}
		document["modules"] = modules
		w.Header().Set("Content-Type", "application/json; charset=utf-8")
		assert.NoError(t, json.NewEncoder(w).Encode(document))
	}))
	t.Cleanup(s.Close)
	return s
}

func TestDefinitionsOfServers(t *testing.T) {
	s := serveDefinitions(t, "module skerry.fleet\nuse skerry.common\nmessage Vessel { #1 at common.Spot }",
		"module skerry.common\nmessage Spot { #1 x float64 }")
	s.look = func(r *http.Request) {
		assert.Equal(t, "Bearer token", r.Header.Get("Authorization"))
		assert.Equal(t, "k & y", r.URL.Query().Get("key"))
	}
	access := Access{Headers: http.Header{"Authorization": {"Bearer token"}}, Query: url.Values{"key": {"k & y"}}}
	served, err := Fetch(t.Context(), s.URL+"/v1/", access)
	require.NoError(t, err)
	assert.Equal(t, "fleet 2.1.0", served.Name+" "+served.Version)
	defs, findings, err := LoadFrom(t.Context(), t.TempDir(), s.URL+"/v1", access)
	require.NoError(t, err)
	assert.Empty(t, findings)
	assert.Len(t, defs.Modules, 2)
	assert.Equal(t, served.Digest, defs.Digest())
	s.look = func(*http.Request) {}
	_, err = Fetch(t.Context(), s.URL, Access{})
	require.ErrorContains(t, err, "it answers 404 Not Found")
	_, err = Fetch(t.Context(), s.URL+"/v1", Access{Limit: 100})
	require.ErrorContains(t, err, "are larger than 100 bytes")
	done := make(chan struct{})
	t.Cleanup(func() { close(done) })
	s.look = func(r *http.Request) {
		select {
		case <-r.Context().Done():
		case <-done:
		}
	}
	_, err = Fetch(t.Context(), s.URL+"/v1?key=secret", Access{Timeout: 50 * time.Millisecond})
	require.ErrorContains(t, err, "within 50ms")
}

// A source that is a server is kept in the lock: it works without the server, it
// is not edited, and when the server moves on that is seen.
func TestLock(t *testing.T) {
	s := serveDefinitions(t, "module skerry.fleet\nuse skerry.common\nmessage Vessel { #1 at common.Spot }",
		"module skerry.common\nmessage Spot { #1 x float64 }", "module skerry.crew\nmessage Sailor { #1 name text }")
	dir := write(t, t.TempDir(), map[string]string{
		"faithful.toml":  "name = \"x\"\nsources = [\"own\", \"" + s.URL + "/v1#skerry.fleet\"]",
		"own/a.faithful": "module skerry.own\nuse skerry.fleet\nmessage Trip { #1 vessel fleet.Vessel }",
	})
	p, err := Open(dir)
	require.NoError(t, err)
	_, err = p.Files()
	require.ErrorContains(t, err, "was not fetched yet; fetch it into faithful.lock with: faithful check "+
		"--remote --update")

	take := func() (moved []string) {
		remotes, err := p.Remotes()
		require.NoError(t, err)
		require.Len(t, remotes, 1)
		served, err := Fetch(t.Context(), remotes[0].URL, Access{})
		require.NoError(t, err)
		now, moved, err := remotes[0].Moved(served)
		require.NoError(t, err)
		require.NoError(t, p.Keep([]*Locked{now}))
		return moved
	}
	assert.Equal(t, []string{"it was not fetched yet"}, take())
	assert.Empty(t, take())
	s.texts[2] += " message Bosun { #1 name text }"
	assert.Empty(t, take(), "what is not used may change")
	s.Server.Close()
	defs, findings, err := p.Definitions()
	require.NoError(t, err)
	require.Empty(t, findings)
	var names []string
	for _, m := range defs.Modules {
		names = append(names, m.Name)
	}
	assert.Equal(t, []string{"skerry.common", "skerry.fleet", "skerry.own"}, names, "what is named, and what it uses")
	files, err := p.Files()
	require.NoError(t, err)
	assert.Len(t, Own(files), 1)

	path := filepath.Join(dir, LockName)
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(text), "float64", "float32", 1)), 0o666))
	_, err = p.Files()
	require.ErrorContains(t, err, "faithful.lock was edited")
	require.NoError(t, os.WriteFile(path, []byte("nonsense"), 0o666))
	_, err = p.Files()
	require.ErrorContains(t, err, "faithful.lock can't be read")
	require.NoError(t, os.WriteFile(path, text, 0o666))

	again := serveDefinitions(t, "module skerry.fleet\nmessage Vessel { #1 at text }")
	p.Config.Sources[1] = again.URL + "/v1#skerry.fleet"
	remotes, err := p.Remotes()
	require.NoError(t, err)
	assert.Nil(t, remotes[0].Kept, "another server is another source")
	served, err := Fetch(t.Context(), remotes[0].URL, Access{})
	require.NoError(t, err)
	old, err := p.readLock()
	require.NoError(t, err)
	_, moved, err := (&Remote{URL: remotes[0].URL, Kept: &old.Sources[0]}).Moved(served)
	require.NoError(t, err)
	assert.Equal(t, []string{"changed module skerry.fleet", "module gone: skerry.common"}, moved)
	_, _, err = (&Remote{URL: again.URL + "/v1#skerry.fleat"}).Moved(served)
	require.ErrorContains(t, err, "has no module \"skerry.fleat\"; its modules are: skerry.fleet")
}
