// Package graph follows what leads to what. It takes as long as what it looks at is large, and knows nothing of what
// that is.
package graph

import "slices"

// Reached lists what can be reached from some things, they included; next are the things next to each.
func Reached[T comparable](from []T, next map[T][]T) map[T]bool {
	reached := map[T]bool{}
	from = slices.Clone(from)
	for len(from) > 0 {
		last := from[len(from)-1]
		if from = from[:len(from)-1]; !reached[last] {
			reached[last] = true
			from = append(from, next[last]...)
		}
	}
	return reached
}

// Loops lists the strongly connected components that lead back to themselves, each in order; next are the positions
// next to each. It goes as Tarjan's algorithm does (SIAM Journal on Computing 1, 1972).
func Loops(next [][]int) (loops [][]int) {
	index, low, on := make([]int, len(next)), make([]int, len(next)), make([]bool, len(next))
	var stack []int
	counter := 0
	var visit func(p int)
	visit = func(p int) {
		counter++
		index[p], low[p], on[p] = counter, counter, true
		at := len(stack)
		stack = append(stack, p)
		for _, q := range next[p] {
			if index[q] == 0 {
				visit(q)
				low[p] = min(low[p], low[q])
			} else if on[q] {
				low[p] = min(low[p], index[q])
			}
		}
		if low[p] != index[p] {
			return
		}
		loop := slices.Clone(stack[at:])
		stack = stack[:at]
		for _, q := range loop {
			on[q] = false
		}
		if len(loop) > 1 || slices.Contains(next[p], p) {
			slices.Sort(loop)
			loops = append(loops, loop)
		}
	}
	for p := range next {
		if index[p] == 0 {
			visit(p)
		}
	}
	return loops
}
