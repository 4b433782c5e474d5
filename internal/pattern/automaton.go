package pattern

import (
	"encoding/binary"
	"errors"
	"slices"
	"unicode"
)

// Automaton is the deterministic automaton of the texts that several patterns
// all match. Its states are made as they are asked for.
type Automaton struct {
	machines []*machine
	without  int     // from which machine on a text must not match
	alphabet []Range // classes of code points that no pattern tells apart
	states   []*state
	known    map[string]int
}

// maxStates is how many states an automaton may have before it is given up.
const maxStates = 5000

// ErrTooLarge says that patterns are too large to decide anything about them.
var ErrTooLarge = errors.New("the patterns are too large to be decided")

// machine is the nondeterministic automaton of one pattern, after Thompson: a
// node with ranges consumes a code point, one without goes on at once.
type machine struct {
	nodes []node
	final int
}

type node struct {
	ranges []Range
	at     Form // Begin or End: passes only there; any other form always
	next   []int
}

// state is a set of nodes of each machine; nil stands for a pattern that has
// matched already.
type state struct {
	sets  [][]int
	edges []edge
}

// edge leads to a state by any code point of some classes.
type edge struct {
	to      int
	classes []Range
}

// NewAutomaton returns the automaton of texts in which every pattern is found.
func NewAutomaton(patterns ...*Node) *Automaton { return Difference(patterns, nil) }

// Difference returns the automaton of texts in which every one of the patterns
// with is found, and none of those without.
func Difference(with, without []*Node) *Automaton {
	a := &Automaton{known: map[string]int{}, without: len(with)}
	borders := []rune{0, 0xd800, 0xe000} // surrogates are no code points of a text
	for _, p := range slices.Concat(with, without) {
		m := &machine{}
		start := m.add(node{at: Sequence})
		last := m.build(p, start)
		m.final = last
		a.machines = append(a.machines, m)
		for _, n := range m.nodes {
			for _, r := range n.ranges {
				borders = append(borders, r.Low, r.High+1)
			}
		}
	}
	slices.Sort(borders)
	borders = slices.Compact(borders)
	for i, low := range borders {
		high := rune(unicode.MaxRune)
		if i+1 < len(borders) {
			high = borders[i+1] - 1
		}
		if low <= high && low != 0xd800 {
			a.alphabet = append(a.alphabet, Range{low, high})
		}
	}
	var sets [][]int
	for _, m := range a.machines {
		sets = append(sets, m.settle(m.closure([]int{0}, true, false)))
	}
	a.state(sets)
	return a
}

func (m *machine) add(n node) int {
	m.nodes = append(m.nodes, n)
	return len(m.nodes) - 1
}

func (m *machine) link(from, to int) { m.nodes[from].next = append(m.nodes[from].next, to) }

// build adds a part of a pattern after a node and returns the node after it.
func (m *machine) build(p *Node, from int) int {
	switch p.Form {
	case Class, Begin, End:
		step := m.add(node{ranges: p.Ranges, at: p.Form})
		m.link(from, step)
		after := m.add(node{at: Sequence})
		m.link(step, after)
		return after
	case Sequence:
		for _, part := range p.Parts {
			from = m.build(part, from)
		}
		return from
	case Choice:
		after := m.add(node{at: Sequence})
		for _, part := range p.Parts {
			m.link(m.build(part, from), after)
		}
		return after
	}
	for range p.Min {
		from = m.build(p.Parts[0], from)
	}
	if p.Max == Unbounded {
		loop := m.add(node{at: Sequence})
		m.link(from, loop)
		m.link(m.build(p.Parts[0], loop), loop)
		after := m.add(node{at: Sequence})
		m.link(loop, after)
		return after
	}
	after := m.add(node{at: Sequence})
	for range p.Max - p.Min {
		m.link(from, after)
		from = m.build(p.Parts[0], from)
	}
	m.link(from, after)
	return after
}

// closure adds what is reached without a code point.
func (m *machine) closure(set []int, atBegin, atEnd bool) []int {
	seen := make([]bool, len(m.nodes))
	var out []int
	for stack := slices.Clone(set); len(stack) > 0; {
		n := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		if seen[n] {
			continue
		}
		seen[n] = true
		out = append(out, n)
		switch at := m.nodes[n].at; {
		case at == Class, at == Begin && !atBegin, at == End && !atEnd:
		default:
			stack = append(stack, m.nodes[n].next...)
		}
	}
	slices.Sort(out)
	return out
}

// settle turns a set that has matched into nil: what follows changes nothing.
func (m *machine) settle(set []int) []int {
	if slices.Contains(set, m.final) {
		return nil
	}
	return set
}

func (m *machine) step(set []int, c rune) []int {
	if set == nil {
		return nil
	}
	next := []int{0} // a match may begin anywhere
	for _, n := range set {
		if m.nodes[n].at == Class && slices.ContainsFunc(m.nodes[n].ranges,
			func(r Range) bool { return r.Low <= c && c <= r.High }) {
			next = append(next, m.nodes[n].next...)
		}
	}
	return m.settle(m.closure(next, false, false))
}

// state returns the number of a state, which is made where it is new.
func (a *Automaton) state(sets [][]int) int {
	var key []byte
	for _, set := range sets {
		if set == nil {
			key = binary.AppendUvarint(key, 0)
			continue
		}
		key = binary.AppendUvarint(key, uint64(len(set))+1)
		for _, n := range set {
			key = binary.AppendUvarint(key, uint64(n))
		}
	}
	number, isKnown := a.known[string(key)]
	if !isKnown {
		number = len(a.states)
		a.known[string(key)] = number
		a.states = append(a.states, &state{sets: sets})
	}
	return number
}

// edges returns where a state leads.
func (a *Automaton) edges(number int) []edge {
	s := a.states[number]
	if s.edges != nil {
		return s.edges
	}
	for _, class := range a.alphabet {
		sets := make([][]int, len(s.sets))
		for i, set := range s.sets {
			sets[i] = a.machines[i].step(set, class.Low)
		}
		to := a.state(sets)
		if i := slices.IndexFunc(s.edges, func(e edge) bool { return e.to == to }); i >= 0 {
			s.edges[i].classes = append(s.edges[i].classes, class)
		} else {
			s.edges = append(s.edges, edge{to, []Range{class}})
		}
	}
	return s.edges
}

// accepts tells whether a text may end in a state.
func (a *Automaton) accepts(number int) bool {
	for i, set := range a.states[number].sets {
		m := a.machines[i]
		matches := set == nil || slices.Contains(m.closure(set, false, true), m.final)
		if matches != (i < a.without) {
			return false
		}
	}
	return true
}

// acceptsEmpty tells whether the empty text matches: there, begin and end are
// one place.
func (a *Automaton) acceptsEmpty() bool {
	for i, m := range a.machines {
		if slices.Contains(m.closure([]int{0}, true, true), m.final) != (i < a.without) {
			return false
		}
	}
	return true
}

// Text returns a text of low to high code points that the automaton accepts; ok is
// false where there is none. pick chooses one of n, from 0; with one that always
// takes 0 the text is a shortest one. The error is ErrTooLarge.
func (a *Automaton) Text(low, high uint64, pick func(n int) int) (text string, ok bool, err error) {
	type ending struct{ layer, state int }
	var endings []ending
	layers := [][]int{{0}} // the states that texts of each length lead to
	for k := 0; uint64(k) <= high; k++ {
		if len(a.states) > maxStates || k*len(a.states) > 10*maxStates*maxStates {
			return "", false, ErrTooLarge
		}
		if uint64(k) >= low {
			for _, s := range layers[k] {
				if k == 0 && a.acceptsEmpty() || k > 0 && a.accepts(s) {
					endings = append(endings, ending{k, s})
				}
			}
		}
		// A little longer than need be, for variety; and what no text has reached
		// with as many steps as there are states, none ever will.
		if len(endings) > 0 && k >= endings[0].layer+8 || len(endings) == 0 && k > len(a.states) &&
			uint64(k) > low+uint64(len(a.states)) {
			break
		}
		var next []int
		for _, s := range layers[k] {
			for _, e := range a.edges(s) {
				if !slices.Contains(next, e.to) {
					next = append(next, e.to)
				}
			}
		}
		layers = append(layers, next)
	}
	if len(endings) == 0 {
		return "", false, nil
	}
	at := endings[pick(len(endings))]
	runes := make([]rune, at.layer)
	for k := at.layer - 1; k >= 0; k-- {
		type way struct {
			from int
			by   edge
		}
		var ways []way
		for _, from := range layers[k] {
			for _, e := range a.edges(from) {
				if e.to == at.state {
					ways = append(ways, way{from, e})
				}
			}
		}
		w := ways[pick(len(ways))]
		runes[k], at.state = readable(w.by.classes, pick), w.from
	}
	return string(runes), true, nil
}

// readable chooses a code point that people can read where there is one.
func readable(classes []Range, pick func(n int) int) rune {
	for _, wanted := range []Range{{'a', 'z'}, {'A', 'Z'}, {'0', '9'}, {'!', '~'}, {' ', ' '}} {
		var some []rune
		for _, c := range classes {
			for r := max(c.Low, wanted.Low); r <= min(c.High, wanted.High); r++ {
				some = append(some, r)
			}
		}
		if len(some) > 0 {
			return some[pick(len(some))]
		}
	}
	c := classes[pick(len(classes))]
	return c.Low + rune(pick(int(c.High-c.Low)+1))
}
