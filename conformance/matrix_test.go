package conformance

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/toolchain"
)

// side is the matrix's server and client of one language.
type side struct {
	language string
	dir      string
	server   []string
	client   func(address, encoding string) []string // nil where another side has the same
	// lacks are cases that a server can't do, with how a client says so.
	lacks map[string]string
}

// sides builds the servers and clients of all languages that are there.
func sides(t *testing.T) []side {
	var list []side
	t.Run("build go", func(t *testing.T) {
		dir := filepath.Join(outputs(t), "go")
		toolchain.Run(t, ".", "go", "build", "-o", dir+"/", "./go/matrix/server", "./go/matrix/client",
			"./go/matrix/losses", "./go/matrix/long", "./go/matrix/attacked")
		list = append(list, side{language: "go", dir: ".", server: []string{dir + "/server"},
			client: func(address, encoding string) []string {
				return []string{dir + "/client", "-server", address, fmt.Sprintf("-json=%t", encoding == "json")}
			}})
	})
	t.Run("build typescript", func(t *testing.T) {
		toolchain.Require(t, "typescript")
		dir := filepath.Join(typescriptPrograms(t), "matrix")
		list = append(list, side{language: "typescript", dir: ".", server: []string{"node", dir + "/server.js"},
			client: func(address, encoding string) []string {
				return []string{"node", dir + "/client.js", address, encoding}
			}})
	})
	t.Run("build python", func(t *testing.T) {
		python := toolchain.Python(t)
		list = append(list, side{language: "python", dir: "python", server: []string{python, "-m", "matrix.server"},
			client: func(address, encoding string) []string {
				return []string{python, "-m", "matrix.client", address, encoding}
			}})
	})
	require.NotEmpty(t, list, "a test that -run picks out needs its programs, too: -run 'Test.../(build|...)'")
	return list
}

// withJava adds the servers and the client in Java.
func withJava(t *testing.T) []side {
	list := sides(t)
	t.Run("build java", func(t *testing.T) { list = append(list, javaSides(t)...) })
	return list
}

// callers are the sides that have a client.
func callers(all []side) []side {
	return slices.DeleteFunc(slices.Clone(all), func(s side) bool { return s.client == nil })
}

// withAsyncio adds Python's other client.
func withAsyncio(all []side) []side {
	list := slices.Clone(all)
	for _, s := range all {
		if s.language == "python" {
			list = append(list, side{language: "asyncio", dir: s.dir, server: s.server,
				client: func(address, encoding string) []string {
					return []string{s.server[0], "-m", "matrix.client_async", address, encoding}
				}})
		}
	}
	return list
}

// start runs a server until the test ends, and returns its address.
func start(t *testing.T, s side, args ...string) string {
	address, _ := process(t, s, args...)
	return address
}

// process is start, with the number of the server's process.
func process(t *testing.T, s side, args ...string) (address string, pid int) {
	c := exec.Command(s.server[0], append(s.server[1:], args...)...)
	c.Dir = s.dir
	return listening(t, c, "listening on "), c.Process.Pid
}

// listening starts a program, which ends with the test, and returns what its first line says after words.
func listening(t *testing.T, c *exec.Cmd, words string) string {
	output, err := c.StdoutPipe()
	require.NoError(t, err)
	var log bytes.Buffer
	c.Stderr = &log
	require.NoError(t, c.Start())
	t.Cleanup(func() {
		_ = c.Process.Kill()
		_ = c.Wait() // it was told to end
		if t.Failed() && log.Len() > 0 {
			t.Logf("the log of %s:\n%s", c, &log)
		}
	})
	lines := bufio.NewReader(output)
	line, err := lines.ReadString('\n')
	require.NoError(t, err, "%s", &log)
	go io.Copy(io.Discard, lines) // what else it says must not hold it up
	return strings.TrimSpace(strings.TrimPrefix(line, words))
}

// cases are what every client does with every server, in order.
var cases = []string{"unary", "bound", "answer headers", "raw bodies", "compression", "watching", "answer stream",
	"request stream", "both ways", "heads", "declared error", "invalid request", "late failure", "early answer", "early refusal",
	"cancellation", "left streams", "timeout", "missing credential", "retry", "not implemented"}

// TestMatrix lets each client call each server, over loopback, in both encodings,
// and prints the table of it.
func TestMatrix(t *testing.T) {
	all := withJava(t)
	results := map[string]map[string]string{} // by pair, by case
	var pairs []string
	var mu sync.Mutex
	t.Run("servers", func(t *testing.T) {
		for _, server := range all {
			t.Run("server in "+server.language, func(t *testing.T) {
				t.Parallel() // most of it is waiting
				address := start(t, server)
				for _, client := range withAsyncio(callers(all)) {
					for _, encoding := range []string{"cbor", "json"} {
						if server.lacks["cancellation"] != "" {
							address = start(t, server) // handlers of other clients are asleep in the one before
						}
						pair := fmt.Sprintf("%s > %s %s", client.language, server.language, encoding)
						result := map[string]string{}
						mu.Lock()
						pairs = append(pairs, pair)
						results[pair] = result
						mu.Unlock()
						ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
						command := client.client(address, encoding)
						c := exec.CommandContext(ctx, command[0], command[1:]...)
						c.Dir = client.dir
						if server.lacks["cancellation"] != "" {
							c.Env = append(os.Environ(), "MATRIX_UNSEEN=1")
						}
						output, err := c.CombinedOutput()
						cancel()
						assert.NoError(t, err, "%s: %s", pair, output)
						for line := range strings.Lines(string(output)) {
							if name, said, ok := strings.Cut(strings.TrimSpace(line), ": "); ok {
								result[name] = said
							}
						}
						for _, name := range cases {
							if lacks, is := server.lacks[name]; is {
								assert.Contains(t, result[name], lacks, "%s: %s", pair, name)
								result[name] = "no"
								continue
							}
							assert.Equal(t, "ok", result[name], "%s: %s", pair, name)
						}
					}
				}
			})
		}
	})
	slices.Sort(pairs)
	t.Logf("the matrix: client > server\n%s", table(pairs, results))
}

func table(pairs []string, results map[string]map[string]string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%-28s", "")
	for _, name := range cases {
		fmt.Fprintf(&b, "  %s", name)
	}
	b.WriteByte('\n')
	for _, pair := range pairs {
		fmt.Fprintf(&b, "%-28s", pair)
		for _, name := range cases {
			mark := results[pair][name]
			if mark != "ok" && mark != "no" {
				mark = "FAIL"
			}
			fmt.Fprintf(&b, "  %-*s", len(name), mark)
		}
		b.WriteByte('\n')
	}
	return b.String()
}
