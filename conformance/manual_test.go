package conformance

import (
	"os"
	"os/exec"
	"path/filepath"
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
	made := toolchain.Faithful(t, filepath.Join(toolchain.Root(), "examples", "ferry"), "manual", "--into", folder)
	output, err := made.CombinedOutput()
	require.NoError(t, err, "%s", output)
	_, err = os.Stat(filepath.Join(folder, "index.html"))
	require.NoError(t, err)
	assert.Equal(t, manualRead, toolchain.Run(t, ".", "node", filepath.Join(dir, "browser", "manual.js"), folder))
}
