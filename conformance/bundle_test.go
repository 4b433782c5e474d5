package conformance

import (
	"bytes"
	"compress/gzip"
	"context"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/examples/ferry/go/gen/skerry/booking"
	"faithfulcourier/examples/ferry/go/gen/skerry/common"
	"faithfulcourier/internal/toolchain"
)

// bundled is how large a page is in gzip, and what it has to load.
func bundled(t *testing.T, entry string) (size int, bundle string) {
	t.Helper()
	tools := filepath.Join(toolchain.Root(), "conformance", "lint")
	toolchain.InstallNode(t, tools)
	out := filepath.Join(t.TempDir(), "page.js")
	toolchain.Run(t, filepath.Dir(entry), filepath.Join(tools, "node_modules", ".bin", "esbuild"), entry, "--bundle",
		"--minify", "--format=esm", "--platform=browser", "--outfile="+out)
	content, err := os.ReadFile(out)
	require.NoError(t, err)
	var small bytes.Buffer
	w, err := gzip.NewWriterLevel(&small, gzip.BestCompression)
	require.NoError(t, err)
	_, err = w.Write(content)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	t.Logf("%d bytes, %d in gzip", len(content), small.Len())
	return small.Len(), string(content)
}

// TestClientBundle bundles a client of two calls for browsers: it has to build without anything of
// Node, and must not carry what only servers tell, the text of the definitions.
func TestClientBundle(t *testing.T) {
	toolchain.Require(t, "typescript")
	entry := filepath.Join(t.TempDir(), "page.ts")
	stubs := filepath.Join(toolchain.Root(), "examples", "ferry", "typescript", "src", "gen")
	require.NoError(t, os.WriteFile(entry, []byte(`import { BookingsClient } from "`+stubs+`/skerry/booking/client.js";
const client = new BookingsClient("/api", { encoding: "json" });
export const page = [await client.sailings({}), await client.cancel({ id: "" as never })];
`), 0o666))
	size, bundle := bundled(t, entry)
	assert.Contains(t, bundle, "skerry.booking.Bookings.sailings")
	assert.NotContains(t, bundle, "module skerry", "the text of the definitions")
	assert.NotContains(t, bundle, "faithful-json", "what calls that stream both ways need")
	assert.Less(t, size, 25_500, "what a page has to load")
}

const smallOutput = `name = "skerry-line"
sources = ["definitions"]

[[stubs]]
language  = "typescript"
roles     = ["types", "client"]
target    = "browser"
encodings = ["json"]
into      = "src/gen"
`

// smallPage makes two calls, by their functions.
const smallPage = `import { connect } from "./gen/faithful/connect.js";
import { bookingsCancel, bookingsSailings } from "./gen/skerry/booking/functions.js";

const line = connect("/api");
console.log(await bookingsSailings(line, {}), await bookingsCancel(line, { id: "" }));
`

const smallProgram = `import { connect } from "./gen/faithful/connect.js";
import { bookingsCancel } from "./gen/skerry/booking/functions.js";
import { bookingTools, BookingsClient, SailingClosed } from "./gen/skerry/booking/index.js";
import { moneyTools } from "./gen/skerry/common/index.js";
import { passageTools } from "./gen/skerry/quay/index.js";

const [, , base = ""] = process.argv;
const booking = await new BookingsClient(base).book({ sailing: "EID-0715", passengers: [{ name: "Ada Quill" }] });
console.log(booking.fare.hundredths, booking.madeAt.toString(), [...booking.extras.keys()].join());
try {
  await bookingsCancel(connect(base), { id: booking.id });
} catch (problem) {
  console.log(problem instanceof SailingClosed);
}
const refusals = [
  () => bookingTools.toCbor(booking),
  () => moneyTools.fromCbor(Uint8Array.of(0xa0)),
  () => moneyTools.fromJson('{"hundredths":1,"#2":"Y1NLRA"}'),
  () => passageTools.fromJson('{"#1":"oA"}'),
];
for (const refusal of refusals) {
  try {
    refusal();
    console.log("taken");
  } catch (problem) {
    console.log(String(problem));
  }
}
console.log(moneyTools.toJson(moneyTools.fromJson('{"hundredths":1,"#40":"AQ","paid_by":"card"}')));
console.log(passageTools.toJson(passageTools.fromJson('{"#40":"oA"}')));
`

// TestJSONAlone uses an output that leaves out CBOR: what others have written so is preserved, and is
// refused where it is a field that is listed.
func TestJSONAlone(t *testing.T) {
	toolchain.Require(t, "typescript")
	dir := t.TempDir()
	ferry := filepath.Join(toolchain.Root(), "examples", "ferry")
	require.NoError(t, os.CopyFS(filepath.Join(dir, "definitions"), os.DirFS(filepath.Join(ferry, "definitions"))))
	for name, text := range map[string]string{"faithful.toml": smallOutput, "package.json": `{"type": "module"}`} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o666))
	}
	output, err := toolchain.Faithful(t, dir, "generate").CombinedOutput()
	require.NoError(t, err, "%s", output)
	config, err := os.ReadFile(filepath.Join(ferry, "typescript", "tsconfig.json"))
	require.NoError(t, err)
	toolchain.InstallNode(t, filepath.Join(ferry, "typescript"))
	modules := filepath.Join(ferry, "typescript", "node_modules")
	require.NoError(t, os.Symlink(modules, filepath.Join(dir, "node_modules")))
	for name, text := range map[string]string{"tsconfig.json": string(config), "src/page.ts": smallPage,
		"src/main.ts": smallProgram} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o666))
	}
	toolchain.Run(t, dir, "node", filepath.Join(modules, "typescript", "bin", "tsc"))

	server := httptest.NewServer(booking.ServeBookings(booking.BookingsCalls{
		Book: func(_ context.Context, request *booking.BookRequest) (*booking.Booking, error) {
			return &booking.Booking{Sailing: request.Sailing, Passengers: request.Passengers,
				Fare: common.Money{Hundredths: 9_007_199_254_740_993}, MadeAt: time.Unix(0, 1).UTC(),
				Extras: map[string]common.Money{"dog": {}}}, nil
		},
		Cancel: func(context.Context, *booking.BookingRequest) (*booking.Booking, error) {
			return nil, &booking.SailingClosed{}
		},
	}))
	defer server.Close()
	assert.Equal(t, `9007199254740993n 1970-01-01T00:00:00.000000001Z dog
true
WireError: only JSON is read and written here: add "cbor" to encodings in faithful.toml, and generate again
WireError: only JSON is read and written here: add "cbor" to encodings in faithful.toml, and generate again
WireError: /currency: the field is written in CBOR, which is left out here (byte 29)
WireError: the field is written in CBOR, which is left out here
{"hundredths":1,"currency":"SKD","#40":"AQ","paid_by":"card"}
{"#40":"oA"}
`, toolchain.Run(t, dir, "node", "dist/main.js", server.URL))
	size, bundle := bundled(t, filepath.Join(dir, "src", "page.ts"))
	assert.NotContains(t, bundle, "majorNames")
	assert.Less(t, size, 18_000, "what a page has to load")
}
