package manual

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/evanw/esbuild/pkg/api"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/manual/bundle"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/toolchain"
	"faithfulcourier/internal/value"
)

// TestScriptIsFresh holds that manual.js is what go generate makes of page/*.ts and the stubs' own client.
func TestScriptIsFresh(t *testing.T) {
	wanted, err := bundle.Script(absolute(t, "."))
	require.NoError(t, err)
	fresh := bytes.Equal(wanted, read(t, "page/manual.js"))
	assert.True(t, fresh, "page/manual.js is stale: go generate ./internal/manual")
}

func absolute(t *testing.T, path string) string {
	t.Helper()
	full, err := filepath.Abs(path)
	require.NoError(t, err)
	return full
}

func read(t *testing.T, path string) []byte {
	t.Helper()
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	return text
}

// payload is one that pages and the reference are asked about.
type payload struct {
	Message string `json:"message"`
	Text    string `json:"text"`
}

// TestPagesCheckAsStubsDo holds what the pages' script says of payloads in JSON against the reference: the vectors, and
// made payloads in which something was changed.
func TestPagesCheckAsStubsDo(t *testing.T) {
	toolchain.Require(t, "typescript")
	paths, err := filepath.Glob("../../conformance/definitions/*.faithful")
	require.NoError(t, err)
	var texts []string
	for _, p := range paths {
		texts = append(texts, string(read(t, p)))
	}
	defs := loaded(t, texts...)
	f := &forms{Messages: map[string]messageForm{}, Enums: map[string]enumForm{}, Unions: map[string]unionForm{}}
	messages := map[string]*schema.Message{}
	var payloads []payload
	maker, rng := value.NewMaker(defs, 7), rand.New(rand.NewPCG(7, 1))
	for _, m := range defs.Modules {
		for _, message := range m.Messages {
			name := f.message(message)
			messages[name] = message
			if message.Raw() != nil {
				continue
			}
			for i := range 12 {
				made, err := maker.Element(message, i)
				var impossible *value.Impossible
				if errors.As(err, &impossible) {
					break
				}
				require.NoError(t, err)
				text, err := value.EncodeJSON(made)
				require.NoError(t, err)
				if len(text) > 20_000 {
					continue
				}
				payloads = append(payloads, payload{name, string(text)})
				for range 6 {
					payloads = append(payloads, payload{name, spoiled(string(text), rng)})
				}
			}
		}
	}
	for _, file := range []string{"valid.jsonl", "invalid.jsonl"} {
		lines := bufio.NewScanner(bytes.NewReader(read(t, "../../conformance/vectors/"+file)))
		lines.Buffer(nil, 64<<20)
		for lines.Scan() {
			var v struct{ Message, Encoding, Payload string }
			require.NoError(t, json.Unmarshal(lines.Bytes(), &v))
			text, err := hex.DecodeString(v.Payload)
			require.NoError(t, err)
			if v.Encoding == "json" && messages[v.Message] != nil && messages[v.Message].Raw() == nil &&
				strings.ToValidUTF8(string(text), "") == string(text) {
				payloads = append(payloads, payload{v.Message, string(text)})
			}
		}
		require.NoError(t, lines.Err())
	}
	refused := 0
	for i, said := range checkedInPages(t, f, payloads) {
		p := payloads[i]
		var wanted []value.Violation
		v, err := value.DecodeJSON(messages[p.Message], []byte(p.Text), 0)
		var unreadable *value.Error
		if errors.As(err, &unreadable) {
			refused++
			if strings.Contains(p.Text, `"#`) && len(said) == 0 {
				continue // what is written by number is in CBOR, which pages leave to the server
			}
			if assert.Len(t, said, 1, "%s %s: %v", p.Message, p.Text, err) && !unreadable.TooLarge {
				assert.Equal(t, unreadable.Path, said[0].Pointer, "%s %s: %v: %s", p.Message, p.Text, err, said[0].Detail)
			}
			continue
		}
		wanted = value.Validate(v)
		if len(wanted) > 0 {
			refused++
		}
		assert.ElementsMatch(t, wanted, said, "%s %s", p.Message, p.Text)
		if t.Failed() {
			break
		}
	}
	t.Logf("%d payloads, %d of them refused", len(payloads), refused)
	assert.Greater(t, refused, len(payloads)/20)
	assert.Less(t, refused, len(payloads)*19/20)
}

// checkedInPages is what the pages' script says of payloads.
func checkedInPages(t *testing.T, f *forms, payloads []payload) (said [][]value.Violation) {
	t.Helper()
	result := api.Build(api.BuildOptions{Bundle: true, Platform: api.PlatformNode, Format: api.FormatESModule,
		Target: api.ES2022, TsconfigRaw: `{}`, Stdin: &api.StdinOptions{ResolveDir: absolute(t, "page"), Contents: `
import { readFileSync } from "node:fs";
import { Checker } from "./checking.ts";
const { model, payloads } = JSON.parse(readFileSync(0, "utf8"));
const checker = new Checker(model);
process.stdout.write(JSON.stringify(payloads.map(({ message, text }) => checker.check(message, text))));
`}})
	require.Empty(t, result.Errors)
	script := filepath.Join(t.TempDir(), "check.mjs")
	require.NoError(t, os.WriteFile(script, result.OutputFiles[0].Contents, 0o600))
	input, err := json.Marshal(map[string]any{"model": f, "payloads": payloads})
	require.NoError(t, err)
	node := exec.Command("node", script)
	node.Stdin = bytes.NewReader(input)
	var problems bytes.Buffer
	node.Stderr = &problems
	output, err := node.Output()
	require.NoError(t, err, "%s", &problems)
	require.NoError(t, json.Unmarshal(output, &said))
	require.Len(t, said, len(payloads))
	return said
}

var tokens = regexp.MustCompile(`"(?:[^"\\]|\\.)*"|-?[0-9][0-9.eE+-]*|true|false|null`)

// spoiled is a payload in which one token is another one.
func spoiled(text string, rng *rand.Rand) string {
	places := tokens.FindAllStringIndex(text, -1)
	if len(places) == 0 {
		return text
	}
	i := rng.IntN(len(places))
	at, before := places[i], places[max(0, i-1)]
	others := []string{"0", "-1", "1.5", "99999999999999999999", "300", `""`, `"a"`, "null", "true", "{}", "[]",
		`"2026-02-30"`, `"PT-1S"`, `"` + strings.Repeat("x", 300) + `"`, "1e400", `"NaN"`, "01", "-0",
		text[before[0]:before[1]], text[before[0]:before[1]], text[before[0]:before[1]]}
	return text[:at[0]] + others[rng.IntN(len(others))] + text[at[1]:]
}
