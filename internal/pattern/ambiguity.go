package pattern

import (
	"slices"

	"faithfulcourier/internal/graph"
)

// An engine that backtracks, as those of JavaScript, Python and Java do, tries one way
// after another in which a pattern may match. Where a loop can read a text in two ways,
// each turn doubles them (exponential ambiguity); where one loop can hand over to another
// anywhere in a text, their number goes with a power of its length (polynomial ambiguity).
// Both show in the automaton of the pattern's classes (Weber and Seidl, "On the degree of
// ambiguity of finite automata", 1991).

// Exponential returns a text that a loop of the pattern can read in two ways, where there
// is one: an engine that backtracks takes time that doubles with each further one.
func (n *Node) Exponential() (text string, is bool) {
	g := newPositions(n, false)
	for _, loop := range g.loops {
		if text, is := g.twoWays(loop); is {
			return text, true
		}
	}
	return "", false
}

// Polynomial tells whether an engine that backtracks takes time that goes with the square
// of a text's length, or with more. A pattern that is not anchored is tried at each place.
func (n *Node) Polynomial() bool {
	g := newPositions(n, !n.anchored())
	var inLoops []int
	for _, loop := range g.loops {
		inLoops = append(inLoops, loop...)
	}
	budget := 400_000 // what is larger is not decided; few patterns are
	for _, p := range inLoops {
		for _, q := range inLoops {
			if p != q && g.handsOver(p, q, &budget) {
				return true
			}
		}
	}
	return false
}

// anchored tells whether a match can begin nowhere but at the beginning.
func (n *Node) anchored() bool {
	switch n.Form {
	case Begin:
		return true
	case Sequence:
		return len(n.Parts) > 0 && n.Parts[0].anchored()
	case Choice:
		return !slices.ContainsFunc(n.Parts, func(p *Node) bool { return !p.anchored() })
	case Repeat:
		return n.Min > 0 && n.Parts[0].anchored()
	}
	return false
}

// endless is from where on a repeat counts as one without end: so many turns are as bad.
const endless = 8

// widened is a pattern whose long repeats have no end.
func widened(n *Node) *Node {
	out := *n
	out.Parts = nil
	for _, p := range n.Parts {
		out.Parts = append(out.Parts, widened(p))
	}
	if out.Form == Repeat && (out.Max == Unbounded || out.Max > endless) && !(out.Min == out.Max && n.Parts[0].fixed()) {
		out.Min, out.Max = min(out.Min, 1), Unbounded
	}
	return &out
}

// fixed tells whether all that a part matches has one length.
func (n *Node) fixed() bool {
	_, is := n.length()
	return is
}

func (n *Node) length() (length int, fixed bool) {
	switch n.Form {
	case Class:
		return 1, true
	case Begin, End:
		return 0, true
	case Repeat:
		length, fixed = n.Parts[0].length()
		return length * n.Min, fixed && n.Min == n.Max
	}
	fixed = true
	for i, p := range n.Parts {
		l, is := p.length()
		fixed = fixed && is && (n.Form == Sequence || i == 0 || l == length)
		if n.Form == Sequence {
			length += l
		} else {
			length = l
		}
	}
	return length, fixed
}

// positions is the automaton whose states are the classes of a pattern, after Glushkov: a
// step reads a code point of the class that it leads to.
type positions struct {
	classes [][]Range
	next    [][]int
	twice   map[[2]int]bool // steps that can be gone in two ways without reading anything
	loops   [][]int         // strongly connected positions
}

// newPositions makes the automaton; search puts a loop over everything before it.
func newPositions(n *Node, search bool) *positions {
	m := &machine{}
	start := m.add(node{at: Sequence})
	first := start
	if search {
		any := m.add(node{at: Class, ranges: []Range{{0, 0xd7ff}, {0xe000, 0x10ffff}}})
		m.link(start, any)
		m.link(any, start)
	}
	m.final = m.build(widened(n), first)
	g := &positions{twice: map[[2]int]bool{}}
	number := map[int]int{}
	var from []int
	for i, x := range m.nodes {
		if x.at == Class {
			number[i] = len(g.classes)
			g.classes = append(g.classes, x.ranges)
			from = append(from, i)
		}
	}
	for p, i := range from {
		targets := m.closure(slices.Clone(m.nodes[i].next), true, true)
		var list []int
		for _, t := range targets {
			if q, is := number[t]; is {
				list = append(list, q)
				if m.ways(m.nodes[i].next, t) > 1 {
					g.twice[[2]int{p, q}] = true
				}
			}
		}
		g.next = append(g.next, list)
	}
	g.loops = graph.Loops(g.next)
	return g
}

// ways counts the ways from some nodes to a class without reading anything, two at most.
// A way goes through no node three times: through one twice, where a turn of a loop may
// read nothing.
func (m *machine) ways(from []int, to int) (count int) {
	budget := 10_000 // of steps: what is more tangled counts as one way
	on := map[int]int{}
	var try func(n int)
	try = func(n int) {
		if budget--; count > 1 || budget < 0 || on[n] == 2 {
			return
		}
		if n == to {
			count++
			return
		}
		if m.nodes[n].at == Class {
			return
		}
		on[n]++
		for _, next := range m.nodes[n].next {
			try(next)
		}
		on[n]--
	}
	for _, n := range from {
		try(n)
	}
	return count
}

// common is a code point of all of some classes.
func common(classes ...[]Range) (rune, bool) {
	rest := classes[0]
	for _, c := range classes[1:] {
		rest = intersection(rest, c)
	}
	if len(rest) == 0 {
		return 0, false
	}
	return readable(rest, func(int) int { return 0 }), true
}

// intersection is what is in both of two sorted lists of ranges.
func intersection(a, b []Range) (out []Range) {
	for len(a) > 0 && len(b) > 0 {
		if low, high := max(a[0].Low, b[0].Low), min(a[0].High, b[0].High); low <= high {
			out = append(out, Range{low, high})
		}
		if a[0].High < b[0].High {
			a = a[1:]
		} else {
			b = b[1:]
		}
	}
	return out
}

// pair is two positions that the same text leads to.
type pair struct{ p, q int }

// maxPairs is how many pairs of a loop are looked at.
const maxPairs = 1_000_000

// twoWays looks for a text that leads from a position of a loop back to one of it in two
// ways: pairs of different positions between two pairs of equal ones.
func (g *positions) twoWays(loop []int) (string, bool) {
	in := map[int]bool{}
	for _, p := range loop {
		in[p] = true
	}
	for _, p := range loop {
		for _, q := range g.next[p] {
			if in[q] && g.twice[[2]int{p, q}] {
				return g.text(g.path(q, p, in)) + g.text([]int{q}), true
			}
		}
	}
	type step struct {
		before pair
		c      rune
	}
	came := map[pair]step{}
	var queue []pair
	for _, p := range loop {
		came[pair{p, p}] = step{before: pair{-1, -1}}
		queue = append(queue, pair{p, p})
	}
	for len(queue) > 0 && len(came) < maxPairs {
		at := queue[0]
		queue = queue[1:]
		for _, p := range g.next[at.p] {
			for _, q := range g.next[at.q] {
				if !in[p] || !in[q] {
					continue
				}
				c, fits := common(g.classes[p], g.classes[q])
				to := pair{p, q}
				if !fits {
					continue
				}
				if p == q && at.p != at.q { // met again
					text := []rune{c}
					for x := at; came[x].before.p >= 0; x = came[x].before {
						text = append(text, came[x].c)
					}
					slices.Reverse(text)
					return string(text), true
				}
				if _, known := came[to]; !known {
					came[to] = step{at, c}
					queue = append(queue, to)
				}
			}
		}
	}
	return "", false
}

// path leads from a position to another one within a loop; what it begins with is not in it.
func (g *positions) path(from, to int, in map[int]bool) (list []int) {
	if from == to {
		return nil
	}
	before := map[int]int{from: from}
	for queue := []int{from}; len(queue) > 0; queue = queue[1:] {
		for _, q := range g.next[queue[0]] {
			if _, known := before[q]; known || !in[q] {
				continue
			}
			if before[q] = queue[0]; q != to {
				queue = append(queue, q)
				continue
			}
			for ; q != from; q = before[q] {
				list = append(list, q)
			}
			slices.Reverse(list)
			return list
		}
	}
	return nil
}

// text is read on the way through positions.
func (g *positions) text(list []int) string {
	var runes []rune
	for _, p := range list {
		c, _ := common(g.classes[p])
		runes = append(runes, c)
	}
	return string(runes)
}

// handsOver tells whether some text leads from p to p, from p to q and from q to q.
func (g *positions) handsOver(p, q int, budget *int) bool {
	type triple struct{ a, b, c int }
	start, goal := triple{p, p, q}, triple{p, q, q}
	seen := map[triple]bool{start: true}
	for queue := []triple{start}; len(queue) > 0; queue = queue[1:] {
		at := queue[0]
		for _, a := range g.next[at.a] {
			for _, b := range g.next[at.b] {
				for _, c := range g.next[at.c] {
					if *budget--; *budget < 0 {
						return false
					}
					to := triple{a, b, c}
					if seen[to] {
						continue
					}
					if _, fits := common(g.classes[a], g.classes[b], g.classes[c]); !fits {
						continue
					}
					if to == goal {
						return true
					}
					seen[to] = true
					queue = append(queue, to)
				}
			}
		}
	}
	return false
}
