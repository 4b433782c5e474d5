package pattern

import (
	"context"
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ambiguous are patterns, and whether an engine that backtracks takes exponential time for
// them, or polynomial.
var ambiguous = map[string]string{
	`^([a-z]+)*@[a-z]+$`: "exponential", `^(a*)*$`: "exponential", `^(a|a)*$`: "exponential",
	`^(a|ab|b)*$`: "exponential", `^([a-z]{1,20}){1,20}$`: "exponential",
	`^(([a-z0-9])+[.]?)+$`: "exponential", `^(\d+|[0-9a-f]+)*$`: "exponential", `^(x+x+)+y$`: "exponential",
	`^((ab)*(ab)*)*$`: "exponential", `^(a?){30}a{30}$`: "exponential", `^([a-z]+){10}$`: "exponential",
	`^([A-Z][a-z]+){10}$`: "",
	`^[a-z]+[a-z0-9]*$`:   "polynomial", `^a*a*$`: "polynomial", `[a-z]+$`: "polynomial",
	`^[0-9]+[0-9]+[0-9]+$`: "polynomial", `^\w+[a-z]{0,40}$`: "polynomial",
	`^[A-Z]{3}-[0-9]{4}$`: "", `^([a-z]+-)*[a-z]+$`: "", `^(a|b)*$`: "", `^[a-z][a-z0-9]*(_[a-z0-9]+)*$`: "",
	`^[^@]+@[^@]+$`: "", `^(ab|ac)*$`: "",
	`^[a-z]+@[a-z]+(\.[a-z]+)+$`: "", `^(a{20})*$`: "", `^$`: "",
}

func TestAmbiguity(t *testing.T) {
	for text, want := range ambiguous {
		n, problem := Parse(text)
		require.Nil(t, problem, text)
		start := time.Now()
		ambiguousText, exponential := n.Exponential()
		got := ""
		if exponential {
			got = "exponential"
			assert.NotEmpty(t, ambiguousText, text)
		} else if n.Polynomial() {
			got = "polynomial"
		}
		assert.Equal(t, want, got, text)
		assert.Less(t, time.Since(start), 2*time.Second, text)
	}
}

// TestEnginesAgree has an engine that backtracks match what is said to take long, and what
// is not.
func TestEnginesAgree(t *testing.T) {
	python, err := exec.LookPath("python3")
	if err != nil || testing.Short() {
		t.Skip("skipped: it takes long, or there is no python3")
	}
	// The engine's own processor time counts, not the clock: a busy machine starts it late.
	const program = `import re, resource, sys
resource.setrlimit(resource.RLIMIT_CPU, (2, 2))
began = sum(resource.getrusage(resource.RUSAGE_SELF)[:2])
re.search(sys.argv[1], sys.argv[2])
print(sum(resource.getrusage(resource.RUSAGE_SELF)[:2]) - began < 1)`
	takes := func(pattern, text string) bool {
		ctx, stop := context.WithTimeout(t.Context(), 2*time.Minute)
		defer stop()
		out, err := exec.CommandContext(ctx, python, "-c", program, pattern, text).Output()
		if err == nil {
			return strings.TrimSpace(string(out)) != "True"
		}
		require.NoError(t, ctx.Err(), "python3 came to no end")
		var ended *exec.ExitError
		require.ErrorAs(t, err, &ended)
		require.Equal(t, -1, ended.ExitCode(), "only a signal ends it early: %s", ended.Stderr)
		return true
	}
	slow := 0
	for text := range ambiguous {
		n, problem := Parse(text)
		require.Nil(t, problem, text)
		again, exponential := n.Exponential()
		if exponential && takes(text, strings.Repeat(again, 40)+"!") {
			slow++
		}
		if !exponential {
			for _, piece := range []string{"a", "ab", "0-"} {
				assert.False(t, takes(text, strings.Repeat(piece, 100)+"!"), fmt.Sprintf("%s, %s", text, piece))
			}
		}
	}
	assert.GreaterOrEqual(t, slow, 6, "what is refused must be seen to be slow")
}
