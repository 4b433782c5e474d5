package command

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/examples/ferry"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/toolchain"
	"faithfulcourier/internal/versions"
)

// TestScripts drives the built program on files in a folder of its own.
func TestScripts(t *testing.T) {
	bin := filepath.Dir(toolchain.Program(t))
	testscript.Run(t, testscript.Params{
		Dir:           "testdata/script",
		UpdateScripts: *update,
		Setup: func(env *testscript.Env) error {
			env.Setenv("FAITHFUL_BIN", bin)
			env.Setenv("PROGRAM", toolchain.Program(t))
			// The toolchain's own caches, so that nothing is built twice.
			for _, name := range []string{"GOCACHE", "GOMODCACHE", "GOPATH"} {
				env.Setenv(name, strings.TrimSpace(toolchain.Run(t, ".", "go", "env", name)))
			}
			env.Setenv("PATH", bin+string(os.PathListSeparator)+os.Getenv("PATH"))
			project, err := ferry.Files()
			if err != nil {
				return err
			}
			return layOut(filepath.Join(env.WorkDir, "ferry"), project)
		},
		Cmds: map[string]func(ts *testscript.TestScript, neg bool, args []string){
			// edit FILE OLD NEW
			"edit": func(ts *testscript.TestScript, _ bool, args []string) {
				text := ts.ReadFile(args[0])
				if !strings.Contains(text, args[1]) {
					ts.Fatalf("%s has no %q", args[0], args[1])
				}
				ts.Check(os.WriteFile(ts.MkAbs(args[0]), []byte(strings.Replace(text, args[1], args[2], 1)), 0o666))
			},
			// large FILE BYTES: a file of fields without end
			"large": func(ts *testscript.TestScript, _ bool, args []string) {
				var size int
				_, err := fmt.Sscan(args[1], &size)
				ts.Check(err)
				var b strings.Builder
				b.WriteString("module large\n")
				for i := 0; b.Len() < size; i++ {
					fmt.Fprintf(&b, "message Leg%d {\n  #1 id uuid\n  #2 next Leg%d?\n  #3 names [text]\n}\n", i, i)
				}
				ts.Check(os.WriteFile(ts.MkAbs(args[0]), []byte(b.String()), 0o666))
			},
			"mistakes": func(ts *testscript.TestScript, _ bool, args []string) {
				count, err := strconv.Atoi(args[1])
				ts.Check(err)
				text := "module mistakes\n"
				for i := range count {
					text += fmt.Sprintf("message Leg%d { #1 next Lge%d }\n", i, i)
				}
				ts.Check(os.WriteFile(ts.MkAbs(args[0]), []byte(text), 0o666))
			},
			// why generates a module of one text, and looks for the reason that it is left out for.
			"why": func(ts *testscript.TestScript, _ bool, args []string) {
				ts.Check(os.WriteFile(ts.MkAbs("lacking.faithful"), []byte("module skerry.lacking "+args[0]+"\n"), 0o666))
				ts.Check(ts.Exec("faithful", "generate"))
				if reason := "left out skerry.lacking: stubs do not carry " + args[1] +
					" yet"; !strings.Contains(ts.ReadFile("stdout"), reason) {
					ts.Fatalf("%s\ndoes not say: %s", ts.ReadFile("stdout"), reason)
				}
			},
			"mock":    mockInBackground,
			"hostile": hostileServer,
			"await":   awaitLines,
			"longline": func(ts *testscript.TestScript, _ bool, args []string) {
				size, err := strconv.Atoi(args[1])
				ts.Check(err)
				text := "module long message Leg { #1 a text deprecated \"" + strings.Repeat("w", size) + "\" #2 b strin }\n"
				ts.Check(os.WriteFile(ts.MkAbs(args[0]), []byte(text), 0o666))
			},
		},
	})
}

// quickest is the least time of a command as a process, in milliseconds, which ends
// with a status.
func quickest(t *testing.T, dir string, status int, args ...string) float64 {
	return toolchain.Measured(func(ms float64) bool { return ms < 30 }, func() float64 {
		least := time.Hour
		for range 20 {
			c := exec.Command(toolchain.Program(t), args...)
			c.Dir = dir
			start := time.Now()
			err := c.Run()
			least = min(least, time.Since(start))
			var ended *exec.ExitError
			if errors.As(err, &ended) {
				require.Equal(t, status, ended.ExitCode())
			} else {
				require.NoError(t, err)
				require.Zero(t, status)
			}
		}
		return float64(least.Microseconds()) / 1000
	})
}

// TestCompareIsQuick compares the ferry's draft with its version, as a process. The
// target is 30 ms.
func TestCompareIsQuick(t *testing.T) {
	dir := ferryProject(t)
	require.NoError(t, toolchain.Faithful(t, dir, "seal").Run())
	file := filepath.Join(dir, "definitions/booking.faithful")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	changed := strings.NewReplacer("#2 metres float64", "#2 metres int32", "#10 email ", "#10 mail ", "call booking(",
		"call find(").Replace(string(text))
	require.NoError(t, os.WriteFile(file, []byte(changed), 0o666))
	least := quickest(t, dir, 1, "compare")
	t.Logf("comparing the ferry's definitions with a version takes %.1f ms as a process (target 30)", least)
	assert.Less(t, least, 100.0)
}

// TestAuditIsQuick audits a thousand versions of the ferry's definitions, as a
// process. The target is 1 s.
func TestAuditIsQuick(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out measuring")
	}
	dir := ferryProject(t)
	defs, findings, err := project.Load(dir, "draft")
	require.NoError(t, err)
	require.Empty(t, findings)
	ledger, err := versions.Open(dir)
	require.NoError(t, err)
	_, err = ledger.Seal(nil, versions.Entry{Version: "1.0.0", Digest: defs.Digest(), Verdict: "first"},
		canonicalFiles(defs), time.Unix(0, 0), nil)
	require.NoError(t, err)
	entry := ledger.Latest()
	// The others are laid out as sealing would, without waiting for the disk each time.
	line, err := os.ReadFile(filepath.Join(dir, "versions/ledger.jsonl"))
	require.NoError(t, err)
	lines := slices.Clone(line)
	for i := 1; i < 1000; i++ {
		next := *entry
		next.Verdict = "compatible"
		next.Version, next.Previous = fmt.Sprintf("1.0.%d", i), fmt.Sprintf("%x", sha256.Sum256(bytes.TrimSpace(line)))
		line, err = json.Marshal(next)
		require.NoError(t, err)
		lines = append(append(lines, line...), '\n')
		require.NoError(t, os.CopyFS(filepath.Join(dir, "versions", next.Version),
			os.DirFS(filepath.Join(dir, "versions/1.0.0"))))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "versions/ledger.jsonl"), lines, 0o666))
	seconds := toolchain.Measured(func(seconds float64) bool { return seconds < 1 }, func() float64 {
		start := time.Now()
		output, err := toolchain.Faithful(t, dir, "history", "--audit").Output()
		require.NoError(t, err)
		require.Contains(t, string(output), "1000 versions: the ledger is a whole chain")
		return time.Since(start).Seconds()
	})
	t.Logf("an audit of a thousand versions takes %.2f s (target 1)", seconds)
	assert.Less(t, seconds, 5.0)
}

// TestCheckIsQuick holds a check of a thousand declarations, as a process,
// under 100 ms; the target is 30, for a machine that does nothing else.
func TestCheckIsQuick(t *testing.T) {
	dir := t.TempDir()
	for file := range 20 {
		text := fmt.Sprintf("module m%d\n", file)
		for i := range 25 {
			text += fmt.Sprintf("type Code%d = text where pattern \"^[A-Z]{3}$\"\nmessage Leg%d {\n  #1 id uuid\n  #2 next "+
				"Leg%d?\n  #3 code Code%d\n  #4 seats int32 = 1 where 1..12\n}\n", i, i, i, i)
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("m%d.faithful", file)), []byte(text), 0o666))
	}
	least := quickest(t, "", 0, "check", dir)
	t.Logf("a thousand declarations are checked in %.1f ms", least)
	assert.Less(t, least, 100.0)
}

// TestGenerateIsQuick holds the stubs of a thousand messages in all languages,
// and a run that finds nothing changed. The targets are 1 s and 50 ms.
func TestGenerateIsQuick(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out measuring")
	}
	dir, cache := t.TempDir(), t.TempDir()
	files := map[string]string{"faithful.toml": "name = \"quick\"\nsources = [\"definitions\"]\n" +
		"[[stubs]]\nlanguage = \"go\"\ninto = \"go\"\npackage = \"skerry.example/go\"\n[[stubs]]\nlanguage = \"typescript\"\ninto = \"typescript\"\n[[stubs]]\nlanguage = \"python\"\ninto = \"python\"\n[[stubs]]\nlanguage = \"java\"\ninto = \"java\"\npackage = \"skerry.gen\"\n"}
	for file := range 20 {
		text := fmt.Sprintf("module skerry.m%d\n", file)
		for i := range 50 {
			text += fmt.Sprintf("/// Leg %d.\nmessage Leg%d { #1 id uuid #2 name text where length 1..80 #3 at instant? #4 "+
				"seats int32 = 1 where 1..12 #5 names [text] #6 next Leg%d? }\n", i, i, (i+1)%50)
		}
		files[fmt.Sprintf("definitions/m%d.faithful", file)] = text
	}
	require.NoError(t, layOut(dir, files))
	run := func(options ...string) float64 {
		c := toolchain.Faithful(t, dir, append([]string{"generate"}, options...)...)
		c.Env = append(os.Environ(), "XDG_CACHE_HOME="+cache)
		start := time.Now()
		output, err := c.CombinedOutput()
		require.NoError(t, err, "%s", output)
		return time.Since(start).Seconds()
	}
	first := toolchain.Measured(func(s float64) bool { return s < 1.5 }, func() float64 { return run("--force") })
	time.Sleep(2100 * time.Millisecond) // until the files' times tell that they are as they were left
	run()
	unchanged := toolchain.Measured(func(s float64) bool { return s < 0.05 }, func() float64 { return run() })
	t.Logf("the stubs of a thousand messages in all languages take %.2f s; seeing that nothing has changed "+
		"takes %.0f ms", first, 1000*unchanged)
	assert.Less(t, first, 5.0)
	assert.Less(t, unchanged, 0.2)
}

// TestWatch changes definitions under a program that watches them: each change
// is a line, a wrong one leaves the last good stubs in place, and the program
// ends when it is told to.
func TestWatch(t *testing.T) {
	dir := ferryProject(t)
	c := toolchain.Faithful(t, dir, "generate", "--watch", "--only", "go")
	output, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	t.Cleanup(func() { _ = c.Process.Kill() }) // unless it has ended
	lines := make(chan string)
	go func() {
		defer close(lines)
		for scanner := bufio.NewScanner(output); scanner.Scan(); {
			lines <- scanner.Text()
		}
	}()
	// next waits for a line about a run, and returns it with what came before.
	next := func() (line string, before []string) {
		for {
			select {
			case line, more := <-lines:
				require.True(t, more, "%q", before)
				if _, rest, ok := strings.Cut(line, " fine "); ok {
					return "fine " + rest, before
				}
				if _, rest, ok := strings.Cut(line, " wrong "); ok {
					return "wrong " + rest, before
				}
				before = append(before, line)
			case <-time.After(20 * time.Second):
				require.Fail(t, "nothing came", "%q", before)
			}
		}
	}
	edit := func(old, new string) {
		path := filepath.Join(dir, "definitions", "booking.faithful")
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		require.Contains(t, string(text), old)
		require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(text), old, new, 1)), 0o666))
	}
	line, _ := next()
	assert.Regexp(t, `^fine go go/gen: [1-9][0-9]* files written, 0 unchanged$`, line)
	stubs := filepath.Join(dir, "go", "gen", "skerry", "booking", "booking.go")
	good, err := os.ReadFile(stubs)
	require.NoError(t, err)

	edit("#5 to        text", "#5 to        string")
	line, before := next()
	assert.Equal(t, "wrong the last good stubs stay", line)
	assert.Contains(t, strings.Join(before, "\n"), "there is no type \"string\"")
	still, err := os.ReadFile(stubs)
	require.NoError(t, err)
	assert.Equal(t, string(good), string(still))

	edit("#5 to        string", "#5 to        text?")
	line, _ = next()
	assert.Regexp(t, `^fine go go/gen: \d+ files written, \d+ unchanged$`, line)
	changed, err := os.ReadFile(stubs)
	require.NoError(t, err)
	assert.NotEqual(t, string(good), string(changed))

	require.NoError(t, c.Process.Signal(os.Interrupt))
	for range lines {
	}
	assert.NoError(t, c.Wait())
}

func layOut(dir string, files map[string]string) error {
	for path, text := range files {
		full := filepath.Join(dir, path)
		if err := os.MkdirAll(filepath.Dir(full), 0o777); err != nil {
			return err
		}
		if err := os.WriteFile(full, []byte(text), 0o666); err != nil {
			return err
		}
	}
	return nil
}

func ferryProject(t *testing.T) string {
	dir := t.TempDir()
	files, err := ferry.Files()
	require.NoError(t, err)
	require.NoError(t, layOut(dir, files))
	return dir
}

// TestSealIsAllOrNothing kills the program while it seals, again and again:
// what is sealed must stay whole, and the next seal must work.
func TestSealIsAllOrNothing(t *testing.T) {
	dir := ferryProject(t)
	require.NoError(t, toolchain.Faithful(t, dir, "seal").Run())
	file := filepath.Join(dir, "definitions/booking.faithful")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	// How long a seal takes when it is let alone.
	start := time.Now()
	require.NoError(t, toolchain.Faithful(t, dir, "seal", "--dry").Run())
	usual := time.Since(start)
	killed, sealed := 0, 1
	for i := range 60 {
		changed := strings.Replace(string(text), "retired #12", fmt.Sprintf("#%d extra_%d text?\n  retired #12", 20+i, i), 1)
		require.NoError(t, os.WriteFile(file, []byte(changed), 0o666))
		text = []byte(changed)
		seal := toolchain.Faithful(t, dir, "seal")
		require.NoError(t, seal.Start())
		time.Sleep(time.Duration(rand.Int64N(int64(2 * usual))))
		_ = seal.Process.Kill() // it may have ended
		if seal.Wait() != nil {
			killed++
		}
		ledger, err := versions.Open(dir)
		require.NoError(t, err, "the ledger is whole")
		require.GreaterOrEqual(t, len(ledger.Entries), sealed, "nothing that was sealed is lost")
		sealed = len(ledger.Entries)
		for j := range ledger.Entries {
			_, err := ledger.Read(&ledger.Entries[j])
			require.NoError(t, err, "every sealed version is whole")
		}
	}
	output, err := toolchain.Faithful(t, dir, "seal").CombinedOutput()
	require.NoError(t, err, "%s", output)
	t.Logf("%d of 60 runs were killed before they ended; %d versions were sealed", killed, sealed)
	assert.Greater(t, killed, 5, "the test must kill some")
}

// TestSealKilledAtEveryWrite kills the program at its first call to the system that
// changes a file, at its second, and so on until none is left: the version is then
// sealed whole or not at all, and the next seal works.
func TestSealKilledAtEveryWrite(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out what takes long")
	}
	tracer, err := exec.LookPath("strace")
	if err != nil {
		t.Skip("skipped: there is no strace here; TestSealIsAllOrNothing kills at random")
	}
	dir := ferryProject(t)
	require.NoError(t, toolchain.Faithful(t, dir, "seal").Run())
	file := filepath.Join(dir, "definitions/booking.faithful")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	program := toolchain.Faithful(t, dir, "seal").Path
	const writes = "mkdirat,fchmodat,write,pwrite64,fsync,renameat,renameat2,unlinkat,ftruncate,flock"
	sealed, kills, field := 1, map[string]int{}, 20
	// The tracer counts for each thread, and calls move between threads: late ones are
	// found by what they write to.
	type moment struct {
		path string // "": any
		call int
	}
	var moments []moment
	for call := 1; call <= 16; call++ {
		moments = append(moments, moment{"", call})
	}
	for _, path := range []string{"versions", "versions/.sealing.json", "versions/ledger.jsonl"} {
		for call := 1; call <= 4; call++ {
			moments = append(moments, moment{path, call})
		}
	}
	// What is sealed stays, since a seal without a version takes no break.
	whole := string(text)
	changed := whole
	for round := range 3 {
		for i, at := range moments {
			changed = strings.Replace(whole, "retired #12", fmt.Sprintf("#%d extra_%d text?\n  retired #12", field, field), 1)
			require.NoError(t, os.WriteFile(file, []byte(changed), 0o666))
			arguments := []string{"-f", "-qq", "-o", "/dev/null", "-e", "trace=" + writes, "-e",
				fmt.Sprintf("inject=%s:signal=KILL:when=%d", writes, at.call)}
			if at.path != "" {
				arguments = append(arguments, "-P", filepath.Join(dir, at.path))
			}
			trace := exec.Command(tracer, append(arguments, program, "seal")...)
			trace.Dir = dir
			output, err := trace.CombinedOutput()
			if err != nil && round == 0 && i == 0 && len(output) > 0 {
				t.Skipf("skipped: strace can't trace here: %s", output)
			}
			if err != nil {
				kills[at.path]++
			}
			ledger, err := versions.Open(dir)
			require.NoError(t, err, "the ledger is whole")
			require.GreaterOrEqual(t, len(ledger.Entries), sealed, "nothing that was sealed is lost")
			r, err := (&versions.Auditor{Now: time.Now()}).Audit(dir)
			require.NoError(t, err)
			require.Empty(t, r.Flaws, "what a kill has left is not a flaw")
			if len(ledger.Entries) > sealed {
				sealed++
				field++
				whole = changed
			}
		}
		said, err := toolchain.Faithful(t, dir, "seal").CombinedOutput()
		require.NoError(t, err, "%s", said)
		r, err := (&versions.Auditor{Now: time.Now()}).Audit(dir)
		require.NoError(t, err)
		require.Empty(t, r.Flaws)
		ledger, err := versions.Open(dir)
		require.NoError(t, err)
		sealed = len(ledger.Entries)
		field++
		whole = changed
	}
	t.Logf("killed at writes, by what was written to: %v; %d versions are sealed and whole", kills, sealed)
	assert.Greater(t, kills[""], 15)
}

// TestGenerateRepairsItself stops generate between two writes, by a full
// output of which a part is taken away, and lets the next run repair it.
func TestGenerateRepairsItself(t *testing.T) {
	dir := ferryProject(t)
	for range 15 {
		c := toolchain.Faithful(t, dir, "generate")
		require.NoError(t, c.Start())
		time.Sleep(time.Duration(rand.Int64N(int64(12 * time.Millisecond))))
		_ = c.Process.Kill() // it may have ended
		_ = c.Wait()         // killed
		output, err := toolchain.Faithful(t, dir, "generate").CombinedOutput()
		require.NoError(t, err, "%s", output)
		require.NoError(t, toolchain.Faithful(t, dir, "generate", "--dry").Run(), "everything is there")
		require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			assert.NotContains(t, path, ".faithful-new", "nothing half-written is left")
			return err
		}))
		require.NoError(t, os.RemoveAll(filepath.Join(dir, "go/gen/skerry")))
	}
}

// TestReadOnlyFolders runs the program as a user who may not write.
func TestReadOnlyFolders(t *testing.T) {
	dir := ferryProject(t)
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil {
			err = os.Chmod(path, map[bool]fs.FileMode{true: 0o555, false: 0o444}[d.IsDir()])
		}
		return err
	}))
	t.Cleanup(func() {
		_ = filepath.WalkDir(dir, func(path string, d fs.DirEntry, _ error) error { return os.Chmod(path, 0o777) })
	})
	for at := filepath.Dir(dir); strings.HasPrefix(at, os.TempDir()) && at != os.TempDir(); at = filepath.Dir(at) {
		require.NoError(t, os.Chmod(at, 0o755))
	}
	for _, command := range []string{"generate", "seal"} {
		c := toolchain.Faithful(t, dir, command)
		if os.Getuid() == 0 {
			c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		}
		output, err := c.CombinedOutput()
		var exit *exec.ExitError
		require.ErrorAs(t, err, &exit, "%s", output)
		assert.Equal(t, 2, exit.ExitCode())
		assert.Contains(t, string(output), "permission denied")
		assert.NoDirExists(t, filepath.Join(dir, "versions"))
		assert.NoDirExists(t, filepath.Join(dir, "go/gen"))
	}
}

// TestStartIsQuick holds the program's start against that of an empty Go
// program, in the same run.
func TestStartIsQuick(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, layOut(dir, map[string]string{"go.mod": "module empty\n\ngo 1.24\n",
		"main.go": "package main\n\nfunc main() {}\n"}))
	toolchain.Run(t, dir, "go", "build", "-o", "empty", ".")
	run := func(path string, args ...string) time.Duration {
		start := time.Now()
		require.NoError(t, exec.Command(path, args...).Run())
		return time.Since(start)
	}
	ratio := toolchain.Measured(func(r float64) bool { return r < 2 }, func() float64 {
		var ours, empty time.Duration
		for i := range 60 {
			a, b := run(toolchain.Program(t), "version"), run(filepath.Join(dir, "empty"))
			if i >= 10 {
				ours, empty = ours+a, empty+b
			}
		}
		return float64(ours) / float64(empty)
	})
	t.Logf("faithful version takes %.2f of the time of an empty Go program", ratio)
	assert.Less(t, ratio, 5.0) // the target is 2, which what starts with every command misses: docs/speed.md
}

func TestInterruptedCommandsEnd(t *testing.T) {
	dir := t.TempDir()
	demo := toolchain.Faithful(t, dir, "demo", "--into", "ferry")
	var wrong bytes.Buffer
	demo.Stderr = &wrong
	out, err := demo.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, demo.Start())
	lines := bufio.NewScanner(out)
	for lines.Scan() && !strings.Contains(lines.Text(), "$ go build") {
	}
	require.NoError(t, demo.Process.Signal(os.Interrupt))
	for lines.Scan() {
	}
	var exit *exec.ExitError
	require.ErrorAs(t, demo.Wait(), &exit)
	assert.Equal(t, 2, exit.ExitCode())
	assert.Contains(t, wrong.String(), "interrupted; what it wrote so far is in "+filepath.Join(dir, "ferry"))

	tidy := toolchain.Faithful(t, dir, "tidy", "-") // waits for its input
	input, err := tidy.StdinPipe()
	require.NoError(t, err)
	defer input.Close()
	require.NoError(t, tidy.Start())
	require.NoError(t, tidy.Process.Signal(os.Interrupt))
	require.ErrorAs(t, tidy.Wait(), &exit)
	assert.False(t, exit.Exited(), "it ends by the signal, at once")
}
