package versions

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestArithmetic(t *testing.T) {
	for _, c := range []struct {
		version string
		size    Size
		next    string
	}{
		{"1.4.2", Patch, "1.4.3"}, {"1.4.2", Minor, "1.5.0"}, {"1.4.2", Major, "2.0.0"},
		{"0.3.9", Patch, "0.3.10"}, {"0.3.9", Minor, "0.3.10"}, {"0.3.9", Major, "0.4.0"},
	} {
		next, err := Next(c.version, c.size)
		require.NoError(t, err)
		assert.Equal(t, c.next, next, "%s, %s", c.version, c.size)
	}
	for _, bad := range []string{"", "1", "1.2", "1.2.3.4", "v1.2.3", "01.2.3", "1.2.-3", "1.2.3-", "1.2.3-a..b",
		"1.2.3-01", "1.2.3+5", "1.2.3-é",
		"1.2.99999999999", "a.b.c"} {
		assert.ErrorContains(t, Check(bad, ""), "is not a version", bad)
	}
	assert.NoError(t, Check("1.10.0", "1.9.0"))
	assert.NoError(t, Check("2.0.0-rc.1", "2.0.0"), "it leads to 2.0.0")
	assert.ErrorContains(t, Check("2.0.0-rc.1", "2.0.1"), "is too low")
	assert.ErrorContains(t, Check("1.9.0", "1.10.0"), "is too low")
}

// TestOrder is that of Semantic Versioning 2.0.0, section 11.
func TestOrder(t *testing.T) {
	rising := []string{"0.9.0", "1.0.0-alpha", "1.0.0-alpha.1", "1.0.0-alpha.beta", "1.0.0-beta", "1.0.0-beta.2",
		"1.0.0-beta.11", "1.0.0-rc.1", "1.0.0", "1.9.0", "1.10.0", "2.0.0-0"}
	for i, a := range rising {
		for j, b := range rising {
			assert.Equal(t, i < j, Compare(a, b) < 0, "%s %s", a, b)
		}
	}
	for line, want := range map[string]bool{"1": true, "1.4": true, "": false, "1.4.0": false, "v1": false, "01": false} {
		assert.Equal(t, want, IsLine(line), line)
	}
	assert.True(t, InLine("1.4.2", "1"))
	assert.True(t, InLine("1.4.2", "1.4"))
	assert.True(t, InLine("10.0.0", ""))
	assert.False(t, InLine("10.0.0", "1"))
	assert.False(t, InLine("1.40.0", "1.4"))
}

// TestLatest is the highest release of a line; a pre-release never is.
func TestLatest(t *testing.T) {
	l := &Ledger{}
	for _, v := range []string{"1.0.0", "2.0.0-rc.1", "1.1.0", "2.0.0", "1.1.1", "3.0.0-beta"} {
		l.Entries = append(l.Entries, Entry{Version: v})
	}
	assert.Equal(t, "2.0.0", l.Latest().Version)
	assert.Equal(t, []string{"1.0.0", "1.1.0", "1.1.1", "2.0.0"}, l.Releases())
	l.Line = "1"
	assert.Equal(t, "1.1.1", l.Latest().Version)
	assert.Equal(t, []string{"1.0.0", "1.1.0", "1.1.1"}, l.Releases())
	l.Line = "4"
	assert.Nil(t, l.Latest())
}

func TestSealAfterAnotherSealIsRefused(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "a [folder]")
	first, err := Open(dir)
	require.NoError(t, err)
	second, err := Open(dir)
	require.NoError(t, err)
	crashed := filepath.Join(dir, Folder, ".sealing-1")
	require.NoError(t, os.MkdirAll(crashed, 0o755))
	_, err = first.Seal(nil, Entry{Version: "1.0.0", Verdict: "first"}, []File{{"a.faithful", "first"}}, time.Unix(0, 0),
		nil)
	require.NoError(t, err)
	assert.NoDirExists(t, crashed)
	_, err = second.Seal(nil, Entry{Version: "1.0.0", Verdict: "first"}, []File{{"a.faithful", "second"}},
		time.Unix(0, 0), nil)
	require.ErrorContains(t, err, "nothing was sealed, so try again")
	now, err := Open(dir)
	require.NoError(t, err)
	files, err := now.Read(now.Find("1.0.0"))
	require.NoError(t, err)
	assert.Equal(t, []File{{"a.faithful", "first"}}, files)
}

func TestLedger(t *testing.T) {
	dir := t.TempDir()
	now := time.Date(2026, 7, 15, 7, 15, 0, 0, time.UTC)
	ledger, err := Open(dir)
	require.NoError(t, err)
	assert.Nil(t, ledger.Latest())
	for i, version := range []string{"1.0.0", "1.1.0", "2.0.0"} {
		_, err = ledger.Seal(nil, Entry{Version: version, Digest: "d1", Verdict: "compatible"},
			[]File{{"b.faithful", "two\n"}, {"a.faithful", version}}, now.Add(time.Duration(i)*time.Hour), nil)
		require.NoError(t, err)
	}
	ledger, err = Open(dir)
	require.NoError(t, err)
	assert.Equal(t, []string{"1.0.0", "1.1.0", "2.0.0"}, ledger.Names())
	files, err := ledger.Read(ledger.Find("1.1.0"))
	require.NoError(t, err)
	assert.Equal(t, []File{{"a.faithful", "1.1.0"}, {"b.faithful", "two\n"}}, files)
	left, err := filepath.Glob(filepath.Join(dir, Folder, ".sealing-*"))
	require.NoError(t, err)
	assert.Empty(t, left)

	path := filepath.Join(dir, Folder, "ledger.jsonl")
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	lines := len(whole) / 3
	for name, damaged := range map[string]string{
		"a line is gone":       string(whole[lines:]),
		"a line is half there": string(whole[:len(whole)-10]),
		"no JSON":              "nonsense\n",
	} {
		require.NoError(t, os.WriteFile(path, []byte(damaged), 0o666))
		_, err = Open(dir)
		assert.ErrorContains(t, err, "versions/ledger.jsonl:", name)
	}
	require.NoError(t, os.WriteFile(path, whole, 0o666))
	require.NoError(t, os.WriteFile(filepath.Join(dir, Folder, "1.1.0", "c.faithful"), nil, 0o666))
	_, err = ledger.Read(ledger.Find("1.1.0"))
	assert.ErrorContains(t, err, "are not those that were sealed", "a file that was added")
}

func TestMissing(t *testing.T) {
	ledger := &Ledger{}
	assert.EqualError(t, ledger.Missing("1.0.0"), "no version is sealed yet; seal the first with: faithful seal")
	for i := range 20 {
		ledger.Entries = append(ledger.Entries, Entry{Version: fmt.Sprintf("1.%d.0", i)})
		if i == 1 {
			assert.EqualError(t, ledger.Missing("1.0.9"), "there is no version \"1.0.9\"; the sealed versions are: 1.0.0, 1.1.0")
		}
	}
	for version, near := range map[string]string{
		"1.9.3": "nearest of 20 sealed ones are: 1.8.0, 1.9.0, 1.10.0, 1.11.0",
		"0.1.0": "nearest of 20 sealed ones are: 1.0.0, 1.1.0, 1.2.0, 1.3.0",
		"2.0.0": "nearest of 20 sealed ones are: 1.16.0, 1.17.0, 1.18.0, 1.19.0",
		"1.9":   "last sealed ones are: 1.16.0, 1.17.0, 1.18.0, 1.19.0",
	} {
		assert.EqualError(t, ledger.Missing(version), "there is no version \""+version+"\""+"; the "+near)
	}
}
