package typescript

import (
	"path"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/stubs"
)

func load(t *testing.T, texts ...string) *schema.Definitions {
	var files []*source.File
	for _, text := range texts {
		files = append(files, source.NewFile("f", text))
	}
	defs, findings := check.Load(files)
	require.Empty(t, findings)
	return defs
}

func TestNames(t *testing.T) {
	defs := load(t, "module m message A { #1 made_at text #2 name text #3 constructor text #4 to_string text } error "+
		"E 400 { #1 name text #2 message text #3 status text } service S { call constructor() -> () call find_it() -> () }")
	m := defs.Modules[0]
	names := func(msg *schema.Message) (list []string) {
		for _, f := range msg.Fields {
			list = append(list, FieldName(f))
		}
		return list
	}
	assert.Equal(t, []string{"madeAt", "name", "constructor_", "toString_"}, names(m.Messages[0]))
	assert.Equal(t, []string{"name_", "message_", "status"}, names(m.Messages[1]))
	assert.Equal(t, "constructor_", CallName(m.Services[0].Calls[0]))
	assert.Equal(t, "findIt", CallName(m.Services[0].Calls[1]))
	assert.Equal(t, "aTools", ToolsName(&m.Messages[0].Decl))
	assert.Equal(t, "faithful_/x", Folder(&schema.Module{Name: "faithful.x"}))
	one, two := &schema.Module{Name: "a.shared"}, &schema.Module{Name: "b.shared"}
	assert.Equal(t, "shared", importName(one, []*schema.Module{one}))
	assert.Equal(t, "asharedModule", importName(one, []*schema.Module{one, two}))
	assert.Equal(t, "classModule", importName(&schema.Module{Name: "class"}, nil))
	assert.Equal(t, "./types.js", relative("a/b", "a/b/types.js"))
	assert.Equal(t, "../../faithful/wire.js", relative("a/b", "faithful/wire.js"))
	assert.Equal(t, "../faithful/wire.js", relative("a", "faithful/wire.js"))
}

func TestTypeNames(t *testing.T) {
	defs := load(t, "module m enum E { #0 a } message A { #1 a {text: [uint8]} #2 b E? #3 c [[uint64]] #4 d bytes #5 "+
		"e A? #6 f float32 #7 g instant #8 h uuid }")
	var got []string
	for _, f := range defs.Modules[0].Messages[0].Fields {
		got = append(got, TypeName(f.Type))
	}
	assert.Equal(t, []string{"ReadonlyMap<string, readonly number[]>", "E", "readonly (readonly bigint[])[]",
		"Uint8Array", "A", "number", "Instant", "Uuid"}, got)
}

func TestOutput(t *testing.T) {
	defs := load(t, "module a.m\nuse a.other\n/// A booking.\n///\n/// Ends */ here.\nmessage Booking {\n  /// How "+
		"many.\n  #1 seats int32 = 1\n  #2 notes other.Note? deprecated \"use seats\"\n}\n/// Full.\nerror Full 409 { #1 left int64 = 5 }\n/// S.\nservice S {\n  /// Books.\n  call book(Booking) -> () fails Full\n}", "module a.other message Note { #1 text text }")
	files, err := Language{}.Generate(defs, stubs.About{Name: "n", Version: "1.2.3"}, stubs.Everything(""))
	require.NoError(t, err)
	byPath := map[string]string{}
	for _, f := range files {
		assert.Equal(t, stubs.Ours, stubs.OwnerOf(f.Content), f.Path)
		byPath[f.Path] = string(f.Content)
	}
	for path, parts := range map[string][]string{
		"a/m/types.ts": {
			"import * as other from \"../../a/other/types.js\";\nimport * as wire from \"../../faithful/wire.js\";\n",
			"/**\n * A booking.\n *\n * Ends *\\/ here.\n */\nexport interface Booking {\n  /** How many. */\n  readonly seats: number;\n  /** @deprecated use seats */\n  readonly notes?: other.Note | undefined;\n",
			"export interface BookingInit {\n  readonly seats?: number | undefined;\n  readonly notes?: other.NoteInit | undefined;\n",
			"/** Full. */\nexport class Full extends wire.DeclaredError {\n  declare readonly left: bigint;\n",
			"left: init.left ?? 5n,",
		},
		"a/m/client.ts": {"  /**\n   * Books.\n   *\n   * Its errors are Full.\n   */\n  book(request: types.BookingInit, options?: connect.CallOptions): Promise<void>;\n"},
		"a/m/server.ts": {"  book?(request: types.Booking, context: server.Context): Promise<void> | void;\n"},
		"a/m/index.ts": {"export type { Booking, BookingInit, FullInit } from \"./types.js\";\n" +
			"export { bookingTools, Full, fullTools } from \"./types.js\";\n" +
			"export * from \"./client.js\";\nexport * from \"./server.js\";\n"},
		"a/other/index.ts":  {"export { noteTools } from \"./types.js\";\n"},
		"faithful/about.ts": {`version: "1.2.3"`, defs.Digest()},
	} {
		require.Contains(t, byPath, path)
		for _, part := range parts {
			assert.Contains(t, byPath[path], part, path)
		}
	}
	assert.NotContains(t, byPath, "a/other/client.ts")
}

// TestTarget holds that an output for browsers has nothing of Node, nor of servers that it does not
// serve, and that every file that one imports is there.
func TestTarget(t *testing.T) {
	defs := load(t, "module m message A { #1 id uuid } message B { #1 a patch A } "+
		"service S { call a(A) -> A call b(stream B) -> stream A }")
	imported := regexp.MustCompile(`from "(\.[^"]+)\.js"`)
	for _, server := range []bool{false, true} {
		for _, target := range []string{"", "browser"} {
			files, err := Language{}.Generate(defs, stubs.About{Name: "n"}, stubs.Options{Types: true, Client: true,
				Server: server, Target: target})
			require.NoError(t, err)
			there := map[string]bool{}
			for _, f := range files {
				there[f.Path] = true
			}
			assert.Equal(t, target == "", there["faithful/node.ts"])
			assert.Equal(t, target == "", there["faithful/socket.ts"])
			assert.Equal(t, target == "" || server, there["faithful/server.ts"])
			assert.True(t, there["faithful/patch.ts"])
			for _, f := range files {
				if target == "browser" {
					assert.NotRegexp(t, `from "(node:|ws")`, string(f.Content), f.Path)
				}
				for _, to := range imported.FindAllStringSubmatch(string(f.Content), -1) {
					assert.True(t, there[path.Join(path.Dir(f.Path), to[1])+".ts"], "%s imports %s", f.Path, to[1])
				}
			}
		}
	}
	assert.Error(t, Language{}.Fits("", stubs.Options{Target: "phone"}))
	for _, name := range []string{"messages", "@skerry/messages", "@skerry/messages/gen", "#messages"} {
		assert.NoError(t, Language{}.Fits("", stubs.Options{Package: name}))
	}
	for _, name := range []string{"../messages", "Messages", "@skerry", "@skerry/messages/", "a b"} {
		assert.ErrorContains(t, Language{}.Fits("", stubs.Options{Package: name}), name)
	}
}
