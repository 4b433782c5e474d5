package graph

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestAgainstEachOther holds that a position is in a loop where it can be reached from what is next to it.
func TestAgainstEachOther(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 1))
	inLoops := 0
	for range 500 {
		next := make([][]int, 1+rng.IntN(12))
		edges := map[int][]int{}
		for p := range next {
			for range rng.IntN(3) {
				next[p] = append(next[p], rng.IntN(len(next)))
			}
			edges[p] = next[p]
		}
		looped := map[int]int{}
		for i, loop := range Loops(next) {
			assert.True(t, slices.IsSorted(loop))
			for _, p := range loop {
				assert.NotContains(t, looped, p, "a position is in one loop at most")
				looped[p] = i
			}
		}
		for p := range next {
			_, is := looped[p]
			assert.Equal(t, Reached(next[p], edges)[p], is, "%d of %v", p, next)
			if is {
				inLoops++
			}
			for q := range next {
				both := Reached(next[p], edges)[q] && Reached(next[q], edges)[p]
				if i, is := looped[p]; is && p != q {
					j, other := looped[q]
					assert.Equal(t, both, other && i == j, "%d and %d of %v", p, q, next)
				}
			}
		}
	}
	assert.Greater(t, inLoops, 500)
}

// TestDeep follows a chain of a million.
func TestDeep(t *testing.T) {
	next := make([][]int, 1_000_000)
	for p := range len(next) - 1 {
		next[p] = []int{p + 1}
	}
	assert.Empty(t, Loops(next))
	next[len(next)-1] = []int{0}
	assert.Len(t, Loops(next), 1)
}
