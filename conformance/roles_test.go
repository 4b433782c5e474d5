package conformance

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/toolchain"
)

const separateOutputs = `name = "skerry-line"
sources = ["definitions"]

[[stubs]]
language = "go"
roles    = ["types"]
into     = "go/messages"
package  = "skerry.example/go/messages"

[[stubs]]
language = "go"
roles    = ["client"]
into     = "go/desk"
package  = "skerry.example/go/desk"

[[stubs]]
language = "go"
roles    = ["server"]
into     = "go/quay"
package  = "skerry.example/go/quay"

[[stubs]]
language = "typescript"
roles    = ["types"]
into     = "messages/src"
package  = "@skerry/messages"

[[stubs]]
language = "typescript"
roles    = ["client"]
target   = "browser"
into     = "desk/src/gen"

[[stubs]]
language = "typescript"
roles    = ["client", "server"]
into     = "quay/src/gen"

[[stubs]]
language = "python"
roles    = ["types"]
into     = "python/messages"
package  = "messages"

[[stubs]]
language = "python"
roles    = ["client"]
into     = "python/desk"
package  = "desk"
async    = true

[[stubs]]
language = "python"
roles    = ["server"]
into     = "python/quay"
package  = "quay"

[[stubs]]
language = "java"
roles    = ["types"]
into     = "java/messages"
package  = "skerry.messages"

[[stubs]]
language = "java"
roles    = ["client"]
into     = "java/desk"
package  = "skerry.desk"

[[stubs]]
language = "java"
roles    = ["server"]
into     = "java/quay"
package  = "skerry.quay"
`

// separateProgram has a server and a client over types of another package, whose errors are of one class.
const separateProgram = `import { SailingFull } from "@skerry/messages/skerry/booking/index.js";
import { fetchTransport } from "./gen/faithful/client.js";
import { BookingsClient } from "./gen/skerry/booking/client.js";
import { serveBookings } from "./gen/skerry/booking/server.js";

const served = serveBookings({
  book() {
    throw new SailingFull({ seatsLeft: 3 });
  },
});
const transport = fetchTransport((request) => served(new Request(request)));
const client = new BookingsClient("http://127.0.0.1", { transport });
try {
  await client.book({ sailing: "EID-0715", passengers: [{ name: "Ada Quill" }] });
} catch (problem) {
  console.log(problem instanceof SailingFull && problem.seatsLeft);
}
`

// separateJava is separateProgram in Java.
const separateJava = `
import java.net.InetAddress;
import java.net.InetSocketAddress;
import java.util.List;
import skerry.desk.skerry.booking.BookingsClient;
import skerry.messages.skerry.booking.BookRequest;
import skerry.messages.skerry.booking.Booking;
import skerry.messages.skerry.booking.Passenger;
import skerry.messages.skerry.booking.SailingFull;
import skerry.quay.faithful.web.Context;
import skerry.quay.faithful.web.HttpServerMount;
import skerry.quay.faithful.web.ServerOptions;
import skerry.quay.skerry.booking.Bookings;

final class Main extends Bookings {
  @Override
  public Booking book(BookRequest request, Context context) {
    throw SailingFull.builder().seatsLeft(3).build();
  }

  public static void main(String[] args) throws Exception {
    InetSocketAddress address = new InetSocketAddress(InetAddress.getLoopbackAddress(), 0);
    try (HttpServerMount.Running server =
        HttpServerMount.start(Bookings.serve(new Main(), ServerOptions.builder().build()), address)) {
      BookingsClient client = BookingsClient.to("http://127.0.0.1:" + server.port()).build();
      Passenger ada = Passenger.builder().name("Ada Quill").build();
      client.book(BookRequest.builder().sailing("EID-0715").passengers(List.of(ada)).build());
    } catch (SailingFull e) {
      System.out.println(e.seatsLeft());
    }
  }
}
`

// TestSeparateRoles compiles types, clients and servers in packages of their own, in each language.
func TestSeparateRoles(t *testing.T) {
	t.Parallel() // with the other tests that measure no time, after those that do
	dir := t.TempDir()
	ferry := filepath.Join(toolchain.Root(), "examples", "ferry")
	require.NoError(t, os.CopyFS(filepath.Join(dir, "definitions"), os.DirFS(filepath.Join(ferry, "definitions"))))
	put := func(path, text string) {
		full := filepath.Join(dir, filepath.FromSlash(path))
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o777))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o666))
	}
	put("faithful.toml", separateOutputs)
	put("go.mod", "module skerry.example\n\ngo 1.25\n\nrequire github.com/coder/websocket v1.8.15\n")
	output, err := toolchain.Faithful(t, dir, "generate").CombinedOutput()
	require.NoError(t, err, "%s", output)

	t.Run("go", func(t *testing.T) {
		sums, err := os.ReadFile(filepath.Join(toolchain.Root(), "go.sum"))
		require.NoError(t, err)
		put("go.sum", string(sums))
		toolchain.Run(t, dir, "go", "vet", "-mod=mod", "./...")
	})
	t.Run("python", func(t *testing.T) {
		python := toolchain.Python(t)
		at := filepath.Join(dir, "python")
		toolchain.Run(t, at, python, "-m", "mypy", "--strict", "-p", "messages", "-p", "desk", "-p", "quay")
		toolchain.Run(t, at, python, "-c", "import messages.skerry.quay, desk.skerry.quay, quay.skerry.quay")
	})
	t.Run("java", func(t *testing.T) {
		put("java/Main.java", separateJava)
		classes := t.TempDir()
		toolchain.LintJava(t, toolchain.JavaLibraries(t), classes, filepath.Join(dir, "java"))
		assert.Equal(t, "3\n", toolchain.Run(t, dir, "java", "-cp", classes, "Main"))
	})
	t.Run("typescript", func(t *testing.T) {
		toolchain.Require(t, "typescript")
		installed := filepath.Join(ferry, "typescript", "node_modules")
		toolchain.InstallNode(t, filepath.Dir(installed))
		modules := filepath.Join(dir, "node_modules")
		put("node_modules/@skerry/.keep", "")
		entries, err := os.ReadDir(installed)
		require.NoError(t, err)
		for _, e := range entries {
			require.NoError(t, os.Symlink(filepath.Join(installed, e.Name()), filepath.Join(modules, e.Name())))
		}
		require.NoError(t, os.Symlink(filepath.Join(dir, "messages"), filepath.Join(modules, "@skerry", "messages")))
		base, err := os.ReadFile(filepath.Join(ferry, "typescript", "tsconfig.json"))
		require.NoError(t, err)
		put("base.json", string(base))
		put("quay/src/main.ts", separateProgram)
		put("messages/package.json", `{"name": "@skerry/messages", "type": "module", "exports": {"./*": "./dist/*"}}`)
		for _, name := range []string{"messages", "desk", "quay"} {
			if name != "messages" {
				put(name+"/package.json", `{"type": "module"}`)
			}
			put(name+"/tsconfig.json", `{
  "extends": "../base.json",
  "compilerOptions": {"rootDir": "src", "outDir": "dist"},
  "include": ["src"]
}
`)
			toolchain.Run(t, filepath.Join(dir, name), "node", filepath.Join(installed, "typescript", "bin", "tsc"))
		}
		assert.Equal(t, "3\n", toolchain.Run(t, filepath.Join(dir, "quay"), "node", "dist/main.js"))
	})
}
