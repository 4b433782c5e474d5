package conformance

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/toolchain"
)

const manualRead = `names: false
wire: true #101
remembered: true
find pasenger: skerry.booking.Passenger
at modules/skerry.booking.html#Passenger
find /quay/board: skerry.quay.Quay.board
find #65535: nothing
find Guillemot: nothing
switched off: true
without scripts: true false
`

// TestManualInBrowser reads the manual of the ferries from disk in Chromium: in light and dark, on a desk and on a
// phone, with the keyboard alone, and without scripts. axe finds nothing, and nothing is asked for from elsewhere.
func TestManualInBrowser(t *testing.T) {
	toolchain.Require(t, "typescript")
	toolchain.Require(t, "chromium")
	chromium, err := exec.LookPath("chromium")
	require.NoError(t, err)
	t.Setenv("CHROMIUM", chromium)
	dir := typescriptPrograms(t)
	folder := filepath.Join(t.TempDir(), "manual")
	ferry := filepath.Join(toolchain.Root(), "examples", "ferry")
	older := t.TempDir()
	require.NoError(t, os.CopyFS(older, os.DirFS(filepath.Join(ferry, "definitions"))))
	booking := filepath.Join(older, "booking.faithful")
	text, err := os.ReadFile(booking)
	require.NoError(t, err)
	changed := strings.Replace(string(text), "#6 open      bool = true", "#6 open      text?", 1)
	require.NotEqual(t, string(text), changed)
	require.NoError(t, os.WriteFile(booking, []byte(changed), 0o600))
	made := toolchain.Faithful(t, ferry, "manual", "--into", folder, "--since", older)
	output, err := made.CombinedOutput()
	require.NoError(t, err, "%s", output)
	changes, err := os.ReadFile(filepath.Join(folder, "changes.html"))
	require.NoError(t, err)
	assert.Contains(t, string(changes), `<section class="change">`, "there is a break to read about")
	assert.Equal(t, manualRead, toolchain.Run(t, ".", "node", filepath.Join(dir, "browser", "manual.js"), folder))
}
