package command

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/files"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/toolchain"
	"faithfulcourier/internal/versions"
)

// TestSealsAtOnce has processes seal while others edit and seal: what one said that it
// sealed is in the ledger, and nothing that was sealed is damaged.
func TestSealsAtOnce(t *testing.T) {
	dir := ferryProject(t)
	file := filepath.Join(dir, "definitions/booking.faithful")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	var group sync.WaitGroup
	var writing sync.Mutex
	said := map[string]string{}
	var troubles []string
	number := 20
	for range 6 {
		group.Go(func() {
			for range 8 {
				writing.Lock()
				number++
				changed := strings.Replace(string(text), "retired #12",
					fmt.Sprintf("#%d extra_%d text?\n  retired #12", number, number), 1)
				err := os.WriteFile(file+".edited", []byte(changed), 0o666)
				if err == nil {
					err = os.Rename(file+".edited", file)
				}
				version := fmt.Sprint(number) + ".0.0"
				writing.Unlock()
				out, failed := toolchain.Faithful(t, dir, "seal", version).CombinedOutput()
				writing.Lock()
				sealed := regexp.MustCompile(`sealed (\S+) .* digest (\S+)\n`).FindStringSubmatch(string(out))
				switch {
				case sealed != nil && failed == nil:
					said[sealed[1]] = sealed[2]
				case failed != nil && !strings.Contains(string(out), "is too low"), err != nil:
					troubles = append(troubles, string(out))
				}
				writing.Unlock()
			}
		})
	}
	group.Wait()
	assert.Empty(t, troubles)
	ledger, err := versions.Open(dir)
	require.NoError(t, err)
	assert.Len(t, ledger.Entries, len(said))
	for i := range ledger.Entries {
		e := &ledger.Entries[i]
		assert.Equal(t, said[e.Version], e.Digest[:12], e.Version)
		_, err := ledger.Read(e)
		assert.NoError(t, err)
	}
	require.Greater(t, len(said), 10)
	audit, err := toolchain.Faithful(t, dir, "history", "--audit").CombinedOutput()
	require.NoError(t, err, "%s", audit)
}

// TestSealNamesWhatIsLeft leaves what a seal leaves that is killed after it has
// put the files in place, and a folder that somebody made.
func TestSealNamesWhatIsLeft(t *testing.T) {
	dir := ferryProject(t)
	require.NoError(t, toolchain.Faithful(t, dir, "seal").Run())
	ledger := filepath.Join(dir, "versions/ledger.jsonl")
	before, err := os.ReadFile(ledger)
	require.NoError(t, err)
	file := filepath.Join(dir, "definitions/booking.faithful")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(text), "retired #12",
		"#13 extra text?\n  retired #12", 1)), 0o666))
	require.NoError(t, toolchain.Faithful(t, dir, "seal").Run())
	listed, err := os.ReadDir(filepath.Join(dir, "versions/1.1.0"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(ledger, before, 0o666))

	// Without the journal it is somebody's.
	out, err := toolchain.Faithful(t, dir, "seal").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "versions/1.1.0 is there, and no line of versions/ledger.jsonl knows it: restore "+
		"the ledger")
	out, err = toolchain.Faithful(t, dir, "history", "--audit").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "versions/1.1.0 is in no line of the ledger")

	// With it, it is known, if it is as the journal says.
	p, err := project.Open(dir)
	require.NoError(t, err)
	defs, findings, err := p.Definitions()
	require.NoError(t, err)
	require.Zero(t, source.Errors(findings))
	require.Len(t, listed, len(canonicalFiles(defs)))
	l, err := versions.Open(dir)
	require.NoError(t, err)
	scratch := t.TempDir()
	other, err := versions.Open(scratch)
	require.NoError(t, err)
	_, err = other.Seal(nil, versions.Entry{Version: "1.1.0", Verdict: "first"}, canonicalFiles(defs), time.Unix(0, 0),
		nil)
	require.NoError(t, err)
	require.Len(t, l.Entries, 1)
	journal := fmt.Sprintf(`{"version":"1.1.0","files":%q}`, other.Latest().Files)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "versions/.sealing.json"), []byte(journal), 0o666))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "versions/.sealing-x"), 0o777))
	out, err = toolchain.Faithful(t, dir, "history", "--audit").CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "versions/1.1.0 was left by a seal that was interrupted; the next one removes it")
	out, err = toolchain.Faithful(t, dir, "seal").CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "removed versions/1.1.0, which a seal that was interrupted had left")
	assert.Contains(t, string(out), "removed versions/.sealing-x,")
	assert.Contains(t, string(out), "sealed 1.1.0")
}

// TestBusyIsSaid has a command wait for another one, in vain.
func TestBusyIsSaid(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out what waits")
	}
	dir := ferryProject(t)
	lock, err := files.Acquire(t.Context(), dir, "generate", time.Now())
	require.NoError(t, err)
	out, err := toolchain.Faithful(t, dir, "seal").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), fmt.Sprintf("faithful generate, process %d, since ", os.Getpid()))
	require.NoError(t, lock.Release())
	require.NoError(t, toolchain.Faithful(t, dir, "seal").Run())
}

// changesCalls are the calls to the system that change files.
const changesCalls = "openat,mkdirat,fchmodat,linkat,write,pwrite64,fsync,ftruncate,renameat,renameat2,unlinkat,flock"

// TestWritingKilledAnywhere kills every command that writes at its calls to the system
// that change files, the first, the second and so on. Then every file is as it was before
// or as it will be, and running the command again gives what it gives undisturbed.
func TestWritingKilledAnywhere(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out what takes long")
	}
	tracer, err := exec.LookPath("strace")
	if err != nil {
		t.Skip("skipped: there is no strace here")
	}
	begin := func(t *testing.T) string {
		dir := ferryProject(t)
		for _, path := range []string{"definitions/booking.faithful", "definitions/quay.faithful"} {
			text, err := os.ReadFile(filepath.Join(dir, path))
			require.NoError(t, err)
			changed := strings.Replace(string(text), "module skerry", "module   skerry", 1)
			require.NoError(t, os.WriteFile(filepath.Join(dir, path), []byte(changed), 0o666))
		}
		return dir
	}
	for name, args := range map[string][]string{
		"tidy": {"tidy", "-w"}, "generate": {"generate", "--only", "go"}, "scaffold": {"scaffold", "go", "Quay"},
		"sample": {"sample", "--all", "requests"}, "seal": {"seal"}, "new": {"new", "harbour"}, "fix": {"check", "--fix"},
	} {
		t.Run(name, func(t *testing.T) {
			begin := begin
			if name == "fix" {
				begin = func(t *testing.T) string {
					dir := ferryProject(t)
					require.NoError(t, layOut(dir, map[string]string{"definitions/slip.faithful": "module skerry.slip\nmessage " +
						"Slip { #1 name: text }\n"}))
					return dir
				}
			}
			undisturbed := begin(t)
			before := contents(t, undisturbed)
			require.NoError(t, toolchain.Faithful(t, undisturbed, args...).Run())
			after := contents(t, undisturbed)
			killed := 0
			for call := 1; call <= 30; call += 1 + call/6 {
				dir := begin(t)
				arguments := []string{"-f", "-qq", "-o", "/dev/null", "-e", "trace=" + changesCalls,
					"-P", dir, "-e", fmt.Sprintf("inject=%s:signal=KILL:when=%d", changesCalls, call), toolchain.Program(t)}
				// The tracer counts for each thread, and goes by paths only roughly; both only
				// decide where it kills.
				if call%2 == 0 {
					arguments = slices.Delete(arguments, 6, 8)
				}
				run := exec.Command(tracer, append(arguments, args...)...)
				run.Dir = dir
				if run.Run() != nil {
					killed++
				}
				for path, text := range contents(t, dir) {
					if old, was := before[path]; was && old == text || after[path] == text || isLeftover(path) {
						continue
					}
					if strings.HasPrefix(path, "versions/") || strings.HasSuffix(path, ".faithful-made.json") ||
						strings.HasSuffix(path, "ledger.jsonl") {
						continue // their own tests say what holds for them
					}
					assert.Fail(t, "half written", "%s after call %d", path, call)
				}
				again := toolchain.Faithful(t, dir, args...)
				if out, err := again.CombinedOutput(); err != nil && name != "new" {
					assert.Fail(t, "can't be run again", "after call %d: %s", call, out)
				}
				if name == "seal" || name == "new" {
					continue // versions bear times; new starts only where nothing is
				}
				now := contents(t, dir)
				for path := range now {
					if isLeftover(path) {
						delete(now, path)
					}
				}
				assert.Equal(t, after, now, "after call %d", call)
			}
			t.Logf("killed %d times", killed)
			assert.Greater(t, killed, 2)
		})
	}
}

// isLeftover tells what a kill may leave that no command takes for its own.
func isLeftover(path string) bool {
	return strings.HasSuffix(path, files.Suffix) || filepath.Base(path) == files.LockName
}

func contents(t *testing.T, dir string) map[string]string {
	t.Helper()
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		relative, _ := filepath.Rel(dir, path)
		all[filepath.ToSlash(relative)] = string(text)
		return err
	}))
	return all
}
