package pattern

import (
	"math/rand/v2"
	"regexp"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func automaton(t *testing.T, patterns ...string) *Automaton {
	t.Helper()
	var nodes []*Node
	for _, p := range patterns {
		n, problem := Parse(p)
		require.Nil(t, problem, p)
		nodes = append(nodes, n)
	}
	return NewAutomaton(nodes...)
}

// What an automaton makes is held against the standard library.
func TestTextsMatch(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for _, patterns := range [][]string{
		{"^[A-Z]{3}-[0-9]{4}$"}, {"a"}, {"^a"}, {"b$"}, {"^(ab|cd)*$"}, {"^$"}, {"(^a|b$)x?"}, {"[^a-z]"}, {`^[é-ü]{2}$`},
		{"^[a-z]+$", "e"}, {"^[a-z]+$", "x{3}", "^[^ ]{10}$"}, {"^(?:x|yy)+$", "^(?:xy|y)+$"}, {`\d{2}`, `[a-c]$`},
		{"(^|x)(a|$)"},
	} {
		a := automaton(t, patterns...)
		seen := map[string]bool{}
		for range 50 {
			text, ok, err := a.Text(0, 40, rng.IntN)
			require.NoError(t, err)
			require.True(t, ok, patterns)
			seen[text] = true
			for _, p := range patterns {
				require.Regexp(t, regexp.MustCompile(p), text)
			}
		}
		if patterns[0] != "^$" {
			assert.Greater(t, len(seen), 2, "%q varies", patterns)
		}
	}
}

func TestLengthsAndContradictions(t *testing.T) {
	first := func(int) int { return 0 }
	for _, c := range []struct {
		patterns  []string
		low, high uint64
		want      int // code points, -1 for none
	}{
		{[]string{"^[a-z]*$"}, 0, 9, 0},
		{[]string{"^[a-z]*$"}, 7, 9, 7},
		{[]string{"^[A-Z]{3}-[0-9]{4}$"}, 0, 7, -1},
		{[]string{"^[A-Z]{3}-[0-9]{4}$"}, 8, 8, 8},
		{[]string{"^[A-Z]{3}-[0-9]{4}$"}, 9, 1 << 62, -1},
		{[]string{"^(aa)+$"}, 3, 3, -1},
		{[]string{"^(aa)+$"}, 3, 9, 4},
		{[]string{"^[a-m]+$", "^[n-z]+$"}, 0, 1 << 62, -1},
		{[]string{"^[a-m]*$", "^[n-z]*$"}, 0, 5, 0},
		{[]string{"a$b"}, 0, 1 << 62, -1},
		{[]string{"x"}, 300, 400, 300},
	} {
		text, ok, err := automaton(t, c.patterns...).Text(c.low, c.high, first)
		require.NoError(t, err, c.patterns)
		require.Equal(t, c.want >= 0, ok, "%q gave %q", c.patterns, text)
		if ok {
			assert.Equal(t, c.want, utf8.RuneCountInString(text), c.patterns)
		}
	}
}

func TestDifferences(t *testing.T) {
	first := func(int) int { return 0 }
	node := func(p string) []*Node {
		if p == "" {
			return nil
		}
		n, problem := Parse(p)
		require.Nil(t, problem)
		return []*Node{n}
	}
	for _, c := range []struct{ with, without, want string }{
		{"^[A-Z]{3}$", "^[A-Z]{3,4}$", ""}, {"^[A-Z]{3,4}$", "^[A-Z]{3}$", "AAAA"}, {"^[a-z]+$", "^[a-y]+$", "z"},
		{"", "a", "-"}, {"^a*$", "^(aa)*$", "a"},
		{"^(a|b)*$", "^(a*b*)*$", ""}, {"^a$", "a", ""}, {"a", "^a$", "ba"}, {"^$", "^$", ""}, {"^$", "x", "empty"},
	} {
		text, ok, err := Difference(node(c.with), node(c.without)).Text(0, 1<<62, first)
		require.NoError(t, err)
		if c.want == "" {
			assert.False(t, ok, "%q without %q gave %q", c.with, c.without, text)
			continue
		}
		require.True(t, ok, "%q without %q", c.with, c.without)
		if c.want != "empty" && c.want != "-" {
			assert.Equal(t, c.want, text, "%q without %q", c.with, c.without)
		}
		assert.NotRegexp(t, c.without, text)
	}
}
