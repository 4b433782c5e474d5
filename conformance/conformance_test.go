// Package conformance holds the stubs of every language against the reference
// reader and writer: on valid payloads, on invalid ones, and on payloads
// damaged at random, each must take and refuse the same and write the same
// bytes.
package conformance

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/conformance/go/gen/faithful/wire"
	"faithfulcourier/conformance/go/gen/skerry/language"
	"faithfulcourier/conformance/go/gen/skerry/many"
	"faithfulcourier/conformance/go/gen/skerry/shared"
	"faithfulcourier/conformance/go/gen/skerry/vectors"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/toolchain"
	"faithfulcourier/internal/value"
)

// vector is a payload and what must become of it.
type vector struct {
	Message  string  `json:"message"`
	Encoding string  `json:"encoding"` // of the payload: "cbor" or "json"
	Payload  string  `json:"payload"`  // hexadecimal
	Accepted bool    `json:"accepted"`
	CBOR     *string `json:"cbor"` // what is written then, hexadecimal; null when it must be refused
	JSON     *string `json:"json"`
	Why      string  `json:"why,omitempty"`

	Violations []value.Violation `json:"violations"` // what validate says of it
}

// definitions are what vectors are made of.
var definitions = sync.OnceValues(func() (*schema.Definitions, error) {
	defs, findings, err := project.Load(".", "draft")
	if err == nil && len(findings) > 0 {
		err = fmt.Errorf("%s", findings[0].Message)
	}
	return defs, err
})

// messages are those that vectors are made of, by name.
func messages(t testing.TB) []*schema.Message {
	defs, err := definitions()
	require.NoError(t, err)
	var all []*schema.Message
	for _, m := range defs.Modules {
		if m.Name != "skerry.matrix" { // its messages are held by being called
			all = append(slices.Concat(all, m.Messages), m.Patches...)
		}
	}
	slices.SortFunc(all, func(a, b *schema.Message) int { return strings.Compare(a.Name, b.Name) })
	return all
}

func messageNamed(t testing.TB, name string) *schema.Message {
	all := messages(t)
	i := slices.IndexFunc(all, func(m *schema.Message) bool { return m.Name == name })
	require.GreaterOrEqual(t, i, 0, name)
	return all[i]
}

// written is a message in both encodings, which readers that know nothing of it
// take, too.
func written(t testing.TB, m *value.Message) (asCBOR, asJSON []byte) {
	asCBOR, err := value.EncodeCBOR(m)
	require.NoError(t, err)
	asJSON, err = value.EncodeJSON(m)
	require.NoError(t, err)
	require.NoError(t, cbor.Wellformed(asCBOR))
	require.True(t, json.Valid(asJSON), "%s", asJSON)
	return asCBOR, asJSON
}

// message is what every message of the stubs is to its users.
type message interface {
	AppendBinary(b []byte) ([]byte, error)
	MarshalBinary() ([]byte, error)
	UnmarshalBinary(data []byte) error
	MarshalJSON() ([]byte, error)
	UnmarshalJSON(data []byte) error
	Validate() error
}

// goMessages makes the generated counterpart of each message.
var goMessages = map[string]func() message{
	"Scalars":   func() message { return new(vectors.Scalars) },
	"Optionals": func() message { return new(vectors.Optionals) },
	"Defaults":  func() message { return new(vectors.Defaults) },
	"Lists":     func() message { return new(vectors.Lists) },
	"Maps":      func() message { return new(vectors.Maps) },
	"Node":      func() message { return new(vectors.Node) },
	"Empty":     func() message { return new(vectors.Empty) },
	"Bounded":   func() message { return new(vectors.Bounded) },
	"Renamed":   func() message { return new(vectors.Renamed) },
	"Broken":    func() message { return new(vectors.Broken) },
	"Leaf":      func() message { return new(shared.Leaf) },
	"Many":      func() message { return new(many.Many) },

	"Chain":          func() message { return new(language.Chain) },
	"FootPassage":    func() message { return new(language.FootPassage) },
	"NamedScalars":   func() message { return new(language.NamedScalars) },
	"NamedOptionals": func() message { return new(language.NamedOptionals) },
	"NamedDefaults":  func() message { return new(language.NamedDefaults) },
	"More":           func() message { return new(language.More) },
	"MoreOptionals":  func() message { return new(language.MoreOptionals) },
	"Keys":           func() message { return new(language.Keys) },

	"Changes":             func() message { return new(vectors.Changes) },
	"LanguageChanges":     func() message { return new(language.LanguageChanges) },
	"ScalarsPatch":        func() message { return new(vectors.ScalarsPatch) },
	"OptionalsPatch":      func() message { return new(vectors.OptionalsPatch) },
	"DefaultsPatch":       func() message { return new(vectors.DefaultsPatch) },
	"ListsPatch":          func() message { return new(vectors.ListsPatch) },
	"MapsPatch":           func() message { return new(vectors.MapsPatch) },
	"NodePatch":           func() message { return new(vectors.NodePatch) },
	"BoundedPatch":        func() message { return new(vectors.BoundedPatch) },
	"RenamedPatch":        func() message { return new(vectors.RenamedPatch) },
	"LeafPatch":           func() message { return new(shared.LeafPatch) },
	"ChangesPatch":        func() message { return new(vectors.ChangesPatch) },
	"EmptyPatch":          func() message { return new(vectors.EmptyPatch) },
	"NamedScalarsPatch":   func() message { return new(language.NamedScalarsPatch) },
	"NamedOptionalsPatch": func() message { return new(language.NamedOptionalsPatch) },
	"NamedDefaultsPatch":  func() message { return new(language.NamedDefaultsPatch) },
	"MorePatch":           func() message { return new(language.MorePatch) },
	"MoreOptionalsPatch":  func() message { return new(language.MoreOptionalsPatch) },
	"KeysPatch":           func() message { return new(language.KeysPatch) },
}

// judged lets the reference decide what must become of a payload.
func judged(t *schema.Message, encoding string, payload []byte) vector {
	v := vector{Message: t.Name, Encoding: encoding, Payload: hex.EncodeToString(payload)}
	read := value.DecodeCBOR
	if encoding == "json" {
		read = value.DecodeJSON
	}
	m, err := read(t, payload, 0)
	if err != nil {
		v.Why = err.Error()
		return v
	}
	v.Accepted = true
	v.Violations = value.Validate(m)
	if b, err := value.EncodeCBOR(m); err == nil {
		s := hex.EncodeToString(b)
		v.CBOR = &s
	}
	if b, err := value.EncodeJSON(m); err == nil {
		s := string(b)
		v.JSON = &s
	}
	return v
}

// allVectors are those that are kept in files, made ones and damaged ones; the
// same for every language and every run.
func allVectors(t testing.TB) []vector {
	rng := rand.New(rand.NewPCG(7, 15))
	list := slices.Concat(kept(t, validFile), kept(t, invalidFile))
	for _, m := range messages(t) {
		samples := value.Edges(&schema.Type{Kind: schema.KindMessage, Message: m})
		for range 30 {
			samples = append(samples, value.RandomMessage(rng, m, 4))
		}
		for _, s := range samples {
			message := s.(*value.Message)
			if rng.IntN(3) == 0 {
				addUnlisted(rng, message)
			}
			b, j := written(t, message)
			list = append(list, judged(m, "cbor", b), judged(m, "json", j))
			for range 4 {
				list = append(list, judged(m, "cbor", damaged(rng, b)), judged(m, "json", damaged(rng, j)))
			}
		}
	}
	return list
}

func addUnlisted(rng *rand.Rand, m *value.Message) {
	items := [][]byte{{0x01}, {0x82, 0x01, 0x61, 'x'}, {0xc1, 0x00}, {0xf6}, {0xbf, 0x01, 0x02, 0xff}, {0xf9, 0x3c, 0x00}}
	for range 1 + rng.IntN(3) {
		n := 1 + rng.IntN(70)
		taken := m.Type.ByNumber(n) != nil || slices.ContainsFunc(m.Unlisted,
			func(u value.UnlistedField) bool { return u.Number == n })
		if !taken {
			m.Unlisted = append(m.Unlisted, value.UnlistedField{Number: n, CBOR: items[rng.IntN(len(items))]})
		}
	}
	slices.SortFunc(m.Unlisted, func(a, b value.UnlistedField) int { return a.Number - b.Number })
	if rng.IntN(2) == 0 {
		m.Unlisted = append(m.Unlisted, value.UnlistedField{Name: "later \"name\"", JSON: `{"a":[1,2.50,null],"a":"\u00e9"}`})
	}
}

// damaged changes a few bytes of a payload.
func damaged(rng *rand.Rand, payload []byte) []byte {
	b := bytes.Clone(payload)
	for range 1 + rng.IntN(3) {
		if len(b) == 0 {
			return []byte{byte(rng.Uint32())}
		}
		i := rng.IntN(len(b))
		switch rng.IntN(6) {
		case 0:
			b[i] ^= 1 << rng.IntN(8)
		case 1:
			b[i] = byte(rng.Uint32())
		case 2:
			b = slices.Insert(b, i, byte(rng.Uint32()))
		case 3:
			b = slices.Delete(b, i, i+1)
		case 4:
			b = b[:i]
		case 5:
			b = slices.Insert(b, i, b[i:min(len(b), i+1+rng.IntN(8))]...)
		}
	}
	return b
}

func TestGoStubs(t *testing.T) {
	list := allVectors(t)
	accepted := 0
	for _, v := range list {
		data, err := hex.DecodeString(v.Payload)
		require.NoError(t, err)
		agrees(t, v, data)
		if v.Accepted {
			accepted++
		}
	}
	t.Logf("%d payloads, of which the reference takes %d", len(list), accepted)
}

// agrees lets the Go stubs make of a payload what a vector says.
func agrees(t *testing.T, v vector, data []byte) {
	m := goMessages[v.Message]()
	read := m.UnmarshalBinary
	if v.Encoding == "json" {
		read = m.UnmarshalJSON
	}
	err := read(data)
	what := fmt.Sprintf("%s as %s: %s", v.Message, v.Encoding, v.Payload)
	if v.Encoding == "json" {
		what += " " + string(data)
	}
	if !v.Accepted {
		require.Error(t, err, "%s\nthe reference: %s", what, v.Why)
		return
	}
	require.NoError(t, err, what)
	written, err := m.AppendBinary(nil)
	if v.CBOR == nil {
		require.Error(t, err, what)
	} else {
		require.NoError(t, err, what)
		require.Equal(t, *v.CBOR, hex.EncodeToString(written), what)
	}
	text, err := m.MarshalJSON()
	require.NoError(t, err, what)
	require.Equal(t, *v.JSON, string(text), what)
	require.Equal(t, v.Violations, violations(m), what)
}

// fuzz holds stubs against the reference on any bytes.
func fuzz(f *testing.F, agrees func(t *testing.T, v vector, data []byte)) {
	all := messages(f)
	for i, m := range all {
		for _, file := range []string{validFile, invalidFile} {
			n := 0
			for _, v := range kept(f, file) {
				if v.Message == m.Name && n < 40 {
					data, err := hex.DecodeString(v.Payload)
					require.NoError(f, err)
					f.Add(uint(i), v.Encoding == "json", data)
					n++
				}
			}
		}
	}
	f.Fuzz(func(t *testing.T, i uint, isJSON bool, data []byte) {
		encoding := "cbor"
		if isJSON {
			encoding = "json"
		}
		agrees(t, judged(all[i%uint(len(all))], encoding, data), data)
	})
}

func FuzzGoStubs(f *testing.F) { fuzz(f, agrees) }

func FuzzTypeScriptStubs(f *testing.F) {
	toolchain.Require(f, "typescript")
	fuzz(f, asked(f, exec.Command("node", filepath.Join(typescriptPrograms(f), "vectors.js"), "-")))
}

func FuzzPythonStubs(f *testing.F) {
	python := toolchain.Python(f)
	program := exec.Command(python, "vectors.py", "-")
	program.Dir = "python"
	fuzz(f, asked(f, program))
}

// asked starts a program that is given a vector a line, and says of each what
// disagrees with it.
func asked(f *testing.F, program *exec.Cmd) func(t *testing.T, v vector, data []byte) {
	in, err := program.StdinPipe()
	require.NoError(f, err)
	out, err := program.StdoutPipe()
	require.NoError(f, err)
	program.Stderr = os.Stderr
	require.NoError(f, program.Start())
	f.Cleanup(func() {
		_ = in.Close()
		assert.NoError(f, program.Wait())
	})
	questions, answers := json.NewEncoder(in), json.NewDecoder(out)
	return func(t *testing.T, v vector, _ []byte) {
		require.NoError(t, questions.Encode(v))
		var problem *string
		require.NoError(t, answers.Decode(&problem), "%+v", v)
		if problem != nil {
			require.Fail(t, *problem, "%+v", v)
		}
	}
}

// violations are those of a generated message, as the reference has them.
func violations(m message) []value.Violation {
	var invalid *wire.InvalidRequest
	if !errors.As(m.Validate(), &invalid) {
		return nil
	}
	var list []value.Violation
	for _, v := range invalid.Violations {
		list = append(list, value.Violation{Pointer: v.Pointer, Detail: v.Detail})
	}
	return list
}

var built struct {
	outputs    sync.Once
	dir        string
	typescript sync.Once
	compiled   string
}

// outputs is a folder for what is built once for all tests.
func outputs(t testing.TB) string {
	built.outputs.Do(func() {
		dir, err := os.MkdirTemp("", "conformance-")
		require.NoError(t, err)
		built.dir = dir
	})
	return built.dir
}

// typescriptPrograms compiles the TypeScript programs, once, and returns their folder.
func typescriptPrograms(t testing.TB) string {
	t.Helper()
	built.typescript.Do(func() {
		built.compiled = toolchain.BuildTypeScript(t, "typescript", filepath.Join(outputs(t), "typescript"))
	})
	require.NotEmpty(t, built.compiled, "it did not compile before")
	return built.compiled
}

func TestMain(m *testing.M) {
	code := m.Run()
	if built.dir != "" {
		_ = os.RemoveAll(built.dir) // a temporary folder
	}
	os.Exit(code)
}

func TestTypeScriptStubs(t *testing.T) {
	t.Parallel() // with the other tests that measure no time, after those that do
	toolchain.Require(t, "typescript")
	dir := typescriptPrograms(t)
	list := allVectors(t)
	text, err := json.Marshal(list)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "vectors.json")
	require.NoError(t, os.WriteFile(file, text, 0o666))
	output, err := exec.Command("node", filepath.Join(dir, "vectors.js"), file).CombinedOutput()
	require.NoError(t, err, "%s", output)
	assert.Equal(t, fmt.Sprintf("%d payloads agree\n", len(list)), string(output))
}

func TestPythonStubs(t *testing.T) {
	t.Parallel() // with the other tests that measure no time, after those that do
	python := toolchain.Python(t)
	list := allVectors(t)
	text, err := json.Marshal(list)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "vectors.json")
	require.NoError(t, os.WriteFile(file, text, 0o666))
	assert.Equal(t, fmt.Sprintf("%d payloads agree\n", len(list)), toolchain.Run(t, "python", python, "vectors.py", file))
}

// TestReadingNeedsLittleMemory gives readers lengths that lie: nothing may be
// allocated on their word.
func TestReadingNeedsLittleMemory(t *testing.T) {
	lies := []string{
		"a2 02 1a 00 98 96 80", // an entry ends the payload
		"ab 09 9a 00 0f 42 40" + strings.Repeat("a1 07 01", 20),
		"a7 05 ba 00 0f 42 40" + strings.Repeat("61 61 a1 07 01", 10),
		"a1 07 5a 7f ff ff ff 00",
	}
	for _, name := range []string{"Lists", "Maps", "Optionals"} {
		m := messageNamed(t, name)
		for _, lie := range lies {
			data, err := hex.DecodeString(strings.ReplaceAll(lie, " ", ""))
			require.NoError(t, err)
			padded := append(data, make([]byte, 1<<20)...)
			for _, payload := range [][]byte{data, padded} {
				limit := uint64(64<<10 + 64*len(payload))
				assert.Less(t, allocated(func() { _ = goMessages[name]().UnmarshalBinary(payload) }), limit, "%s %s", name, lie)
				assert.Less(t, allocated(func() { _, _ = value.DecodeCBOR(m, payload, 0) }), limit, "%s %s", name, lie)
			}
		}
	}
	// A true list of the smallest items costs a small multiple, too.
	payload := append([]byte{0xaa, 0x09, 0x9a, 0, 1, 0x86, 0xa0}, bytes.Repeat([]byte{0xa1, 7, 1}, 100_000)...)
	assert.Less(t, allocated(func() { _ = new(vectors.Lists).UnmarshalBinary(payload) }), uint64(64*len(payload)))
	// So many items that the budget ends it.
	payload = append([]byte{0xaa, 0x01, 0x9a, 0, 0x1e, 0x84, 0x80}, bytes.Repeat([]byte{0xf4}, 2_000_000)...)
	err := new(vectors.Lists).UnmarshalBinary(payload)
	var e *wire.Error
	require.ErrorAs(t, err, &e)
	assert.True(t, e.TooLarge)
	_, err = value.DecodeCBOR(messageNamed(t, "Lists"), payload, 0)
	require.ErrorContains(t, err, "more elements")
}

// manyUnknown are payloads of as many unlisted fields as they can hold, in the
// worst order.
func manyUnknown() (asCBOR, asJSON []byte) {
	asCBOR = []byte{0xb9, 0xff, 0xff, 0x07, 0x01}
	for n := 65535; n > 0; n-- {
		if n != 7 {
			asCBOR = append(asCBOR, 0x19, byte(n>>8), byte(n), 0)
		}
	}
	asJSON = []byte(`{"number":1`)
	for n := range 200_000 {
		asJSON = fmt.Appendf(asJSON, `,"a%d":0`, n)
	}
	return asCBOR, append(asJSON, '}')
}

func TestManyUnlistedFieldsCostTheirLength(t *testing.T) {
	asCBOR, asJSON := manyUnknown()
	for encoding, payload := range map[string][]byte{"cbor": asCBOR, "json": asJSON} {
		leaf := new(shared.Leaf)
		start := time.Now()
		read, write := leaf.UnmarshalBinary, leaf.MarshalBinary
		if encoding == "json" {
			read, write = leaf.UnmarshalJSON, leaf.MarshalJSON
		}
		// The number 3 is known to Leaf, as a text; here it is not.
		payload = bytes.Replace(payload, []byte{0x19, 0, 3, 0}, []byte{0x03, 0x60}, 1)
		require.NoError(t, read(payload), encoding)
		written, err := write()
		require.NoError(t, err)
		require.NoError(t, read(written))
		assert.Less(t, time.Since(start), 3*time.Second, encoding)
	}
	assert.Error(t, new(shared.Leaf).UnmarshalJSON(bytes.Replace(asJSON, []byte(`"a5"`), []byte(`"a6"`), 1)),
		"one that comes twice is found")
}

func allocated(f func()) uint64 {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	f()
	runtime.ReadMemStats(&after)
	return after.TotalAlloc - before.TotalAlloc
}

func TestGeneratedFilesAreCurrent(t *testing.T) {
	for _, dir := range []string{".", "../examples/ferry"} {
		output, err := toolchain.Faithful(t, dir, "generate", "--dry").CombinedOutput()
		require.NoError(t, err, "%s: run faithful generate there:\n%s", dir, output)
	}
}

// TestTypeScriptSupport runs the tests of what the TypeScript stubs share.
func TestTypeScriptSupport(t *testing.T) {
	toolchain.Require(t, "typescript")
	dir := typescriptPrograms(t)
	output, err := exec.Command("node", "--test", filepath.Join(dir, "support.test.js"),
		filepath.Join(dir, "service.test.js"), filepath.Join(dir, "frameworks.test.js")).CombinedOutput()
	require.NoError(t, err, "%s", output)
	assert.Regexp(t, `# pass [1-9]`, string(output))
}

// TestPythonSupport runs the tests of what the Python stubs share.
func TestPythonSupport(t *testing.T) {
	output := toolchain.Run(t, "python", toolchain.Python(t), "-m", "pytest", "-q", "-p", "no:cacheprovider",
		"test_support.py", "test_service.py")
	assert.Regexp(t, `[1-9][0-9]* passed`, output)
}
