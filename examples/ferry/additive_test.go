package ferry

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/toolchain"
)

// ways is what the programs of the documented ways print, in every language.
const ways = `messages   EID-0715 on deck unassigned
messages   no vehicle, ada@example.org
encodings  a2011909c40263534b44
encodings  {"hundredths":2500,"currency":"SKD"}
encodings  2500 SKD
encodings  /hundredths is wrong
bounds     /sailing must match ^[A-Z]{3}-[0-9]{4}$
bounds     /passengers must have 1 to 12 entries, not 0
bounds     /vehicle/metres must be 1 to 25, not 40
open       drive on
open       a deck with the number 9
open       on foot with 1 dog
open       on wheels, SK 1204
unlisted   2 {"hundredths":3000,"currency":"SKD","#9":"AQ","paid_by":"card"}
scalars    6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f 48.50 2026-07-15T06:58:12Z 1968-05-01 90
scalars    12 1968-05-01
secrets    6 8 (secret)
server     skerry.booking.Bookings.book
client     booked EID-0715 for 1
server     skerry.booking.Bookings.book
failure    full, 5 seats are left
server     skerry.booking.Bookings.booking
server     told of an error in skerry.booking.Bookings.booking
failure    the problem internal, 500
failure    invalid: /passengers
failure    no answer
failure    missing crew | door
failure    the problem forbidden, 403
server     skerry.quay.Quay.unpost
failure    no answer
`

const waysAsync = `client     booked EID-0715 for 1
full       5 seats are left
follows    3 positions
no answer  it was cancelled
`

const waysPlain = `plain      {"hundredths":2500,"currency":"SKD"} true
plain      /passengers/1/name expected text, found a number
plain      /passengers/0/name must have 1 to 200 characters, not 0
fake       2500
functions  EID-0715
`

// TestWays runs the programs that the pages of the languages quote.
func TestWays(t *testing.T) {
	assert.Equal(t, ways, toolchain.Run(t, ".", "go", "run", "./go/ways"))
	t.Run("typescript", func(t *testing.T) {
		toolchain.Require(t, "typescript")
		out := toolchain.BuildTypeScript(t, "typescript", t.TempDir())
		assert.Equal(t, ways, toolchain.Run(t, out, "node", "ways.js"))
		assert.Equal(t, waysPlain, toolchain.Run(t, out, "node", "ways_plain.js"))
	})
	t.Run("python", func(t *testing.T) {
		python := toolchain.Python(t)
		assert.Equal(t, ways, toolchain.Run(t, "python", python, "ways.py"))
		assert.Equal(t, waysAsync, toolchain.Run(t, "python", python, "ways_async.py"))
	})
	t.Run("java", func(t *testing.T) {
		assert.Equal(t, ways, toolchain.Run(t, ".", "java", "-cp", java(t, "java", t.TempDir()), "ferry.Ways"))
	})
}

const traces = `client skerry.booking.Bookings.sailings 200
  server skerry.booking.Bookings.sailings 200
    client skerry.fleet.Fleet.vessel 200
      server skerry.fleet.Fleet.vessel 200
client skerry.fleet.Fleet.vessel 404 error
  server skerry.fleet.Fleet.vessel 404
`

// TestTraces runs the programs that follow calls with OpenTelemetry.
func TestTraces(t *testing.T) {
	assert.Equal(t, traces, toolchain.Run(t, ".", "go", "run", "./go/traces"))
	t.Run("typescript", func(t *testing.T) {
		toolchain.Require(t, "typescript")
		out := toolchain.BuildTypeScript(t, "typescript", t.TempDir())
		assert.Equal(t, traces, toolchain.Run(t, out, "node", "traces.js"))
	})
	t.Run("python", func(t *testing.T) {
		assert.Equal(t, traces, toolchain.Run(t, "python", toolchain.Python(t), "traces.py"))
	})
}

// TestPagesQuotePrograms holds the code in the pages of the languages against
// the programs that the tests run: each block is some lines of one of them,
// where "…" leaves lines out.
func TestPagesQuotePrograms(t *testing.T) {
	for _, page := range []struct {
		name, mark string
		programs   []string
	}{
		{"go.md", "go", []string{"go/*/*.go", "../parcels/go/*/*.go"}},
		{"typescript.md", "ts", []string{"typescript/src/*.ts", "../parcels/page/src/*.ts"}},
		{"python.md", "python", []string{"python/*.py", "../parcels/python/*.py"}},
		{"java.md", "java", []string{"java/src/main/java/ferry/*.java"}},
	} {
		t.Run(page.name, func(t *testing.T) {
			var programs []string
			for _, pattern := range page.programs {
				paths, err := filepath.Glob(pattern)
				require.NoError(t, err)
				for _, path := range paths {
					text, err := os.ReadFile(path)
					require.NoError(t, err)
					programs = append(programs, flat(string(text)))
				}
			}
			text, err := os.ReadFile(filepath.Join(toolchain.Root(), "docs", page.name))
			require.NoError(t, err)
			blocks := regexp.MustCompile("(?s)```"+page.mark+"\n(.*?)```").FindAllStringSubmatch(string(text), -1)
			assert.Greater(t, len(blocks), 8, "the page shows the ways of use")
			for _, block := range blocks {
				for part := range strings.SplitSeq(block[1], "…\n") {
					part = flat(part)
					assert.True(t, slices.ContainsFunc(programs, func(p string) bool { return strings.Contains(p, part) }),
						"no program has these lines:\n%s", part)
				}
			}
		})
	}
}

// flat is a text without indents, so that what stands deeper in a program is
// found, too.
func flat(text string) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		b.WriteString(strings.TrimLeft(line, " \t"))
	}
	return b.String()
}

// scalarTypes are all that a field may have, with a default of each that may
// have one.
var scalarTypes = [][2]string{
	{"bool", "true"}, {"int8", "7"}, {"int16", "7"}, {"int32", "7"}, {"int64", "7"}, {"uint8", "7"}, {"uint16", "7"},
	{"uint32", "7"}, {"uint64", "7"},
	{"float32", "1.5"}, {"float64", "1.5"}, {"decimal", `"1.50"`}, {"text", `"x"`},
	{"uuid", `"6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f"`},
	{"instant", `"2026-07-15T06:58:12Z"`}, {"date", `"2026-07-15"`}, {"duration", `"PT5S"`}, {"AddedEnum", "added_a"},
}

// added adds to definitions all that may be added without breaking anybody: to
// every message and error fields of each type, optional and defaulted, to every
// enum a member, to every union an alternative, to every service calls of each
// kind, to calls an error, and a declaration of each kind.
func added(text string) string {
	var anywhere, inBodies strings.Builder
	n := 900
	field := func(b *strings.Builder, name, rest string) {
		n++
		fmt.Fprintf(b, "  #%d added_%s %s\n", n, name, rest)
	}
	for _, s := range scalarTypes {
		name := strings.ToLower(s[0])
		field(&anywhere, name, s[0]+"?")
		field(&anywhere, name+"_default", s[0]+" = "+s[1])
	}
	for _, f := range [][2]string{{"bytes", "bytes?"}, {"any", "any?"}, {"list", "[text]?"},
		{"map", "{text: [AddedMessage]}?"}, {"message", "AddedMessage?"}, {"union", "AddedUnion?"}, {"named", "AddedType?"}} {
		field(&inBodies, f[0], f[1])
	}
	// Requests of calls without a body travel in the query.
	inQuery := regexp.MustCompile(`^(message FollowRequest|message NoticeRequest)`)
	text = regexp.MustCompile(`(?ms)^(message|error) .*?^}`).ReplaceAllStringFunc(text, func(declaration string) string {
		fields := anywhere.String()
		if !inQuery.MatchString(declaration) {
			fields += inBodies.String()
		}
		return strings.TrimSuffix(declaration, "}") + fields + "}"
	})
	text = regexp.MustCompile(`(?ms)^enum .*?^}`).ReplaceAllStringFunc(text,
		func(d string) string { return strings.TrimSuffix(d, "}") + "  #900 added_member\n}" })
	text = regexp.MustCompile(`(?ms)^union .*?^}`).ReplaceAllStringFunc(text,
		func(d string) string { return strings.TrimSuffix(d, "}") + "  #900 added_alternative text\n}" })
	text = regexp.MustCompile(`(?ms)^service .*?^}`).ReplaceAllStringFunc(text, func(d string) string {
		d = regexp.MustCompile(`(?m)^(    fails .*)$`).ReplaceAllString(d, "$1, AddedError")
		return strings.TrimSuffix(d, "}") + `
  call added_call(AddedMessage) -> AddedMessage
  call added_answers(AddedMessage) -> stream AddedMessage
  call added_requests(stream AddedMessage) -> ()
  call added_both(stream AddedMessage) -> stream AddedMessage
}`
	})
	return text + `
const ADDED text = "x"

type AddedType = text where length 1..9

enum AddedEnum {
  #0 added_a
  #1 added_b
}

union AddedUnion {
  #1 added_a text
  #2 added_b [AddedMessage]
}

message AddedMessage {
  #1 added_text text
}

error AddedError 418 {
  #1 added_text text?
}

credential added = key header "Added"

service AddedService {
  needs nothing
  call added() -> ()
}
`
}

// TestAdditionsBreakNobody adds all that may be added to the definitions of the
// ferry line, and compiles and runs the programs of the documented ways,
// unchanged, against the stubs of that.
func TestAdditionsBreakNobody(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out stubs of many additions")
	}
	dir := t.TempDir()
	project, err := Files()
	require.NoError(t, err)
	for path, text := range project {
		if strings.HasSuffix(path, ".faithful") {
			text = added(text)
		}
		full := filepath.Join(dir, filepath.FromSlash(path))
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o777))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o666))
	}
	output, err := toolchain.Faithful(t, dir, "generate").CombinedOutput()
	require.NoError(t, err, "%s", output)
	// The bytes of a message with new defaults are other ones; all else is as it was.
	want := regexp.MustCompile(`(?m)^(encodings  (a2|\{)|unlisted).*\n`).ReplaceAllString(ways, "")
	same := func(t *testing.T, got string) {
		assert.Equal(t, want, regexp.MustCompile(`(?m)^(encodings  (b|\{)|unlisted).*\n`).ReplaceAllString(got, ""))
	}
	t.Run("go", func(t *testing.T) {
		toolchain.Run(t, dir, "go", "vet", "./...")
		same(t, toolchain.Run(t, dir, "go", "run", "./go/ways"))
	})
	t.Run("typescript", func(t *testing.T) {
		toolchain.Require(t, "typescript")
		out := toolchain.BuildTypeScript(t, filepath.Join(dir, "typescript"), t.TempDir())
		same(t, toolchain.Run(t, out, "node", "ways.js"))
	})
	t.Run("python", func(t *testing.T) {
		python := toolchain.Python(t)
		toolchain.Run(t, filepath.Join(dir, "python"), python, "-m", "mypy", ".")
		same(t, toolchain.Run(t, filepath.Join(dir, "python"), python, "ways.py"))
		assert.Equal(t, waysAsync, toolchain.Run(t, filepath.Join(dir, "python"), python, "ways_async.py"))
	})
	t.Run("java", func(t *testing.T) {
		same(t, toolchain.Run(t, dir, "java", "-cp", java(t, filepath.Join(dir, "java"), t.TempDir()), "ferry.Ways"))
	})
}
