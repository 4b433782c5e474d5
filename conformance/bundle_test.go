package conformance

import (
	"bytes"
	"compress/gzip"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/toolchain"
)

// TestClientBundle bundles a client of two calls for browsers: it has to build without anything of
// Node, and must not carry what only servers tell, the text of the definitions.
func TestClientBundle(t *testing.T) {
	toolchain.Require(t, "typescript")
	root := toolchain.Root()
	tools := filepath.Join(root, "conformance", "lint")
	toolchain.InstallNode(t, tools)
	dir := t.TempDir()
	entry := filepath.Join(dir, "page.ts")
	client := filepath.Join(root, "examples", "ferry", "typescript", "src", "gen", "skerry", "booking", "client.js")
	require.NoError(t, os.WriteFile(entry, []byte(`import { BookingsClient } from "`+client+`";
const client = new BookingsClient("/api", { encoding: "json" });
export const page = [await client.sailings({}), await client.cancel({ id: "" as never })];
`), 0o666))
	out := filepath.Join(dir, "page.js")
	toolchain.Run(t, dir, filepath.Join(tools, "node_modules", ".bin", "esbuild"), entry, "--bundle", "--minify",
		"--format=esm", "--platform=browser", "--outfile="+out)
	bundle, err := os.ReadFile(out)
	require.NoError(t, err)
	assert.Contains(t, string(bundle), "skerry.booking.Bookings.sailings")
	assert.NotContains(t, string(bundle), "module skerry", "the text of the definitions")
	var small bytes.Buffer
	w, err := gzip.NewWriterLevel(&small, gzip.BestCompression)
	require.NoError(t, err)
	_, err = w.Write(bundle)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	t.Logf("%d bytes, %d in gzip", len(bundle), small.Len())
	assert.Less(t, small.Len(), 31_000, "what a page has to load")
}
