package pattern

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/toolchain"
)

func TestRefused(t *testing.T) {
	for text, want := range map[string]string{
		`a.b`: "the dot", `\s`: "white space", `\bword`: "what a word is", `\p{L}`: "Unicode", `(a)\1`: "reference",
		`(?=a)`: "ahead", `(?!a)`: "ahead", `(?<=a)`: "behind", `(?<n>a)`: "named group",
		`(?P<n>a)`: "named group", `(?i)a`: "flag", `(?>a)`: "atomic", `a*?`: "lazy", `a++`: "possessive",
		`a**`: "repeat of a repeat", `a{2}{3}`: "repeat of a repeat", `*a`: "repeats nothing", `^*`: "anchor",
		`a{,3}`: "lower limit", `a{3,2}`: "in the wrong order", `a{1001}`: "over 1000", `(a{100}){100}`: "together",
		`a{x}`: "on its own", `{`: "on its own", `a}`: "on its own", `]`: "on its own", `[`: "never closed",
		`[]`: "empty class", `[^]`: "empty class", `[b-a]`: "in the wrong order", `[a-\d]`: "class at its end",
		`[[a]]`: "class inside", `[a&&b]`: "operation", `[a^]`: "a ^", `[a-c-e]`: "a -", `(a`: "never closed",
		`a)`: "closes nothing",
		`\`:  "at the end", `\q`: `escape \q`, `\x4`: "hexadecimal", `\u0041`: "escape", `\A`: "anchor", `\0`: "escape",
		strings.Repeat("(", 200): "nested",
	} {
		_, problem := Parse(text)
		if assert.NotNil(t, problem, text) {
			assert.Contains(t, problem.Message, want, text)
			assert.LessOrEqual(t, problem.Start, problem.End)
			assert.LessOrEqual(t, problem.End, len(text))
		}
	}
}

func TestTakenPatternsCompile(t *testing.T) {
	for _, text := range []string{"", "^[A-Z]{3}-[0-9]{4}$", `^\d+(?:\.\d{1,2})?$`, `a|b|`, `()`, `[-a]`, `[a-]`,
		`[\]\\\-\^]`, `[^a-z0-9]`, `\$\^\.\*\+\?\(\)\[\]\{\}\|\\`, `\x41\n\t`, "ærø|🚢", `(a{10}){100}`} {
		node, problem := Parse(text)
		require.Nil(t, problem, "%s: %v", text, problem)
		matcher, err := Compile(text)
		require.NoError(t, err)
		if !strings.ContainsAny(text, "^$") || node.Bounded() {
			assert.True(t, matcher.MatchString(node.Shortest()), "%s: %q", text, node.Shortest())
		}
	}
	for text, want := range map[string]bool{"^a$": true, "a": false, "^a": false, "^a*$": false, "^(a|b){2}$": true,
		"^a$|^b$": true, "^a$|b": false} {
		node, _ := Parse(text)
		assert.Equal(t, want, node.Bounded(), text)
	}
}

// random writes a pattern out of what Parse may take.
func random(rng *rand.Rand, depth int) string {
	atoms := []string{"a", "b", "Z", "0", "7", "-", "_", " ", "é", "ß", "🚢", `\.`, `\d`, `\D`, `\w`, `\W`, `\n`, `\\`,
		"[a-c]", "[^a]", `[\d-]`, `[^\w]`, "[é-ü]", `\x41`, "/", "^", "$"}
	text := ""
	for range 1 + rng.IntN(3) {
		atom := atoms[rng.IntN(len(atoms))]
		if depth > 0 && rng.IntN(3) == 0 {
			atom = []string{"(", "(?:"}[rng.IntN(2)] + random(rng, depth-1) + ")"
		}
		if atom != "^" && atom != "$" {
			atom += []string{"", "", "", "*", "+", "?", "{2}", "{0,2}", "{1,}"}[rng.IntN(9)]
		}
		text += atom
	}
	if rng.IntN(4) == 0 {
		text += "|" + random(rng, 0)
	}
	return text
}

// question is a pattern and texts; each language answers which it matches.
type question struct {
	Pattern string   `json:"pattern"`
	Texts   []string `json:"texts"`
}

// readers are programs that answer a file of questions with one line of 0 and
// 1 each. In Python "$" is written \Z: its own also stands before a last line
// break.
var readers = []struct{ language, program, name, text string }{
	{"typescript", "node", "match.mjs", `
import { readFileSync } from "node:fs";
for (const q of JSON.parse(readFileSync(process.argv[2], "utf8"))) {
  const pattern = new RegExp(q.pattern, "u");
  console.log(q.texts.map((t) => (pattern.test(t) ? 1 : 0)).join(""));
}`},
	{"python", "python3", "match.py", `
import json, re, sys
for q in json.load(open(sys.argv[1], encoding="utf-8")):
    text, escaped = "", False
    for c in q["pattern"]:
        text += "\\Z" if c == "$" and not escaped else c
        escaped = c == "\\" and not escaped
    pattern = re.compile(text, re.ASCII)
    print("".join("1" if pattern.search(t) else "0" for t in q["texts"]))
`},
}

// TestLanguagesReadPatternsAlike asks the regular expressions of other
// languages about random patterns that Parse takes.
func TestLanguagesReadPatternsAlike(t *testing.T) {
	rng := rand.New(rand.NewPCG(20, 26))
	letters := []rune("aabbZ07-_ éßü🚢.\\\n\r\u2028Aé/x")
	var questions []question
	var want []string
	for len(questions) < 2000 {
		text := random(rng, 2)
		if _, problem := Parse(text); problem != nil {
			continue
		}
		matcher, err := Compile(text)
		require.NoError(t, err, text)
		q := question{Pattern: text, Texts: []string{"", "a", "a\n"}}
		for range 12 {
			s := make([]rune, rng.IntN(5))
			for i := range s {
				s[i] = letters[rng.IntN(len(letters))]
			}
			q.Texts = append(q.Texts, string(s))
		}
		answer := ""
		for _, s := range q.Texts {
			answer += map[bool]string{true: "1", false: "0"}[matcher.MatchString(s)]
		}
		questions, want = append(questions, q), append(want, answer)
	}
	dir := t.TempDir()
	data, err := json.Marshal(questions)
	require.NoError(t, err)
	file := filepath.Join(dir, "questions.json")
	require.NoError(t, os.WriteFile(file, data, 0o666))
	for _, r := range readers {
		t.Run(r.language, func(t *testing.T) {
			toolchain.Require(t, r.language)
			program := filepath.Join(dir, r.name)
			require.NoError(t, os.WriteFile(program, []byte(r.text), 0o666))
			output, err := exec.Command(r.program, program, file).CombinedOutput()
			require.NoError(t, err, "%s", output)
			got := strings.Fields(string(output))
			require.Len(t, got, len(want))
			for i := range want {
				assert.Equal(t, want[i], got[i], "%s on %q", questions[i].Pattern, questions[i].Texts)
			}
		})
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"^[A-Z]{3}$", `(a|b)*\d`, "[^a-z", `\`, "a{1,2}"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if node, problem := Parse(text); problem == nil {
			_, err := Compile(text)
			if node.Size() <= 1000 {
				require.NoError(t, err, "small patterns compile")
			}
			if err != nil && !strings.Contains(err.Error(), "too large") && !strings.Contains(err.Error(), "nesting") {
				require.NoError(t, err, "what Parse takes compiles")
			}
		} else {
			require.LessOrEqual(t, problem.Start, problem.End)
			require.LessOrEqual(t, problem.End, len(text))
		}
	})
}
