package parcels

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"image"
	"image/png"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/toolchain"
)

// server is the running server.
type server struct {
	address string
	process *exec.Cmd
	output  *bufio.Reader
}

func start(t *testing.T, page string) *server {
	program := filepath.Join(t.TempDir(), "server")
	toolchain.Run(t, ".", "go", "build", "-o", program, "./go/server")
	ctx, stop := context.WithCancel(context.Background())
	s := &server{process: exec.CommandContext(ctx, program, "-page", page)}
	output, err := s.process.StdoutPipe()
	require.NoError(t, err)
	var log bytes.Buffer
	s.process.Stderr = &log
	require.NoError(t, s.process.Start())
	t.Cleanup(func() {
		stop()
		_ = s.process.Wait() // it was told to end, or has ended
		if t.Failed() {
			t.Logf("the server's log:\n%s", &log)
		}
	})
	s.output = bufio.NewReader(output)
	line, err := s.output.ReadString('\n')
	require.NoError(t, err)
	s.address = strings.TrimSpace(strings.TrimPrefix(line, "listening on "))
	return s
}

// photo is the path of a picture of 40 by 30 points, and its size.
func photo(t *testing.T) (path string, size int) {
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, image.NewRGBA(image.Rect(0, 0, 40, 30))))
	path = filepath.Join(t.TempDir(), "parcel.png")
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o666))
	return path, b.Len()
}

const deskTold = `sent       {"to":"Marit Skua","quay":"Skerry","grams":500,"note":"Glass."}
changes    {"grams":1500,"note":null}
now        {"to":"Marit Skua","quay":"Skerry","grams":1500}
refused    True
photo      image/png %d bytes
photo      is still the same
handed     1 and 1 that nobody has sent
it is at   Skerry
problem    401 unauthenticated: sign in again
`

// TestDesk runs the desk's program in Python, against the server in Go.
func TestDesk(t *testing.T) {
	python := toolchain.Python(t)
	path, size := photo(t)
	kept := filepath.Join(t.TempDir(), "copy.png")
	told := toolchain.Run(t, "python", python, "desk.py", start(t, "page").address, path, kept)
	assert.Equal(t, fmt.Sprintf(deskTold, size), told)
	want, err := os.ReadFile(path)
	require.NoError(t, err)
	got, err := os.ReadFile(kept)
	require.NoError(t, err)
	assert.Equal(t, want, got)
}

const pageTold = `Hello, Ada Petrel.
the page sees no cookie
parcel/grams: must be 1 to 30000, not 31000
The parcel is on its way.
For Marit Skua at Skerry: 1200 g, “Glass.”.
Nothing has changed.
Changed.
For Marit Skua at Skerry: 1500 g.
The photo has %d bytes, and is 40 by 30.
There is news.
`

// TestPage uses the page in Chromium as a visitor does.
func TestPage(t *testing.T) {
	toolchain.Require(t, "typescript")
	toolchain.Browser(t)
	page := t.TempDir()
	toolchain.BuildTypeScript(t, "page", filepath.Join(page, "dist"))
	index, err := os.ReadFile("page/index.html")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(page, "index.html"), index, 0o666))
	path, size := photo(t)
	told := toolchain.Run(t, "page", "node", "drive.js", start(t, page).address+"/page/", path)
	assert.Equal(t, fmt.Sprintf(pageTold, size), told)
}

const manualTold = `send 401 Unauthorized unauthenticated (unauthenticated)
sign_in 200 OK 
the page sees no cookie
send 201 Created 
amend 200 OK 
true
put_photo 204 No Content 
photo 200 OK 
the photo is 40 by 30
`

// TestManual sends a parcel from the manual that the server answers with: the browser keeps the cookie, a patch is
// filled in, a photo goes up and is shown.
func TestManual(t *testing.T) {
	toolchain.Require(t, "typescript")
	toolchain.Browser(t)
	toolchain.InstallNode(t, "page")
	path, _ := photo(t)
	told := toolchain.Run(t, "page", "node", "manual.js", start(t, "page").address, path)
	assert.Equal(t, manualTold, told)
}

// TestStopping tells the server to end while somebody uploads a photo: the upload is finished
// first, and whoever comes meanwhile is sent away.
func TestStopping(t *testing.T) {
	s := start(t, "page")
	// A body is sent once the server asks for it, which it does when its handler reads.
	client := &http.Client{Timeout: 20 * time.Second,
		Transport: &http.Transport{ExpectContinueTimeout: 20 * time.Second}}
	type answer struct {
		status  int
		text    string
		cookies []*http.Cookie
	}
	var visitor *http.Cookie
	call := func(method, path, kind string, body io.Reader) answer {
		r, err := http.NewRequestWithContext(t.Context(), method, s.address+path, body)
		if err != nil {
			return answer{text: err.Error()}
		}
		r.Header.Set("Content-Type", kind)
		if method == http.MethodPut {
			r.Header.Set("Expect", "100-continue")
		}
		if visitor != nil {
			r.AddCookie(visitor)
		}
		response, err := client.Do(r)
		if err != nil {
			return answer{text: err.Error()}
		}
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		if err != nil {
			return answer{text: err.Error()}
		}
		return answer{response.StatusCode, string(text), response.Cookies()}
	}
	const json = "application/json"
	signedIn := call("POST", "/sign-in", json, strings.NewReader(`{"name":"Ada Petrel"}`))
	require.Len(t, signedIn.cookies, 1, signedIn.text)
	visitor = signedIn.cookies[0]
	sent := call("POST", "/parcels", json, strings.NewReader(`{"parcel":{"to":"Marit Skua","quay":"Skerry"}}`))
	require.Equal(t, http.StatusCreated, sent.status, sent.text)
	_, rest, _ := strings.Cut(sent.text, `"id":"`)
	id, _, _ := strings.Cut(rest, `"`)
	parcel := "/parcels/" + id
	body, upload := io.Pipe()
	answered := make(chan answer, 1)
	go func() { answered <- call("PUT", parcel+"/photo", "image/png", body) }()
	_, err := upload.Write(make([]byte, 1<<16))
	require.NoError(t, err)
	require.NoError(t, s.process.Process.Signal(syscall.SIGTERM))
	require.Eventually(t, func() bool {
		late := call("GET", parcel, "", nil)
		return late.status == http.StatusServiceUnavailable || late.status == 0 // or nobody listens any more
	}, 5*time.Second, 20*time.Millisecond)
	select {
	case early := <-answered:
		require.Fail(t, "the upload was cut", "%v", early)
	default:
	}
	_, err = upload.Write(make([]byte, 1<<16))
	require.NoError(t, err)
	require.NoError(t, upload.Close())
	end := <-answered
	assert.Equal(t, http.StatusNoContent, end.status, end.text)
	line, err := s.output.ReadString('\n')
	require.NoError(t, err)
	assert.Equal(t, "stopped\n", line)
	assert.NoError(t, s.process.Wait())
}
