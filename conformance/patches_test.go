package conformance

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/toolchain"
	"faithfulcourier/internal/value"
)

// applied is a message before and after a patch of it, each as JSON.
type applied struct {
	Message string `json:"message"`
	Before  string `json:"before"`
	Patch   string `json:"patch"`
	After   string `json:"after"`
}

// allApplied are patches of every message that has any, applied by the reference.
func allApplied(t *testing.T) []applied {
	rng := rand.New(rand.NewPCG(11, 30))
	text := func(m *value.Message) string {
		b, err := value.EncodeJSON(m)
		require.NoError(t, err)
		return string(b)
	}
	var list []applied
	for _, p := range messages(t) {
		if !p.IsPatch() {
			continue
		}
		patches := value.Edges(&schema.Type{Kind: schema.KindMessage, Message: p})
		for range 40 {
			patches = append(patches, value.RandomMessage(rng, p, 3))
		}
		for _, v := range patches {
			patch, before := v.(*value.Message), value.RandomMessage(rng, p.PatchOf, 3)
			if rng.IntN(2) == 0 {
				addUnlisted(rng, before)
			}
			if rng.IntN(2) == 0 {
				addUnlisted(rng, patch)
				for _, u := range before.Unlisted { // some of which the patch clears
					if rng.IntN(2) == 0 && !holds(patch.Unlisted, u) {
						u.CBOR, u.JSON = []byte{0xf6}, "null"
						patch.Unlisted = append(patch.Unlisted, u)
					}
				}
			}
			list = append(list, applied{p.PatchOf.Name, text(before), text(patch), text(value.Apply(patch, before))})
		}
	}
	require.Greater(t, len(list), 500)
	return list
}

func holds(list []value.UnlistedField, u value.UnlistedField) bool {
	for _, other := range list {
		if other.Number == u.Number && other.Name == u.Name {
			return true
		}
	}
	return false
}

// TestGoPatches applies patches by the Go stubs, and makes them anew of what was before and after.
func TestGoPatches(t *testing.T) {
	read := func(name, text string) reflect.Value {
		m := goMessages[name]()
		require.NoError(t, m.UnmarshalJSON([]byte(text)), text)
		return reflect.ValueOf(m)
	}
	cleared, kept := 0, 0
	for _, a := range allApplied(t) {
		before, patch, after := read(a.Message, a.Before), read(a.Message+"Patch", a.Patch), read(a.Message, a.After)
		to := read(a.Message, a.Before)
		patch.MethodByName("Apply").Call([]reflect.Value{to})
		written, err := to.Interface().(message).MarshalJSON()
		require.NoError(t, err)
		require.Equal(t, a.After, string(written), "%s\n%s", a.Before, a.Patch)
		require.True(t, equal(to.Interface().(message), after.Interface().(message)))

		between := read(a.Message+"Patch", "{}")
		between.MethodByName("Between").Call([]reflect.Value{before, after})
		binary, err := between.Interface().(message).MarshalJSON()
		require.NoError(t, err, "%s\n%s", a.Before, a.After)
		read(a.Message+"Patch", string(binary)).MethodByName("Apply").Call([]reflect.Value{before})
		require.True(t, equal(before.Interface().(message), after.Interface().(message)), "%s\n%s\n%s", a.Before, binary,
			a.After)
		cleared += strings.Count(string(binary), ":null")
		if string(binary) == "{}" {
			kept++
		}
	}
	assert.Greater(t, cleared, 100)
	assert.Greater(t, kept, 10)
}

// patchesAgree lets a program hold its stubs against what the reference makes of patches.
func patchesAgree(t *testing.T, run func(file string) string) {
	list := allApplied(t)
	text, err := json.Marshal(list)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "patches.json")
	require.NoError(t, os.WriteFile(file, text, 0o666))
	assert.Equal(t, fmt.Sprintf("%d patches agree\n", len(list)), run(file))
}

func TestTypeScriptPatches(t *testing.T) {
	toolchain.Require(t, "typescript")
	dir := typescriptPrograms(t)
	patchesAgree(t, func(file string) string {
		output, err := exec.Command("node", filepath.Join(dir, "patches.js"), file).CombinedOutput()
		require.NoError(t, err, "%s", output)
		return string(output)
	})
}

func TestPythonPatches(t *testing.T) {
	python := toolchain.Python(t)
	patchesAgree(t, func(file string) string { return toolchain.Run(t, "python", python, "patches.py", file) })
}
