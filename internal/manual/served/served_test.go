package served

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/manual"
	"faithfulcourier/internal/remote"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

const definitions = `/// A pier.
module skerry.pier

message Ask { #1 name text where length 1..8 }
message Photo { #1 photo bytes in body "image/*" }
message PhotoAsk {
  #1 name  text
  #2 photo bytes in body "image/*"
}

/// The pier is full.
error Full 409 { #1 berths uint32 }

service Pier {
  needs nothing

  /// Says it again.
  call echo(Ask) -> Ask
    fails Full

  call each(Ask) -> stream Ask
  call all(stream Ask) -> Ask
  call talk(stream Ask) -> stream Ask
  call show(Ask) -> Photo
    http GET "/photos/{name}"
    safe
  call hang(PhotoAsk) -> Ask
    http PUT "/photos/{name}"
}
`

// serving is a site of the definitions, whose calls go to a mock at the same address.
func serving(t *testing.T) (*Site, string) {
	t.Helper()
	defs, findings := check.Load([]*source.File{source.NewFile("pier.faithful", definitions)})
	require.Zero(t, source.Errors(findings), "%v", findings)
	mock, err := remote.NewMock(defs, nil, remote.MockOptions{})
	require.NoError(t, err)
	var site *Site
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { site.ServeHTTP(w, r) }))
	t.Cleanup(server.Close)
	site = New(server.URL, nil)
	about := manual.About{Name: "line", Send: manual.SendRelay, Secret: site.Secret}
	site.Show(State{Definitions: defs, Manual: manual.New(defs, about), Mock: mock,
		Code: func(c *schema.Call, _, request []byte) []manual.Copy {
			return []manual.Copy{{As: "In words", Text: c.Name + " " + string(request)}}
		}})
	return site, server.URL
}

// post sends what a page of the site would.
func post(t *testing.T, site *Site, base, query string, body io.Reader) *http.Response {
	t.Helper()
	r, err := http.NewRequest(http.MethodPost, base+"/-/send"+query, body)
	require.NoError(t, err)
	r.Header.Set("Origin", base)
	r.Header.Set("Faithful-Manual", site.Secret)
	response, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	t.Cleanup(func() { _ = response.Body.Close() })
	return response
}

func first(t *testing.T, a asked, raw []byte) io.Reader {
	t.Helper()
	line, err := json.Marshal(a)
	require.NoError(t, err)
	return bytes.NewReader(append(append(line, '\n'), raw...))
}

// outcomes are the lines that a call is answered with; each is told as it comes.
func outcomes(t *testing.T, response *http.Response, each func(o outcome)) (kinds string) {
	t.Helper()
	require.Equal(t, http.StatusOK, response.StatusCode)
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var o outcome
		require.NoError(t, json.Unmarshal(lines.Bytes(), &o), "%s", lines.Text())
		kinds += o.Kind + " "
		if each != nil {
			each(o)
		}
	}
	require.NoError(t, lines.Err())
	return kinds
}

// TestCallsOfPages makes a call of each kind as a page does.
func TestCallsOfPages(t *testing.T) {
	site, base := serving(t)
	unary := func(a asked, raw []byte, each func(o outcome)) string {
		return outcomes(t, post(t, site, base, "", first(t, a, raw)), each)
	}
	assert.Equal(t, "head value end ", unary(asked{Call: "skerry.pier.Pier.echo", Request: `{"name":"Ada"}`}, nil,
		func(o outcome) {
			if o.Kind == "head" {
				assert.Equal(t, 200, o.Status)
				assert.Contains(t, o.Headers, [2]string{"Content-Type", "application/json"})
			}
		}))
	assert.Equal(t, "refused end ", unary(asked{Call: "skerry.pier.Pier.echo", Request: `{"name":""}`}, nil,
		func(o outcome) {
			if o.Kind == "refused" {
				assert.Equal(t, []wrong{{Pointer: "/name", Detail: "must have 1 to 8 characters, not 0"}}, o.Violations)
			}
		}))
	assert.Equal(t, "head problem end ", unary(asked{Call: "skerry.pier.Pier.echo", Request: `{"name":""}`,
		Unchecked: true}, nil, nil))
	assert.Equal(t, "head value value value end ", unary(asked{Call: "skerry.pier.Pier.each", Request: `{"name":"a"}`},
		nil, nil))
	assert.Regexp(t, `^head type (chunk )+end $`, unary(asked{Call: "skerry.pier.Pier.show", Request: `{"name":"a"}`},
		nil, nil))
	assert.Equal(t, "head value end ", unary(asked{Call: "skerry.pier.Pier.hang", Request: `{"name":"a"}`, Raw: true,
		MediaType: "image/png"}, bytes.Repeat([]byte{7}, 300_000), nil))
	assert.Equal(t, "refused end ", unary(asked{Call: "skerry.pier.Pier.hang", Request: `{"name":"a"}`, Raw: true,
		MediaType: "text/plain"}, []byte("x"), nil))
	for _, call := range []string{"all", "talk"} {
		kinds := unary(asked{Call: "skerry.pier.Pier." + call}, nil, func(o outcome) {
			if o.Kind == "open" {
				for _, element := range []string{`{"name":"a"}`, `{"name":""}`, `{"name":"b"}`} {
					assert.Equal(t, 204, post(t, site, base, "?element="+o.ID, strings.NewReader(element)).StatusCode)
				}
				assert.Equal(t, 204, post(t, site, base, "?end="+o.ID, nil).StatusCode)
			}
		})
		assert.Contains(t, kinds, "open ", call)
		assert.Contains(t, kinds, "refused ", "an element is refused, and the stream goes on: %s", call)
		assert.Regexp(t, `value (value )*end $`, kinds, call)
	}
	assert.Empty(t, site.open, "nothing stays open")
	assert.Equal(t, 410, post(t, site, base, "?element=gone", nil).StatusCode)
	assert.Equal(t, 404, post(t, site, base, "", first(t, asked{Call: "skerry.pier.Pier.gone"}, nil)).StatusCode)
	assert.Equal(t, 400, post(t, site, base, "", strings.NewReader("no line")).StatusCode)
	large := io.LimitReader(endless{}, mostSent+(1<<20))
	assert.Equal(t, 400, post(t, site, base, "", large).StatusCode)
	code, err := io.ReadAll(post(t, site, base, "?code", first(t, asked{Call: "skerry.pier.Pier.echo", Request: "{}"},
		nil)).Body)
	require.NoError(t, err)
	assert.JSONEq(t, `[{"as":"In words","text":"echo {}"}]`, string(code))
}

type endless struct{}

func (endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = 'x'
	}
	return len(p), nil
}

// TestOnlyOurPages holds what is refused of those that are not pages of the site.
func TestOnlyOurPages(t *testing.T) {
	site, base := serving(t)
	ask := func(method, path string, change func(r *http.Request)) int {
		r, err := http.NewRequest(method, base+path, first(t, asked{Call: "skerry.pier.Pier.echo"}, nil))
		require.NoError(t, err)
		r.Header.Set("Origin", base)
		r.Header.Set("Faithful-Manual", site.Secret)
		change(r)
		response, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer response.Body.Close()
		if strings.HasPrefix(path, Below) && response.StatusCode == 200 {
			assert.Equal(t, Policy, response.Header.Get("Content-Security-Policy"))
		}
		return response.StatusCode
	}
	port := base[strings.LastIndex(base, ":"):]
	host := func(name string) func(*http.Request) { return func(r *http.Request) { r.Host = name } }
	same := func(*http.Request) {}
	assert.Equal(t, 200, ask("GET", Below, same))
	assert.Equal(t, 200, ask("GET", Below+"index.html", same))
	assert.Equal(t, 404, ask("GET", Below+"nothing.html", same))
	assert.Equal(t, 405, ask("DELETE", Below, same))
	assert.Equal(t, 200, ask("GET", "/-/state", same), "the mock's own")
	assert.Equal(t, 200, ask("GET", Below, host("localhost"+port)))
	for _, name := range []string{"evil.example" + port, "127.0.0.1:1", "127.0.0.1", "127.0.0.2" + port, "",
		"localhost.evil.example" + port, "[::1]" + port} {
		if name == "" {
			continue // the client would put its own
		}
		assert.Equal(t, 421, ask("GET", Below, host(name)), name)
		assert.Equal(t, 421, ask("POST", "/-/send", host(name)), name)
	}
	assert.Equal(t, 200, ask("POST", "/-/send", same))
	assert.Equal(t, 403, ask("GET", "/-/send", same))
	for header, values := range map[string][]string{"Origin": {"", "null", "http://evil.example", "https" + base[4:],
		base + "0", "evil.example"}, "Faithful-Manual": {"", "guess", site.Secret + "x"}} {
		for _, v := range values {
			assert.Equal(t, 403, ask("POST", "/-/send", func(r *http.Request) { r.Header.Set(header, v) }), "%s: %s", header, v)
		}
	}
}

// TestSaves tells an open page what becomes of saves.
func TestSaves(t *testing.T) {
	site, base := serving(t)
	response, err := http.Get(base + Below + "saves")
	require.NoError(t, err)
	defer response.Body.Close()
	lines := bufio.NewScanner(response.Body)
	next := func() string {
		for lines.Scan() {
			if text, is := strings.CutPrefix(lines.Text(), "event: "); is {
				lines.Scan()
				return text + " " + lines.Text()
			}
		}
		return "nothing"
	}
	require.True(t, lines.Scan()) // it listens
	time.Sleep(20 * time.Millisecond)
	site.Refuse("pier.faithful:3: a mistake")
	assert.Equal(t, `wrong data: {"findings":"pier.faithful:3: a mistake"}`, next())
	site.Show(site.now())
	assert.Regexp(t, `^changed data: \{"number":[0-9]+\}$`, next())
	site.Refuse("another one")
	assert.Equal(t, `wrong data: {"findings":"another one"}`, next())
	late, err := http.Get(base + Below + "saves")
	require.NoError(t, err)
	defer late.Body.Close()
	buffer := make([]byte, 200)
	var told strings.Builder
	for !strings.Contains(told.String(), "another one") {
		n, err := late.Body.Read(buffer)
		fmt.Fprintf(&told, "%s", buffer[:n])
		require.NoError(t, err, "who comes later is told, too: %s", &told)
	}
}

// TestPagesAtOnce asks for all pages at the same time, as browsers do, while definitions are saved.
func TestPagesAtOnce(t *testing.T) {
	site, base := serving(t)
	var all sync.WaitGroup
	for range 4 {
		for _, path := range site.now().Manual.Paths() {
			all.Go(func() {
				response, err := http.Get(base + Below + path)
				if assert.NoError(t, err) {
					defer response.Body.Close()
					content, err := io.ReadAll(response.Body)
					assert.NoError(t, err)
					assert.NotEmpty(t, content, path)
				}
			})
		}
		all.Go(func() { site.Show(site.now()) })
	}
	all.Wait()
}
