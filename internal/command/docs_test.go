package command

import (
	"bytes"
	"flag"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/advice"
	"faithfulcourier/internal/check"
	"faithfulcourier/internal/compare"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
	"faithfulcourier/internal/toolchain"
	"faithfulcourier/internal/value"
)

var update = flag.Bool("update", false, "write the generated parts of docs/")

// TestDocumentedSessions runs every console block of README and guide, in
// order, and holds the output against what is printed there. "…" stands for
// anything.
func TestDocumentedSessions(t *testing.T) {
	toolchain.Require(t, "typescript")
	for _, page := range []string{"README.md", "docs/guide.md", "docs/http.md", "docs/calling.md", "docs/manual.md",
		"docs/parcels.md"} {
		t.Run(page, func(t *testing.T) {
			text, err := os.ReadFile(filepath.Join(toolchain.Root(), page))
			require.NoError(t, err)
			document := string(text)
			for _, port := range []string{"8080", "8081", "7150", "7151"} {
				document = strings.ReplaceAll(document, port, freePort(t))
			}
			sessions(t, document)
		})
	}
}

func freePort(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	return port
}

// sessions runs the commands of all console blocks in one shell.
func sessions(t *testing.T, document string) {
	type exchange struct{ command, output string }
	var exchanges []exchange
	for _, block := range regexp.MustCompile("(?s)```console\n(.*?)```").FindAllStringSubmatch(document, -1) {
		heredoc := false
		for line := range strings.SplitSeq(strings.TrimSuffix(block[1], "\n"), "\n") {
			last := len(exchanges) - 1
			switch {
			case heredoc:
				exchanges[last].command += "\n" + line
				heredoc = line != "END"
			case strings.HasPrefix(line, "$ "):
				exchanges = append(exchanges, exchange{command: line[2:]})
				heredoc = strings.HasSuffix(line, "<<'END'")
			default:
				require.GreaterOrEqual(t, last, 0, "output before the first command: %s", line)
				exchanges[last].output += line + "\n"
			}
		}
	}
	require.NotEmpty(t, exchanges)
	const mark = "-- next --"
	var script strings.Builder
	script.WriteString("trap 'kill $(jobs -p) 2>/dev/null' EXIT\n")
	for _, e := range exchanges {
		fmt.Fprintf(&script, "%s\necho '%s'\n", e.command, mark)
	}
	shell := exec.Command("bash")
	shell.Dir = toolchain.Root()
	shell.Stdin = strings.NewReader(script.String())
	bin := t.TempDir()
	shell.Env = append(os.Environ(), "GOBIN="+bin,
		"PATH="+bin+":"+filepath.Dir(toolchain.Program(t))+":"+os.Getenv("PATH"), "TMPDIR="+t.TempDir(), "NO_COLOR=1",
		"npm_config_loglevel=silent")
	var output, errors bytes.Buffer
	shell.Stdout, shell.Stderr = &output, &errors
	require.NoError(t, shell.Run(), "%s%s", &output, &errors)
	parts := strings.Split(output.String(), mark+"\n")
	require.Len(t, parts, len(exchanges)+1)
	for i, e := range exchanges {
		pattern := regexp.QuoteMeta(strings.TrimSuffix(e.output, "\n"))
		if lines, ok := strings.CutSuffix(pattern, "\n…"); ok {
			pattern = lines + "(?:\n.*)*"
		}
		pattern = strings.ReplaceAll(pattern, "…", ".*")
		assert.Regexp(t, "^"+pattern+"$", strings.TrimSuffix(parts[i], "\n"), "$ %s\nstandard error: %s", e.command, &errors)
	}
}

// generated replaces what stands between two marks of a page, or holds it
// against what should stand there.
func generated(t *testing.T, page, content string) {
	path := filepath.Join(toolchain.Root(), "docs", page)
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	const begin, end = "<!-- generated -->\n", "<!-- end -->\n"
	before, rest, ok := strings.Cut(string(text), begin)
	require.True(t, ok, "%s has no %s", page, begin)
	_, after, ok := strings.Cut(rest, end)
	require.True(t, ok, "%s has no %s", page, end)
	want := before + begin + "\n" + content + "\n" + end + after
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(want), 0o666))
		return
	}
	assert.Equal(t, want, string(text), "docs/%s is out of date: go test ./internal/command -run Pages -update", page)
}

// replaced are words that our docs say with another one, which stands for one thing everywhere.
var replaced = regexp.MustCompile(`(?i)\b(unknown|contracts?|witness(es)?|facts?|diffs?|frames?|beats?|backwards?|forwards?|` +
	`findings?|forms?|kept|mend(s|ed|ing)?|shifts|witnessed|parted|beside)\b`)

// inPlace are where one of them is a name of HTTP's problems, or a word of TypeScript.
var inPlace = strings.NewReplacer("unknown-call", "", "unsupported-form", "", "unsupported form", "",
	"const typed: unknown", "", "fieldOf(form,", "")

// TestWords looks for words in the docs that are said with another one.
func TestWords(t *testing.T) {
	pages, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	require.NotEmpty(t, pages)
	for _, page := range append(pages, "../../README.md") {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for i, line := range strings.Split(string(text), "\n") {
			assert.Empty(t, replaced.FindString(inPlace.Replace(line)), "%s:%d: %s", page, i+1, line)
		}
	}
}

// TestPages holds the generated parts of docs/ against what they are made of.
func TestPages(t *testing.T) {
	t.Run("commands", func(t *testing.T) {
		var b strings.Builder
		var links []string
		for _, c := range all() {
			links = append(links, fmt.Sprintf("[%s](#%s)", c.name, c.name))
			flags := flag.NewFlagSet(c.name, flag.ContinueOnError)
			c.prepare(flags)
			var help bytes.Buffer
			c.help(report.New(&help, report.Plain), flags)
			fmt.Fprintf(&b, "## %s\n\n```text\n%s```\n\n", c.name, &help)
		}
		generated(t, "commands.md", strings.Join(links, " ·\n")+"\n\n"+strings.TrimSpace(b.String())+"\n")
	})
	t.Run("advice", func(t *testing.T) {
		table := "| | why |\n|---|---|\n"
		for _, r := range advice.Rules {
			table += fmt.Sprintf("| `%s` | %s |\n", r.Name, r.Why)
		}
		generated(t, "language.md", table)
	})
	t.Run("manual", func(t *testing.T) {
		ferry := filepath.Join(toolchain.Root(), "examples", "ferry")
		defs, findings, err := project.Load(ferry, "draft")
		require.NoError(t, err)
		require.Empty(t, findings)
		calling, err := callingFor(ferry, callingOf(t.Context(), defs, exampleServer), exampleServer)
		require.NoError(t, err)
		var b strings.Builder
		for _, c := range defs.Calls() {
			if c.FullName() != "skerry.quay.Quay.post" {
				continue
			}
			example, err := value.EncodeJSON(value.Example(defs, c.Request))
			require.NoError(t, err)
			for _, program := range calling.Code(c, nil, example) {
				fmt.Fprintf(&b, "%s:\n\n```%s\n%s```\n\n", program.As, strings.ToLower(program.As[len("In "):]), program.Text)
			}
		}
		generated(t, "manual.md", strings.TrimSpace(b.String())+"\n")
	})
	t.Run("compatibility", func(t *testing.T) { generated(t, "compatibility-tables.md", compatibilityTable(t)) })
}

// shownChanges are one change for each row of the table.
var shownChanges = []struct{ what, old, new string }{
	{"optional field added", "", "#9 added text?"},
	{"defaulted field added", "", "#9 added text = \"\""},
	{"required field added", "", "#9 added text"},
	{"optional field gone", "#2 optional text?", ""},
	{"defaulted field gone", "#3 defaulted int32 = 1", ""},
	{"required field gone", "#1 required int32", ""},
	{"field renamed", "#1 required int32", "#1 renamed int32"},
	{"field renumbered", "#1 required int32", "#9 required int32"},
	{"required → optional", "#1 required int32", "#1 required int32?"},
	{"required → defaulted", "#1 required int32", "#1 required int32 = 0"},
	{"optional → required", "#2 optional text?", "#2 optional text"},
	{"optional → defaulted", "#2 optional text?", "#2 optional text = \"\""},
	{"defaulted → required", "#3 defaulted int32 = 1", "#3 defaulted int32"},
	{"defaulted → optional", "#3 defaulted int32 = 1", "#3 defaulted int32?"},
	{"default changed", "#3 defaulted int32 = 1", "#3 defaulted int32 = 2"},
	{"int32 → int64", "#1 required int32", "#1 required int64"},
	{"int32 → uint32", "#1 required int32", "#1 required uint32"},
	{"int64 → int32", "#4 large int64", "#4 large int32"},
	{"int32 → float64", "#1 required int32", "#1 required float64"},
	{"int32 → float32", "#1 required int32", "#1 required float32"},
	{"int32 → text", "#1 required int32", "#1 required text"},
	{"T → [T]", "#1 required int32", "#1 required [int32]"},
	{"member added", "#1 two", "#1 two #2 three"},
	{"member gone", "#1 two", ""},
	{"member renamed", "#1 two", "#1 zwei"},
	{"member renumbered", "#1 two", "#7 two"},
	{"enum → int32", "#5 member Numbers", "#5 member int32"},
	{"bounds put on", "#1 required int32", "#1 required int32 where 1..9"},
	{"bounds tightened", "#6 limited text where length 1..9", "#6 limited text where length 1..5"},
	{"bounds loosened", "#6 limited text where length 1..9", "#6 limited text where length 1..20"},
	{"bounds taken off", "#6 limited text where length 1..9", "#6 limited text"},
	{"name in JSON put on", "#1 required int32", "#1 required int32 json \"other\""},
	{"pattern narrowed", "pattern \"^[a-z]+$\"", "pattern \"^[a-y]+$\""},
	{"pattern widened", "pattern \"^[a-z]+$\"", "pattern \"^[a-z0-9]+$\""},
	{"named type put on", "#1 required int32", "#1 required Place"},
	{"named type taken off", "#7 place Place", "#7 place int32"},
	{"bounds of a named type tightened", "where 1..40", "where 1..20"},
	{"bounds of a named type loosened", "where 1..40", "where 1..60"},
	{"named type over another", "type Place = int32 where 1..40", "type Place = text"},
	{"alternative added", "#2 road int32", "#2 road int32 #3 air text"},
	{"alternative gone", "#2 road int32", ""},
	{"alternative renamed", "#2 road int32", "#2 land int32"},
	{"alternative renumbered", "#2 road int32", "#7 road int32"},
	{"type of an alternative changed", "#2 road int32", "#2 road text"},
}

const shownDefinitions = `module table
enum Numbers { #0 one #1 two }
type Place = int32 where 1..40
union Way { #1 sea text #2 road int32 }
message Message { #1 required int32 #2 optional text? #3 defaulted int32 = 1 #4 large int64 #5 member Numbers #6 limited text where length 1..9 #7 place Place #8 way Way #10 word text where pattern "^[a-z]+$" }
service Service { call call(Message) -> Message }
`

func compatibilityTable(t *testing.T) string {
	load := func(text string) *schema.Definitions {
		defs, findings := check.Load([]*source.File{source.NewFile("table.faithful", text)})
		require.Empty(t, findings, text)
		return defs
	}
	var b strings.Builder
	b.WriteString("| change | request: new reads old | request: old reads new | answer: new reads old | answer: old " +
		"reads new |")
	for _, l := range languages {
		b.WriteString(" " + l.Title() + " |")
	}
	b.WriteString("\n|" + strings.Repeat("---|", 5+len(languages)) + "\n")
	old := load(shownDefinitions)
	for _, c := range shownChanges {
		text := strings.Replace(shownDefinitions, c.old, c.new, 1)
		if c.old == "" {
			text = strings.Replace(shownDefinitions, "#5 member Numbers", "#5 member Numbers "+c.new, 1)
		}
		r := compare.Compare(old, load(text), compare.Promise{Rollout: "unordered", Stored: "each-reads-other",
			Covers: []string{"binary", "json"}, Languages: languages})
		row := []string{c.what}
		for _, p := range []verdict.Position{verdict.Request, verdict.Answer} {
			for _, newReads := range []bool{true, false} {
				binary := worst(r, "binary", p, newReads)
				json := worst(r, "json", p, newReads)
				cell := binary.String()
				if binary != json {
					cell = fmt.Sprintf("%s, in JSON %s", binary, json)
				}
				row = append(row, cell)
			}
		}
		for _, l := range languages {
			row = append(row, worst(r, l.Name(), verdict.Code, true).String())
		}
		for i := range row[1:] {
			row[i+1] = strings.ReplaceAll(row[i+1], "breaking", "**breaking**")
		}
		fmt.Fprintf(&b, "| %s |\n", strings.Join(row, " | "))
	}
	b.WriteString("\nEvery kind of change, and why it matters (`faithful compare --why KIND`):\n\n| change | " +
		"payloads and calls | code |\n|---|---|---|\n")
	for _, k := range compare.Whys() {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", k.Kind, k.Wire, k.Code)
	}
	return b.String()
}

func worst(r *compare.Report, covers string, p verdict.Position, newReads bool) verdict.Verdict {
	worst := verdict.Compatible
	for _, f := range r.Changes {
		for _, e := range f.Effects {
			if e.Covers == covers && e.Position == p && e.NewReads == newReads {
				worst = max(worst, e.Verdict)
			}
		}
	}
	return worst
}

// TestDocumentedDefinitions checks every definition file in docs/.
func TestDocumentedDefinitions(t *testing.T) {
	pages, err := filepath.Glob(filepath.Join(toolchain.Root(), "docs", "*.md"))
	require.NoError(t, err)
	count := 0
	for _, page := range pages {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, block := range strings.Split(string(text), "```faithful\n")[1:] {
			definitions, _, _ := strings.Cut(block, "```")
			_, findings := check.Load([]*source.File{source.NewFile(filepath.Base(page), definitions)})
			assert.Zero(t, source.Errors(findings), "%v", findings)
			tidied, _ := syntax.Tidy(source.NewFile("", definitions))
			assert.Equal(t, tidied, definitions, "it is laid out as tidy does")
			count++
		}
	}
	assert.Positive(t, count)
}

// TestShownDefinitionsFitTheirSchema holds show --as json against the JSON
// Schema in docs/.
func TestShownDefinitionsFitTheirSchema(t *testing.T) {
	compiled, err := jsonschema.NewCompiler().Compile(filepath.Join(toolchain.Root(), "docs/definitions.schema.json"))
	require.NoError(t, err)
	for _, project := range []string{"examples/ferry", "conformance"} {
		output, err := toolchain.Faithful(t, filepath.Join(toolchain.Root(), project), "show", "--as", "json").Output()
		require.NoError(t, err)
		document, err := jsonschema.UnmarshalJSON(bytes.NewReader(output))
		require.NoError(t, err)
		require.NoError(t, compiled.Validate(document))
	}
	wrong, err := jsonschema.UnmarshalJSON(strings.NewReader(`{"digest":"x","modules":[]}`))
	require.NoError(t, err)
	require.Error(t, compiled.Validate(wrong), "the schema refuses what is wrong")
}

// TestPackageCommentsNameFilesThatExist reads what packages say of their files.
func TestPackageCommentsNameFilesThatExist(t *testing.T) {
	name := regexp.MustCompile(`\b[a-z][a-z0-9_]*\.go\b`)
	named := 0
	err := filepath.WalkDir(filepath.Join(toolchain.Root(), "internal"),
		func(path string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			text, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			head, _, _ := strings.Cut("\n"+string(text), "\npackage ")
			for _, file := range name.FindAllString(head, -1) {
				named++
				_, err := os.Stat(filepath.Join(filepath.Dir(path), file))
				assert.NoError(t, err, "%s names %s", path, file)
			}
			return nil
		})
	require.NoError(t, err)
	assert.NotZero(t, named)
}
