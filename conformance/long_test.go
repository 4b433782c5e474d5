package conformance

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var elements = flag.Int("elements", 40_000, "how many elements the long streams have")

var megabytes = flag.Int("megabytes", 200, "how large the bodies are that are sent as they are, in MiB")

var peakLine = regexp.MustCompile(`VmHWM:\s+(\d+) kB`)

// peak is how much memory a process came to need, in KiB.
func peak(t *testing.T, pid int) int {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		t.Skipf("skipped: this system does not tell what processes need: %v", err)
	}
	found := peakLine.FindSubmatch(status)
	require.NotNil(t, found)
	n, err := strconv.Atoi(string(found[1]))
	require.NoError(t, err)
	return n
}

// TestLongStreams sends bodies as they are, and streams whose readers are slow at first: neither side
// may keep them. What is sent is several times what may be kept.
func TestLongStreams(t *testing.T) {
	t.Parallel() // with the other tests that measure no time, after those that do
	if testing.Short() {
		t.Skip("skipped: -short leaves out long streams")
	}
	const allowed = 48 << 10 // KiB beyond what a short stream takes
	streamed := min(48_000_000*4 / *elements, 90_000)
	size := streamed
	for _, s := range withJava(t) {
		t.Run(s.language, func(t *testing.T) {
			for i, argument := range s.server {
				if argument == "-Xmx512m" { // or Java would collect nothing until it has so much
					s.server = slices.Clone(s.server)
					s.server[i] = "-Xmx64m"
				}
			}
			address, pid := process(t, s)
			run := func(call string, n int) (client int, took time.Duration) {
				ctx, cancel := context.WithTimeout(context.Background(), 20*time.Minute)
				defer cancel()
				command := map[string][]string{
					"go": {outputs(t) + "/go/long", "-server", address, "-call", call, "-n", strconv.Itoa(n), "-size",
						strconv.Itoa(size)},
					"typescript": {"node", outputs(t) + "/typescript/matrix/long.js", address, call, strconv.Itoa(n),
						strconv.Itoa(size)},
					"python": {s.server[0], "-m", "matrix.long", address, call, strconv.Itoa(n), strconv.Itoa(size)},
				}[s.language]
				if strings.HasPrefix(s.language, "java") {
					command = javaProgram(t, "LongStreams", address, call, strconv.Itoa(n), strconv.Itoa(size))
				}
				c := exec.CommandContext(ctx, command[0], command[1:]...)
				c.Dir = s.dir
				start := time.Now()
				output, err := c.CombinedOutput()
				require.NoError(t, err, "%s", output)
				client, err = strconv.Atoi(strings.TrimSpace(string(output)))
				require.NoError(t, err)
				return client, time.Since(start)
			}
			for _, call := range []string{"stow", "unload", "count", "sum"} {
				short, many, allowed := 1000, *elements, allowed
				if call == "stow" || call == "unload" { // bodies as they are
					size, short, many, allowed = 64<<10, 10, *megabytes*16, 32<<10
					if s.language == "typescript" {
						allowed = 64 << 10 // Node alone takes 45 MiB to pass so much on: it collects buffers late
					}
				} else {
					size = streamed
				}
				clientShort, _ := run(call, short)
				serverShort := peak(t, pid)
				client, took := run(call, many)
				server := peak(t, pid)
				t.Logf("%s: %d times %d bytes in %v; the client took %d KiB (%d for a short one), the server "+
					"%d KiB (%d)", call, many, size, took.Round(time.Millisecond), client, clientShort, server, serverShort)
				assert.Less(t, client-clientShort, allowed, "the client of %s", call)
				assert.Less(t, server-serverShort, allowed, "the server of %s", call)
			}
		})
	}
}
