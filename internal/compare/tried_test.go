package compare

import (
	"bufio"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"faithfulcourier/internal/toolchain"
)

var readOtherwise = regexp.MustCompile(`reads (?:a key of )?\S+ as (.*), where (.*) was written$`)

// TestProofsAreTried runs the line that is printed below each proof, as a process, for
// random breaks: what it prints is what the proof says. No proof prints two equal sides.
func TestProofsAreTried(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out what runs many processes")
	}
	program := toolchain.Program(t)
	wanted := max(40, *changes/100)
	breaks, tried, sent := 0, 0, 0
	for seed := 0; breaks < wanted; seed++ {
		require.Less(t, seed, 100*wanted, "breaks are found in what compare prints")
		texts := rapid.Custom(func(t *rapid.T) [2]string {
			if rapid.IntRange(0, 2).Draw(t, "calls") == 0 {
				before := drawTalk(t)
				return [2]string{before.text(), changeTalk(t, before).text()}
			}
			before := drawModel(t)
			return [2]string{before.text(), changeModel(t, before).text()}
		}).Example(seed)
		dir := t.TempDir()
		for i, side := range []string{"old", "new"} {
			write(t, filepath.Join(dir, side, "a.faithful"), texts[i])
		}
		run := func(line string) (string, int) {
			command := exec.Command("sh", "-c", line)
			command.Dir = dir
			command.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+string(os.PathListSeparator)+os.Getenv("PATH"),
				"NO_COLOR=1")
			out, _ := command.CombinedOutput() // its status says the rest
			return string(out), command.ProcessState.ExitCode()
		}
		out, status := run("faithful compare ./old ./new")
		if status != 1 {
			continue // nothing breaks, or one side has no definitions
		}
		breaks += strings.Count(out, "\nbreaking  ")
		lines := strings.Split(out, "\n")
		for i, line := range lines {
			if m := readOtherwise.FindStringSubmatch(line); m != nil {
				assert.NotEqual(t, m[1], m[2], "%s\n%s", line, out)
			}
			command, isTry := strings.CutPrefix(strings.TrimSpace(line), "try it: ")
			if !isTry {
				continue
			}
			said := strings.TrimSpace(lines[i-1])
			if server, isServer := strings.CutPrefix(command, "faithful mock"); isServer {
				call, _ := strings.CutPrefix(strings.TrimSpace(lines[i+1]), "and: ")
				if sent < wanted/4 {
					sent++
					sameAnswer(t, dir, program, server, call, said, run)
				}
				continue
			}
			tried++
			got, status := run(command)
			reader, outcome, refused := strings.Cut(said, " refuses it")
			if !refused {
				assert.Contains(t, []int{0, 1}, status, "%s\n%s\n%s", command, said, got)
				continue
			}
			assert.NotZero(t, status, "%s: %s\n%s", reader, command, got)
			outcome = strings.TrimPrefix(strings.TrimPrefix(outcome, ": "), " with 400: ")
			at, _, _ := strings.Cut(outcome, ":")
			at, _, _ = strings.Cut(at, " ")
			assert.Contains(t, got, at, "%s\n%s\nsaid: %s", command, got, said)
		}
	}
	t.Logf("%d breaks; %d lines were run, and %d calls sent to a mock", breaks, tried, sent)
	require.NotZero(t, tried)
	require.NotZero(t, sent)
}

// sameAnswer starts the mock that a proof names, and sends it the call.
func sameAnswer(t *testing.T, dir, program, server, call, said string, run func(string) (string, int)) {
	ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
	defer stop()
	mock := exec.CommandContext(ctx, program, append([]string{"mock", "--at", "127.0.0.1:0"},
		strings.Fields(server)...)...)
	mock.Dir = dir
	errors, err := mock.StdoutPipe()
	require.NoError(t, err)
	mock.Stderr = mock.Stdout
	require.NoError(t, mock.Start())
	defer func() { stop(); _ = mock.Wait() }()
	address := ""
	for scanner := bufio.NewScanner(errors); address == "" && scanner.Scan(); {
		address = regexp.MustCompile(`127\.0\.0\.1:\d+`).FindString(scanner.Text())
	}
	require.NotEmpty(t, address, "the mock says where it is")
	got, status := run(strings.Replace(call, "127.0.0.1:7150", address, 1) + " < /dev/null")
	if m := regexp.MustCompile(`with (\d{3}) ([a-z-]+)`).FindStringSubmatch(said); m != nil {
		assert.NotZero(t, status, "%s\n%s", call, said)
		assert.True(t, strings.Contains(got, m[1]) || strings.Contains(got, m[2]), "%s\n%s\nsaid: %s", call, got, said)
	}
}
