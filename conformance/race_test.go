package conformance

import (
	"bytes"
	"context"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestRaces makes every kind of call between a client and a server in Go that look for
// races, in both encodings, and attacks the server.
func TestRaces(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out what takes long")
	}
	dir := filepath.Join(outputs(t), "races")
	build := exec.Command("go", "build", "-race", "-o", dir+"/", "./go/matrix/server", "./go/matrix/client",
		"./go/matrix/attacked")
	if log, err := build.CombinedOutput(); err != nil {
		if _, missing := exec.LookPath("cc"); missing != nil {
			t.Skip("skipped: looking for races needs a C compiler")
		}
		require.NoError(t, err, "%s", log)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	server := side{language: "go", dir: ".", server: []string{dir + "/server"}}
	address, _ := process(t, server, "-heartbeat", "20ms")
	for _, encoding := range []string{"-json=false", "-json=true"} {
		for range 2 {
			out, err := exec.CommandContext(ctx, dir+"/client", "-server", address, encoding).CombinedOutput()
			require.NoError(t, err, "%s", out)
			assert.NotContains(t, string(out), "DATA RACE")
			assert.NotContains(t, string(bytes.ReplaceAll(out, []byte(": ok\n"), nil)), ":", "every case is ok")
		}
	}
	out, err := exec.CommandContext(ctx, dir+"/attacked", "-server", address, "-call", "count").CombinedOutput()
	require.NoError(t, err)
	assert.NotContains(t, string(out), "DATA RACE")
	// The server says what it saw when it is asked to leave.
	assert.NotContains(t, logOf(t, server, dir, ctx), "DATA RACE")
}

// logOf runs another server of the same kind, lets a client leave in the middle of each call,
// and returns what it wrote.
func logOf(t *testing.T, s side, dir string, ctx context.Context) string {
	t.Helper()
	c := exec.CommandContext(ctx, s.server[0], "-listen", "127.0.0.1:18127", "-heartbeat", "20ms", "-idle", "300ms")
	var log bytes.Buffer
	c.Stdout, c.Stderr = &log, &log
	require.NoError(t, c.Start())
	time.Sleep(300 * time.Millisecond)
	for range 20 {
		hurried, stop := context.WithTimeout(ctx, 200*time.Millisecond)
		_ = exec.CommandContext(hurried, dir+"/client", "-server", "http://127.0.0.1:18127").Run() // it is killed
		stop()
	}
	_ = c.Process.Kill()
	_ = c.Wait()
	return log.String()
}
