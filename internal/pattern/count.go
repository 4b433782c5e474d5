package pattern

import (
	"slices"
	"strconv"
	"strings"
)

// longest is how many code points are looked at, one after the other, before a search
// for texts of certain lengths is given up.
const longest = 1 << 20

// Has tells whether there is a text of low to high code points that the automaton
// accepts, however long. The error is ErrTooLarge.
func (a *Automaton) Has(low, high uint64) (bool, error) {
	accepting := func(layer []int, length int) bool {
		return length == 0 && a.acceptsEmpty() || length > 0 && slices.ContainsFunc(layer, a.accepts)
	}
	layer, accepts := []int{0}, []bool{}
	seen := map[string]int{}
	for length := 0; ; length++ {
		if uint64(length) > high {
			return false, nil
		}
		if length > 0 { // the state where a text begins is apart: the empty text ends there otherwise
			key := layerKey(layer)
			if first, again := seen[key]; again {
				// From here on, what texts of each length lead to repeats.
				period := uint64(length - first)
				for i := uint64(first); i < uint64(length); i++ {
					if !accepts[i] {
						continue
					}
					at := i
					if at < low {
						at += (low - at + period - 1) / period * period
					}
					if at <= high {
						return true, nil
					}
				}
				return false, nil
			}
			seen[key] = length
		}
		accepts = append(accepts, accepting(layer, length))
		if accepts[length] && uint64(length) >= low {
			return true, nil
		}
		if len(a.states) > maxStates || length*len(layer) > longest*8 {
			return false, ErrTooLarge
		}
		layer = a.next(layer)
	}
}

func layerKey(layer []int) string {
	var b strings.Builder
	for _, s := range layer {
		b.WriteString(strconv.Itoa(s) + " ")
	}
	return b.String()
}

// next are the states that a code point more leads to, sorted.
func (a *Automaton) next(layer []int) []int {
	var next []int
	for _, s := range layer {
		for _, e := range a.edges(s) {
			next = append(next, e.to)
		}
	}
	slices.Sort(next)
	return slices.Compact(next)
}

// Count counts the texts of low to high code points that the automaton accepts, up to
// a little over most. The error is ErrTooLarge.
func (a *Automaton) Count(low, high, most uint64) (uint64, error) {
	counts := map[int]uint64{0: 1}
	total := uint64(0)
	dead := a.deadEnds
	for length := uint64(0); length <= high && len(counts) > 0; length++ {
		if len(a.states) > maxStates || length > 4*maxStates {
			return 0, ErrTooLarge
		}
		if length >= low {
			for s, n := range counts {
				if length == 0 && a.acceptsEmpty() || length > 0 && a.accepts(s) {
					total += n
				}
			}
			if total > most {
				return total, nil
			}
		}
		next := map[int]uint64{}
		for s, n := range counts {
			for _, e := range a.edges(s) {
				if dead(e.to) {
					continue
				}
				size := uint64(0)
				for _, c := range e.classes {
					size += uint64(c.High-c.Low) + 1
				}
				next[e.to] = min(next[e.to]+min(n, most+1)*size, most+1)
			}
		}
		counts = next
	}
	return total, nil
}

// deadEnds tells whether no text that leads to a state can be accepted any more.
func (a *Automaton) deadEnds(state int) bool {
	seen := map[int]bool{}
	stack := []int{state}
	for len(stack) > 0 {
		s := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		if seen[s] {
			continue
		}
		seen[s] = true
		if a.accepts(s) || len(seen) > maxStates {
			return false
		}
		for _, e := range a.edges(s) {
			stack = append(stack, e.to)
		}
	}
	return true
}

// Texts returns up to so many texts of low to high code points that the automaton
// accepts, shortest first. The error is ErrTooLarge.
func (a *Automaton) Texts(low, high uint64, most int) ([]string, error) {
	type begun struct {
		text  string
		state int
	}
	layer := []begun{{"", 0}}
	var list []string
	for length := uint64(0); length <= high && len(layer) > 0; length++ {
		if len(a.states) > maxStates || length > 4*maxStates {
			return list, ErrTooLarge
		}
		if length >= low {
			for _, b := range layer {
				if length == 0 && a.acceptsEmpty() || length > 0 && a.accepts(b.state) {
					if list = append(list, b.text); len(list) >= most {
						return list, nil
					}
				}
			}
		}
		var next []begun
		for _, b := range layer {
			for _, e := range a.edges(b.state) {
				if a.deadEnds(e.to) {
					continue
				}
				for _, r := range some(e.classes, most) {
					if len(next) >= 4*most+16 {
						break
					}
					next = append(next, begun{b.text + string(r), e.to})
				}
			}
		}
		layer = next
	}
	return list, nil
}

// some are code points of classes, those first that people can read.
func some(classes []Range, most int) (list []rune) {
	for _, wanted := range []Range{{'a', 'z'}, {'A', 'Z'}, {'0', '9'}, {'!', '~'}, {0, 0x10ffff}} {
		for _, c := range classes {
			for r := max(c.Low, wanted.Low); r <= min(c.High, wanted.High) && len(list) < most; r++ {
				if !slices.Contains(list, r) {
					list = append(list, r)
				}
			}
		}
	}
	return list
}
