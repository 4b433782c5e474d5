package schema

import (
	"fmt"
	"go/format"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
	"faithfulcourier/internal/toolchain"
)

// someDefinitions are of the kind that the ferry's are; X is a number.
const someDefinitions = `
/// How many people one booking may hold.
const LARGEST_PARTY_X int32 = 12

/// Where somebody stands.
enum DeckX {
  #0 unassigned
  /// Under the sky.
  #1 open
  #2 car
  retired #4 "cargo"
}

message PassengerX {
  #1 name text
  #2 born instant?
  /// Bring a wheelchair to the gangway.
  #3 needs_help bool = false
}

/// A place on a crossing. // for one party
message BookingX {
  #1 id         uuid
  #2 sailing    text
  #3 passengers [PassengerX]
  #4 fare       float64?
  #5 made_at    instant
  #6 deck       DeckX = unassigned
  #7 extras     {text: int64}
  #8 seats      int32 = LARGEST_PARTY_X
  #9 email      text?
  retired #12 "coupon"
}

/// There are not as many seats as were asked for.
error SailingFullX 409 {
  #1 seats_left int32
}

/// Sailings and who goes on them.
service BookingsX {
  /// Books a crossing.
  call book(BookingX) -> BookingX
    fails SailingFullX

  call cancel(BookingX) -> ()
    safe
}
`

// largeDefinitions is one file of about a size.
func largeDefinitions(size int) string {
	var b strings.Builder
	b.WriteString("module m\n")
	for i := 0; b.Len() < size; i++ {
		b.WriteString(strings.ReplaceAll(someDefinitions, "X", fmt.Sprint(i)))
	}
	return b.String()
}

// goSource is Go source of about a size: files of the standard library.
func goSource(t testing.TB, size int) []string {
	root, err := exec.Command("go", "env", "GOROOT").Output()
	require.NoError(t, err)
	paths, err := filepath.Glob(filepath.Join(strings.TrimSpace(string(root)), "src/net/http/*.go"))
	require.NoError(t, err)
	var texts []string
	total := 0
	for _, path := range paths {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		texts = append(texts, string(text))
		if total += len(text); total >= size {
			return texts
		}
	}
	t.Skip("skipped: this Go installation has no source of net/http")
	return nil
}

const frontEndSize = 1 << 20

// tenModules are about as large as largeDefinitions, in ten files.
func tenModules(size int) []string {
	var texts []string
	for i := range 10 {
		texts = append(texts, strings.Replace(largeDefinitions(size/10), "module m\n", fmt.Sprintf("module m%d\n", i), 1))
	}
	return texts
}

func frontEnd(t testing.TB, texts ...string) {
	var files []*source.File
	for i, text := range texts {
		files = append(files, source.NewFile(fmt.Sprintf("%d.faithful", i), text))
	}
	_, findings := loadFiles(files)
	if len(findings) > 0 {
		t.Fatal(findings[0].Message)
	}
}

func goParser(t testing.TB, texts []string) (size int) {
	for _, text := range texts {
		size += len(text)
		if _, err := parser.ParseFile(token.NewFileSet(), "", text, parser.ParseComments); err != nil {
			t.Fatal(err)
		}
	}
	return size
}

// TestFrontEndIsFast holds the front end (read, parse, resolve, check) against
// go/parser, which only parses, and tidy against go/format, in the same run.
func TestFrontEndIsFast(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: -short leaves out measuring")
	}
	text, texts := largeDefinitions(frontEndSize), goSource(t, frontEndSize)
	atLeast := func(least float64) func(float64) bool { return func(r float64) bool { return r >= least } }
	ratio := toolchain.Measured(atLeast(1), func() float64 {
		return medianRatio(9, func() int { frontEnd(t, text); return len(text) }, func() int { return goParser(t, texts) })
	})
	t.Logf("the front end reads %.1f times the bytes a second of go/parser", ratio)
	assert.GreaterOrEqual(t, ratio, 1.0, "the front end is slower than go/parser")
	if many := tenModules(frontEndSize); runtime.GOMAXPROCS(0) > 1 {
		ratio = toolchain.Measured(atLeast(2), func() float64 {
			return medianRatio(9, func() int { frontEnd(t, many...); return len(strings.Join(many, "")) },
				func() int { return goParser(t, texts) })
		})
		t.Logf("of ten files, on all cores, it reads %.1f times the bytes a second of go/parser", ratio)
		assert.GreaterOrEqual(t, ratio, 1.1, "of many files the front end is slower than go/parser")
	}

	ratio = toolchain.Measured(atLeast(2), func() float64 {
		return medianRatio(7, func() int {
			_, findings := syntax.Tidy(source.NewFile("large.faithful", text))
			require.Empty(t, findings)
			return len(text)
		}, func() int {
			size := 0
			for _, goText := range texts {
				size += len(goText)
				_, err := format.Source([]byte(goText))
				require.NoError(t, err)
			}
			return size
		})
	})
	t.Logf("tidy lays out %.1f times the bytes a second of go/format", ratio)
	assert.GreaterOrEqual(t, ratio, 2.0, "tidy is slower than twice go/format")
}

// medianRatio is the median, over interleaved rounds, of how many bytes a
// second ours handles for each of the reference's.
func medianRatio(rounds int, ours, reference func() (size int)) float64 {
	speed := func(f func() int) float64 {
		runtime.GC() // each pays for its own garbage alone
		start := time.Now()
		return float64(f()) / float64(time.Since(start))
	}
	var ratios []float64
	for range rounds {
		ratios = append(ratios, speed(ours)/speed(reference))
	}
	slices.Sort(ratios)
	return ratios[rounds/2]
}

func BenchmarkFrontEnd(b *testing.B) {
	text, texts := largeDefinitions(frontEndSize), goSource(b, frontEndSize)
	b.Run("definitions", func(b *testing.B) {
		b.SetBytes(int64(len(text)))
		b.ReportAllocs()
		for b.Loop() {
			frontEnd(b, text)
		}
	})
	b.Run("go-parser", func(b *testing.B) {
		b.SetBytes(int64(goParser(b, texts)))
		b.ReportAllocs()
		for b.Loop() {
			goParser(b, texts)
		}
	})
}
