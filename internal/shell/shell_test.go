package shell

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestShellsReadWords has real shells say what they read.
func TestShellsReadWords(t *testing.T) {
	texts := []string{"", "plain-1.4.0", "two words", "it's", `"$(id)"`, "`id`", "$HOME", "a\\b", "~", "*", "!x", "-n",
		"#no", "a;b|c&d>e<f(g){h}[i]?",
		"ümläut", "line\nbreak", "tab\tand\x1b[31mred", "\x01" + "23", "\xff\xfe1", "\u0085\u009b", "'\n'", `\n` + "\n",
		"{a,b}"}
	shells := 0
	for _, name := range []string{"sh", "bash", "zsh"} {
		path, err := exec.LookPath(name)
		if err != nil {
			continue
		}
		shells++
		for _, text := range texts {
			word := Word(text)
			if name == "sh" && word[0] == '$' {
				continue // of 2024: not every sh is
			}
			out, err := exec.Command(path, "-c", "printf '%s|' "+word+" end").Output()
			require.NoError(t, err, "%s: %s", name, word)
			assert.Equal(t, text+"|end|", string(out), "%s: %s", name, word)
		}
	}
	require.Positive(t, shells)
	assert.Equal(t, "1.4.0", Word("1.4.0"))
	assert.Equal(t, "'1.4.0'", Quoted("1.4.0"))
}
