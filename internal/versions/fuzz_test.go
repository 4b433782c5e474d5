package versions

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// FuzzLedger reads ledgers that anybody could have written: what is taken has versions
// that lead nowhere else, and an audit of it ends.
func FuzzLedger(f *testing.F) {
	dir := f.TempDir()
	ledger, err := Open(dir)
	require.NoError(f, err)
	for i, version := range []string{"1.0.0", "1.1.0"} {
		_, err = ledger.Seal(nil, Entry{Version: version, Digest: "d1", Verdict: verdicts[i], Note: "a note"},
			[]File{{"a.faithful", version}}, time.Unix(int64(i), 0), nil)
		require.NoError(f, err)
	}
	text, err := os.ReadFile(filepath.Join(dir, Folder, ledgerName))
	require.NoError(f, err)
	f.Add(text)
	f.Add([]byte(`{"version":"../../outside","previous":""}`))
	f.Add([]byte("{\"version\":\"$(id)\"}\n<<<<<<< HEAD\n"))
	f.Add([]byte(`{"version":"1.0.0","time":"9999-12-31T23:59:59Z","verdict":"first","signer":"ssh-ed25519 AAAA","signature":"AA=="}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		dir := t.TempDir()
		require.NoError(t, os.MkdirAll(filepath.Join(dir, Folder), 0o777))
		require.NoError(t, os.WriteFile(filepath.Join(dir, Folder, ledgerName), text, 0o666))
		if l, err := Open(dir); err == nil {
			for _, e := range l.Entries {
				assert.Regexp(t, `^[0-9]+\.[0-9]+\.[0-9]+$`, e.Version)
				assert.Regexp(t, `^[0-9a-f]*$`, e.Digest)
				_, err := l.Read(&e)
				assert.Error(t, err, "its files are not there")
			}
		}
		r, err := (&Auditor{Now: time.Unix(0, 0)}).Audit(dir)
		require.NoError(t, err)
		if len(text) > 1 {
			assert.NotEmpty(t, r.Flaws, "versions without files")
		}
	})
}
