package command

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/toolchain"
)

// TestSARIF holds what compare and check write against the schema that OASIS
// published, and follows each place to its line.
func TestSARIF(t *testing.T) {
	schema, err := jsonschema.NewCompiler().Compile(filepath.Join(toolchain.Root(),
		"internal/report/testdata/sarif-schema-2.1.0.json"))
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS(filepath.Join(toolchain.Root(), "examples/ferry/definitions"))))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "faithful.toml"),
		[]byte("name = \"skerry line\"\nsources = [\".\"]\n[[waiver]]\nchange = \"field-type-changed\"\nwhere = "+
			"\"skerry.booking.Vehicle.metres\"\nreason = \"never read\"\n"), 0o666))
	run := func(args ...string) (results []any) {
		output, _ := toolchain.Faithful(t, dir, args...).Output() // exits 1 on breaks
		document, err := jsonschema.UnmarshalJSON(bytes.NewReader(output))
		require.NoError(t, err, "%s", output)
		require.NoError(t, schema.Validate(document))
		return at(document, "runs", 0, "results").([]any)
	}
	require.NoError(t, toolchain.Faithful(t, dir, "seal").Run())
	edit := func(pairs ...string) {
		path := filepath.Join(dir, "booking.faithful")
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path, []byte(strings.NewReplacer(pairs...).Replace(string(text))), 0o666))
	}
	edit("#2 metres float64", "#2 metres int32", "  #10 email      text?\n", "  #13 note       text?\n", "call cancel(",
		"call call_off(")
	edit("/// Books a crossing.", "/// Books one crossing.")
	levels := map[string]string{}
	for _, r := range run("compare", "--as", "sarif") {
		levels[at(r, "ruleId").(string)] = at(r, "level").(string)
		file := at(r, "locations", 0, "physicalLocation", "artifactLocation", "uri").(string)
		text, err := os.ReadFile(filepath.Join(dir, file))
		require.NoError(t, err)
		line := strings.Split(string(text), "\n")[number(at(r, "locations", 0, "physicalLocation", "region", "startLine"))-1]
		want := map[string]string{"field-type-changed": "#2 metres int32", "field-gone": "message Booking {",
			"field-added": "#13 note", "call-renamed": "call call_off(",
			"documentation-changed": "call book("}[at(r, "ruleId").(string)]
		assert.Contains(t, line, want)
		_, waived := r.(map[string]any)["suppressions"]
		assert.Equal(t, at(r, "ruleId") == "field-type-changed", waived)
	}
	assert.Equal(t, map[string]string{"field-type-changed": "error", "field-gone": "warning", "field-added": "note",
		"call-renamed": "error", "documentation-changed": "note"}, levels)
	edit("#13 note       text?", "#13 note       text33?")
	found := run("check", "--as", "sarif")
	require.NotEmpty(t, found)
	assert.Equal(t, "error", at(found[0], "level"))
	wrong, err := jsonschema.UnmarshalJSON(strings.NewReader(`{"version":"2.1.0","runs":[{"results":[]}]}`))
	require.NoError(t, err)
	require.Error(t, schema.Validate(wrong), "the schema refuses a run without a tool")
}

// TestComparisonFitsItsSchema holds compare --as json against the JSON Schema in
// docs/, for a change with every verdict, a fix, and an older version.
func TestComparisonFitsItsSchema(t *testing.T) {
	schema, err := jsonschema.NewCompiler().Compile(filepath.Join(toolchain.Root(), "docs/comparison.schema.json"))
	require.NoError(t, err)
	dir := ferryProject(t)
	config, err := os.ReadFile(filepath.Join(dir, "faithful.toml"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "faithful.toml"),
		append(config, "\n[promise]\ncompared_with = \"every\"\n[[waiver]]\nchange = \"field-gone\"\nwhere = "+
			"\"skerry.booking.Booking.ticket\"\nreason = \"nobody has one\"\n"...), 0o666))
	file := filepath.Join(dir, "definitions/booking.faithful")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	change := func(pairs ...string) {
		text = []byte(strings.NewReplacer(pairs...).Replace(string(text)))
		require.NoError(t, os.WriteFile(file, text, 0o666))
	}
	require.NoError(t, toolchain.Faithful(t, dir, "seal").Run())
	change("#2 metres float64", "#2 metres int32")
	require.NoError(t, toolchain.Faithful(t, dir, "seal", "2.0.0").Run())
	change("  #11 ticket     bytes?\n", "", "#10 email ", "#10 mail ", "= held", "= paid", "length 2..12", "length 2..20")
	for _, args := range [][]string{{"compare"}, {"compare", "1.0.0", "draft"}, {"compare", "--fix"},
		{"compare", "1.0.0", "latest"}} {
		output, _ := toolchain.Faithful(t, dir, append(args, "--as", "json")...).Output() // exits 1 on breaks
		document, err := jsonschema.UnmarshalJSON(bytes.NewReader(output))
		require.NoError(t, err, "%s", output)
		require.NoError(t, schema.Validate(document), "%v", args)
		if len(args) == 1 {
			assert.Len(t, at(document, "others"), 1)
			assert.Positive(t, number(at(document, "counts", "waived")))
		}
		if len(args) == 2 {
			assert.Len(t, at(document, "fixed"), 2)
		}
	}
	wrong, err := jsonschema.UnmarshalJSON(strings.NewReader(`{"old":"1.0.0","new":"draft","verdict":"fine","needs":"","changes":[],"counts":{},"others":[],"fixed":[]}`))
	require.NoError(t, err)
	require.Error(t, schema.Validate(wrong))
}

// at goes down into a JSON document.
func at(document any, way ...any) any {
	for _, step := range way {
		switch step := step.(type) {
		case string:
			document = document.(map[string]any)[step]
		case int:
			document = document.([]any)[step]
		}
	}
	return document
}

func number(v any) int {
	n, _ := v.(interface{ Int64() (int64, error) }).Int64()
	return int(n)
}
