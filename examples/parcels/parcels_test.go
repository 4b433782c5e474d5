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
handed     1 and 1 unknown
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
	toolchain.Require(t, "chromium")
	chromium, err := exec.LookPath("chromium")
	require.NoError(t, err)
	t.Setenv("CHROMIUM", chromium)
	page := t.TempDir()
	toolchain.BuildTypeScript(t, "page", filepath.Join(page, "dist"))
	index, err := os.ReadFile("page/index.html")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(page, "index.html"), index, 0o666))
	path, size := photo(t)
	told := toolchain.Run(t, "page", "node", "drive.js", start(t, page).address+"/page/", path)
	assert.Equal(t, fmt.Sprintf(pageTold, size), told)
}

// TestStopping tells the server to end while somebody uploads a photo: the upload is finished
// first, and whoever comes meanwhile is sent away.
func TestStopping(t *testing.T) {
	s := start(t, "page")
	client := &http.Client{Timeout: 20 * time.Second}
	call := func(method, path, kind string, body io.Reader) (int, string) {
		r, err := http.NewRequestWithContext(t.Context(), method, s.address+path, body)
		require.NoError(t, err)
		r.Header.Set("Content-Type", kind)
		r.Header.Set("Authorization", "Bearer skerry desk")
		response, err := client.Do(r)
		if err != nil {
			return 0, err.Error()
		}
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		return response.StatusCode, string(text)
	}
	const parcel = "/parcels/6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f"
	status, text := call("GET", parcel, "", nil)
	assert.Equal(t, http.StatusNotFound, status, text)
	body, upload := io.Pipe()
	type answer struct {
		status int
		text   string
	}
	answered := make(chan answer, 1)
	go func() {
		status, text := call("PUT", parcel+"/photo", "image/png", body)
		answered <- answer{status, text}
	}()
	_, err := upload.Write(make([]byte, 1<<16))
	require.NoError(t, err)
	require.NoError(t, s.process.Process.Signal(syscall.SIGTERM))
	require.Eventually(t, func() bool {
		status, _ := call("GET", parcel, "", nil)
		return status == http.StatusServiceUnavailable || status == 0 // or nobody listens any more
	}, 5*time.Second, 20*time.Millisecond)
	select {
	case early := <-answered:
		require.Fail(t, "the upload was cut", "%v", early)
	default:
	}
	_, err = upload.Write(make([]byte, 1<<16))
	require.NoError(t, err)
	require.NoError(t, upload.Close())
	// It was read to its end, and only then looked for the parcel.
	end := <-answered
	assert.Equal(t, http.StatusNotFound, end.status, end.text)
	assert.Contains(t, end.text, "NoParcel")
	line, err := s.output.ReadString('\n')
	require.NoError(t, err)
	assert.Equal(t, "stopped\n", line)
	assert.NoError(t, s.process.Wait())
}
