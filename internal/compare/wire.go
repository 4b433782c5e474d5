package compare

import (
	"fmt"
	"math/big"
	"slices"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// crossing is one way of payloads from a writer to a reader: OLD to NEW or
// back, in a form, in a position.
type crossing struct {
	newReads bool // NEW reads what OLD writes
	form     string
	label    string // the form that is reported: errors travel as JSON, and count under http
	position Position
}

// strict tells whether an enum value that the reader does not list is refused.
func (c crossing) strict() bool { return c.position == Request }

// leftOut tells whether people write such payloads by hand, without fields
// that have a default.
func (c crossing) leftOut() bool { return c.position == Request || c.position == Kept }

// writer and reader name the two sides, for people.
func (c crossing) writer() string {
	age := map[bool]string{true: "older", false: "newer"}[c.newReads]
	switch c.position {
	case Request:
		return article(age) + " client"
	case Kept:
		return age + " code"
	}
	return article(age) + " server"
}

func (c crossing) reader() string {
	age := map[bool]string{true: "newer", false: "older"}[c.newReads]
	switch c.position {
	case Request:
		return article(age) + " server"
	case Kept:
		return age + " code"
	}
	return article(age) + " client"
}

func article(age string) string {
	if age == "older" {
		return "an older"
	}
	return "a newer"
}

// walker follows one crossing through everything that its roots hold, and
// says what each fact does on the way. It goes breadth first, from all roots at
// once, so that every pair of messages, and of unions, is judged once and the way to
// it, which a witness takes, is short.
type walker struct {
	*differ
	crossing
	nodes map[visit]*node
	queue []*node
	at    *node // the pair that is judged
	told  []telling

	order []*node  // all nodes, those near roots first
	calls []string // that lead anywhere, once callsTo was asked

	pairings     map[[2]*schema.Message][]fieldPair // of messages that are no counterparts
	members      map[[2]*schema.Enum]map[*schema.Member]*schema.Member
	alternatives map[[2]*schema.Union]map[*schema.Alternative]*schema.Alternative
	memberNames  map[*schema.Enum]map[string]*schema.Member
	sights       map[spot]*sight
	bounds       map[string]*schema.Bounds // by their text
	reduced      map[[4]*schema.Field][2]*schema.Message

	minimals value.Minimals
}

func newWalker(d *differ, cr crossing) *walker {
	return &walker{differ: d, crossing: cr, nodes: map[visit]*node{}, minimals: value.Minimals{}, pairings: map[[2]*schema.Message][]fieldPair{},
		members: map[[2]*schema.Enum]map[*schema.Member]*schema.Member{}, alternatives: map[[2]*schema.Union]map[*schema.Alternative]*schema.Alternative{},
		memberNames: map[*schema.Enum]map[string]*schema.Member{}, sights: map[spot]*sight{}, bounds: map[string]*schema.Bounds{}, reduced: map[[4]*schema.Field][2]*schema.Message{}}
}

// visit is a pair of messages or of unions, what is written and what it is read as.
// owner is the fact that the pair belongs to when they are not one declaration.
type visit struct {
	w, r   *schema.Message // or nil
	wu, ru *schema.Union   // or nil
	owner  *Fact
}

// node is a visit with the ways to it.
type node struct {
	visit
	root   *node    // where the shortest way begins
	parent *node    // the step before on that way; nil for a root
	via    place    // of parent, which holds this
	from   []*node  // all that lead here
	to     []*node  // all that this leads to
	calls  []string // of a root: the calls whose payloads it is

	reached big.Int // the calls that lead here, a bit each
	seen    bool    // by before
}

// place is where a value stands in that of a node: in a field, or as an alternative,
// inside of lists and maps.
type place struct {
	written, read       *schema.Field
	writtenAlt, readAlt *schema.Alternative
	chain               []link // outermost first
}

// link is a list or map around a value, which is an element or a key.
type link struct {
	typ *schema.Type
	own *schema.Bounds
	key bool
}

func (p place) in(l link) place {
	p.chain = append(slices.Clone(p.chain), l)
	return p
}

// name is what holds a value, for people.
func (p place) name() string {
	if p.written != nil {
		return p.written.Name
	}
	return p.writtenAlt.Name
}

// telling is an event of a fact at a node.
type telling struct {
	fact  *Fact
	event event
	at    *node
}

// event is what a fact does at one place.
type event struct {
	verdict  Verdict
	sentence string
	witness  func() *Witness // of a break, and of what is altered where a payload shows it
	open     bool            // whether it breaks was not decided
}

// add makes a pair of messages a root.
func (w *walker) add(wm, rm *schema.Message, owner *Fact, call string) {
	n := w.node(visit{w: wm, r: rm, owner: owner})
	if call != "" {
		n.calls = append(n.calls, call)
	}
}

// node finds or makes the node of a pair.
func (w *walker) node(v visit) *node {
	counterparts := false
	if v.wu != nil {
		old, new := sidesOf(w.newReads, v.wu, v.ru)
		counterparts = w.unions[old] == new
	} else {
		old, new := sidesOf(w.newReads, v.w, v.r)
		counterparts = w.messages[old] == new
	}
	if counterparts {
		v.owner = nil
	}
	n := w.nodes[v]
	if n == nil {
		n = &node{visit: v}
		n.root = n
		w.nodes[v] = n
		w.queue, w.order = append(w.queue, n), append(w.order, n)
	}
	return n
}

// step goes on to a pair that a place of the current one holds.
func (w *walker) step(p place, v visit) {
	known := len(w.nodes)
	n := w.node(v)
	if len(w.nodes) > known {
		n.root, n.parent, n.via = w.at.root, w.at, p
	}
	n.from, w.at.to = append(n.from, w.at), append(w.at.to, n)
}

// walk judges every pair that the roots lead to.
func (w *walker) walk() {
	for len(w.queue) > 0 {
		w.at, w.queue = w.queue[0], w.queue[1:]
		if w.at.wu != nil {
			w.union(w.at.wu, w.at.ru, w.at.owner)
			continue
		}
		w.message(w.at.w, w.at.r, w.at.owner)
	}
}

func (w *walker) emit(f *Fact, e event) {
	if f != nil {
		w.told = append(w.told, telling{f, e, w.at})
	}
}

// callsTo lists the calls whose payloads hold any of some nodes.
func (w *walker) callsTo(nodes []*node) []string {
	if w.calls == nil {
		w.spreadCalls()
	}
	var all big.Int
	for _, n := range nodes {
		all.Or(&all, &n.reached)
	}
	var calls []string
	for i, name := range w.calls {
		if all.Bit(i) == 1 {
			calls = append(calls, name)
		}
	}
	return calls
}

// spreadCalls gives each node the calls that lead to it, a bit each, until nothing
// is new.
func (w *walker) spreadCalls() {
	w.calls = []string{}
	for _, n := range w.order {
		w.calls = append(w.calls, n.calls...)
	}
	slices.Sort(w.calls)
	w.calls = slices.Compact(w.calls)
	for _, n := range w.order {
		for _, name := range n.calls {
			i, _ := slices.BinarySearch(w.calls, name)
			n.reached.SetBit(&n.reached, i, 1)
		}
	}
	order := w.before()
	var more big.Int
	for again := true; again; {
		again = false
		for _, n := range order {
			for _, before := range n.from {
				if more.AndNot(&before.reached, &n.reached).Sign() != 0 {
					n.reached.Or(&n.reached, &more)
					again = true
				}
			}
		}
	}
}

// before lists all nodes so that what leads to a node stands before it, but for
// circles: in reverse postorder, in which what spreads comes to rest soon.
func (w *walker) before() []*node {
	order := make([]*node, 0, len(w.order))
	var visit func(n *node)
	visit = func(n *node) {
		n.seen = true
		for _, to := range n.to {
			if !to.seen {
				visit(to)
			}
		}
		order = append(order, n)
	}
	for _, n := range w.order {
		if !n.seen {
			visit(n)
		}
	}
	slices.Reverse(order)
	return order
}

// sidesOf puts what is written and what reads it in the order of OLD and NEW, or
// back.
func sidesOf[T any](newReads bool, a, b T) (T, T) {
	if newReads {
		return a, b
	}
	return b, a
}

// pairs is pairFields, done once for each two messages. Walks run side by side, so
// what all of them know is only read.
func (w *walker) pairs(o, n *schema.Message) []fieldPair {
	key := [2]*schema.Message{o, n}
	if list, known := w.differ.paired[key]; known {
		return list
	}
	list, known := w.pairings[key]
	if !known {
		list = pairFields(o, n)
		w.pairings[key] = list
	}
	return list
}

// fact finds the fact of a kind about a field, unless what is walked belongs
// to another fact whole.
func (w *walker) fact(owner *Fact, f *schema.Field, kind Kind) *Fact {
	if owner != nil {
		return owner
	}
	for _, fact := range w.fieldFacts[f] {
		if fact.Kind == kind {
			return fact
		}
	}
	return nil
}

// message compares what is written as wm with what is read as rm.
func (w *walker) message(wm, rm *schema.Message, owner *Fact) {
	old, new := sidesOf(w.newReads, wm, rm)
	for _, p := range w.pairs(old, new) {
		fw, fr := sidesOf(w.newReads, p.old, p.new)
		switch {
		case fw == nil:
			w.onlyReader(wm, fr, owner)
		case fr == nil:
			if w.newReads { // gone
				w.emit(w.fact(owner, fw, FieldGone), event{verdict: Shifts,
					sentence: fmt.Sprintf("%s still writes %s; %s keeps it, but no longer sees it", w.writer(), fw.Name, w.reader())})
			}
		default:
			w.field(fw, fr, owner)
		}
	}
}

// onlyReader judges a field that only the reader's definitions have. Another field may
// arrive as it, by its number or its name.
func (w *walker) onlyReader(wm *schema.Message, fr *schema.Field, owner *Fact) {
	kind := FieldGone
	if w.newReads {
		kind = FieldAdded
	}
	f := w.fact(owner, fr, kind)
	other := w.feeder(wm, fr)
	switch {
	case other == nil && fr.Presence == schema.Required:
		w.breaks(f, w.at, nil, fr, nil, fmt.Sprintf("%s does not write %s, and %s requires it", w.writer(), fr.Name, w.reader()))
		return
	case other != nil && w.breaks(f, w.at, nil, fr, other, fmt.Sprintf("%s writes %s where %s expects %s", w.writer(), other.Name, w.reader(), fr.Name)):
		return
	}
	if kind == FieldGone {
		w.emit(f, event{verdict: Shifts, sentence: fmt.Sprintf("%s no longer writes %s; %s finds it absent", w.writer(), fr.Name, w.reader())})
	}
}

// feeder is the field of the writer that arrives as a field of the reader, or nil.
func (w *walker) feeder(wm *schema.Message, fr *schema.Field) *schema.Field {
	if w.form == "json" {
		return byJSONName(wm, fr.JSONName())
	}
	return wm.ByNumber(fr.Number)
}

// receiver is the field of the reader as which a field of the writer arrives, or nil.
func (w *walker) receiver(rm *schema.Message, fw *schema.Field) *schema.Field {
	if w.form == "json" {
		return byJSONName(rm, fw.JSONName())
	}
	return rm.ByNumber(fw.Number)
}

// field judges a field that both have.
func (w *walker) field(fw, fr *schema.Field, owner *Fact) {
	if w.receiver(w.at.r, fw) != fr {
		w.misses(fw, fr, owner)
		return
	}
	w.presence(fw, fr, owner)
	if bareScalar(fw) && bareScalar(fr) && fw.Type.Kind == fr.Type.Kind {
		return // as most fields are: nothing more can differ
	}
	s := spot{wt: fw.Type, rt: fr.Type, wb: fw.Bounds, rb: fr.Bounds}
	if fw.Type.Kind == schema.KindAny {
		s.absent, s.into = fw.Presence == schema.Optional, fr
	}
	w.types(place{written: fw, read: fr}, s, w.fact(owner, fw, FieldBounds), w.fact(owner, fw, FieldType))
}

// presence judges whether a field may be left out, and what that means.
func (w *walker) presence(fw, fr *schema.Field, owner *Fact) {
	f := w.fact(owner, fw, FieldPresence)
	mayLack := fw.Presence == schema.Optional || fw.Presence == schema.Defaulted && w.leftOut()
	shifts := func(f *Fact, format string, args ...any) {
		w.emit(f, event{verdict: Shifts, sentence: fmt.Sprintf(format, args...), witness: w.shows(fw, fr)})
	}
	switch {
	case !mayLack || fr.Presence == fw.Presence && fw.Presence != schema.Defaulted:
	case fr.Presence == schema.Required && fw.Presence == schema.Optional:
		w.breaks(f, w.at, fw, fr, nil, fmt.Sprintf("%s may leave out %s, and %s requires it", w.writer(), fw.Name, w.reader()))
	case fr.Presence == schema.Required:
		w.breaks(f, w.at, fw, fr, nil, fmt.Sprintf("%s may rely on the default of %s and leave it out, and %s requires it", w.writer(), fw.Name, w.reader()))
	case fw.Presence == schema.Optional:
		shifts(f, "where %s leaves out %s, %s reads %s", w.writer(), fw.Name, w.reader(), schema.LiteralText(fr.Default))
	case fr.Presence == schema.Optional:
		shifts(f, "where %s leaves out %s, meaning %s, %s finds it absent", w.writer(), fw.Name, schema.LiteralText(fw.Default), w.reader())
	default:
		a, b := hold(value.Default(fw.Default), fw.Type), hold(value.Default(fr.Default), fr.Type)
		if w.differs(a, b).verdict != Holds {
			shifts(firstFact(w.fact(owner, fw, FieldDefault), w.fact(owner, fw, FieldType), f), "where %s leaves out %s, meaning %s, %s reads %s",
				w.writer(), fw.Name, schema.LiteralText(fw.Default), w.reader(), schema.LiteralText(fr.Default))
		}
	}
}

// bareScalar tells whether a field is of a scalar type, and without bounds.
func bareScalar(f *schema.Field) bool {
	return f.Bounds == nil && f.Type.Named == nil && f.Type.Kind.IsScalar()
}

func byJSONName(m *schema.Message, name string) *schema.Field {
	for _, f := range m.Fields {
		if f.JSONName() == name {
			return f
		}
	}
	return nil
}

func memberByJSONName(e *schema.Enum, name string) *schema.Member {
	for _, m := range e.Members {
		if m.JSONName() == name {
			return m
		}
	}
	return nil
}

// misses judges a field that the reader looks for elsewhere. Whether what is
// read differs can hang on values (a default may equal all that is written),
// so reading decides.
func (w *walker) misses(fw, fr *schema.Field, owner *Fact) {
	kind, how := FieldRenumbered, fmt.Sprintf("as #%d, and %s looks for #%d", fw.Number, w.reader(), fr.Number)
	if w.form == "json" {
		kind, how = FieldRenamed, fmt.Sprintf("as %q, and %s looks for %q", fw.JSONName(), w.reader(), fr.JSONName())
		if fw.JSON != fr.JSON {
			kind = FieldJSON
		}
	}
	f := firstFact(w.fact(owner, fw, kind), w.fact(owner, fw, FieldRenamed), w.fact(owner, fw, FieldJSON))
	w.breaks(f, w.at, fw, fr, w.feeder(w.at.w, fr), fmt.Sprintf("%s writes %s %s", w.writer(), fw.Name, how))
}

// types compares the types at a place. bounds is the fact that the bounds of the field
// itself changed, f the fact that its type did; or nil.
func (w *walker) types(p place, s spot, bounds, f *Fact) {
	old, new := sidesOf(w.newReads, s.wt, s.rt)
	if w.pairedTypes(old, new) {
		f = firstFact(w.typeFact(s.wt.Named, TypeChanged), f)
	}
	facts := blame{bounds: bounds, typ: f}
	switch a, b := s.wt.Kind, s.rt.Kind; {
	case a == schema.KindMap && b == a:
		w.countsAt(p, s, facts)
		if empty(s.wt, s.wb) {
			return
		}
		w.types(p.in(link{s.wt, s.wb, true}), spot{wt: s.wt.Key, rt: s.rt.Key, key: true}, nil, f)
		w.types(p.in(link{s.wt, s.wb, false}), spot{wt: s.wt.Elem, rt: s.rt.Elem}, nil, f)
	case a == schema.KindList && b == a:
		w.countsAt(p, s, facts)
		if empty(s.wt, s.wb) {
			return
		}
		w.types(p.in(link{s.wt, s.wb, false}), spot{wt: s.wt.Elem, rt: s.rt.Elem}, nil, f)
	case a == schema.KindUnion && b == a:
		w.step(p, visit{wu: s.wt.Union, ru: s.rt.Union, owner: f})
	case a == schema.KindMessage && b == a:
		w.step(p, visit{w: s.wt.Message, r: s.rt.Message, owner: f})
	case a == schema.KindEnum && b == a:
		w.enum(p, s.wt.Enum, s.rt.Enum, f)
	case a == b && sameBounds(s.wb, s.rb) && sameBounds(namedBounds(s.wt), namedBounds(s.rt)):
	default:
		w.lookAt(p, s, facts)
	}
}

// blame are the facts that what happens at a spot can belong to: of the field's own
// bounds, and of its type.
type blame struct{ bounds, typ *Fact }

// ofOwn finds the fact by which the bounds of a field refuse something, and ofNamed
// that by which those of its type do.
func (w *walker) ofOwn(s spot, b blame) *Fact {
	return firstFact(b.bounds, w.typeFact(s.wt.Named, TypeBounds), w.typeFact(s.rt.Named, TypeBounds), b.typ, w.typeFact(s.rt.Named, TypeChanged))
}

func (w *walker) ofNamed(s spot, b blame) *Fact {
	return firstFact(w.typeFact(s.rt.Named, TypeBounds), b.typ, b.bounds, w.typeFact(s.wt.Named, TypeBounds), w.typeFact(s.rt.Named, TypeChanged))
}

// countsAt judges how many elements or entries there may be.
func (w *walker) countsAt(p place, s spot, facts blame) {
	if len(s.readers()) == 0 {
		return
	}
	own, named := w.counts(s)
	w.refusedByBounds(p, own, w.ofOwn(s, facts))
	w.refusedByBounds(p, named, w.ofNamed(s, facts))
}

// refusedByBounds tells of a value that the reader's bounds refuse. In a request the
// reader checks them; elsewhere nobody does, and a looser writer may surprise.
func (w *walker) refusedByBounds(p place, e *example, f *Fact) {
	if e == nil {
		return
	}
	if !w.strict() {
		w.emit(f, event{verdict: Shifts, sentence: fmt.Sprintf("%s may write values of %s that %s's own bounds refuse; nobody checks them there", w.writer(), p.name(), w.reader())})
		return
	}
	w.emit(f, event{verdict: Breaks, sentence: fmt.Sprintf("%s may write values of %s that %s refuses", w.writer(), p.name(), w.reader()), witness: w.witnessOf(w.at, p, e)})
}

// lookAt judges a spot by reading.
func (w *walker) lookAt(p place, s spot, facts blame) {
	seen := w.look(s)
	of := facts.typ
	if of == nil {
		of = firstFact(w.typeFact(s.rt.Named, TypeChanged), w.typeFact(s.wt.Named, TypeChanged), facts.bounds)
	}
	writes := fmt.Sprintf("%s writes %s in %s, and %s reads %s", w.writer(), s.wt.Short(), p.name(), w.reader(), s.rt.Short())
	switch {
	case seen.refused != nil:
		w.emit(of, event{verdict: Breaks, sentence: writes, witness: w.witnessOf(w.at, p, seen.refused)})
	case seen.otherwise != nil:
		w.emit(of, event{verdict: Breaks, sentence: writes, witness: w.witnessOf(w.at, p, seen.otherwise)})
	case seen.altered != nil:
		w.emit(of, event{verdict: Shifts, sentence: writes + ": the same text, but a value of another kind", witness: w.witnessOf(w.at, p, seen.altered)})
	}
	w.refusedByBounds(p, seen.own, w.ofOwn(s, facts))
	w.refusedByBounds(p, seen.named, w.ofNamed(s, facts))
	if seen.undecided && seen.own == nil && seen.named == nil && seen.refused == nil && seen.otherwise == nil {
		w.emit(firstFact(w.ofOwn(s, facts), w.ofNamed(s, facts)), event{verdict: Shifts, open: true, sentence: fmt.Sprintf("%s, at values of %s that %s may write and %s may refuse", notDecided, p.name(), w.writer(), w.reader())})
	}
}

// enum compares the members of two enums.
func (w *walker) enum(p place, we, re *schema.Enum, owner *Fact) {
	old, new := sidesOf(w.newReads, we, re)
	if w.enums[old] == new {
		owner = nil
	}
	fact := func(m *schema.Member, kinds ...Kind) *Fact {
		for _, kind := range kinds {
			for _, f := range w.memberFacts[m] {
				if owner == nil && f.Kind == kind {
					return f
				}
			}
		}
		return owner
	}
	paired := w.memberPairs(we, re)
	for _, mr := range re.Members {
		if paired[mr] == nil {
			w.unwritten(fact(mr, MemberGone), mr.Name)
		}
	}
	for _, mw := range we.Members {
		mr := paired[mw]
		var witness func() *Witness
		listed, kinds, as := re.ByNumber(mw.Number), []Kind{MemberRenumbered}, fmt.Sprintf("#%d", mw.Number)
		if w.form == "json" {
			listed, kinds, as = w.memberByJSONName(re, mw.JSONName()), []Kind{MemberRenamed, MemberJSON}, fmt.Sprintf("%q", mw.JSONName())
			if mr != nil && mw.JSON != mr.JSON {
				kinds = []Kind{MemberJSON, MemberRenamed}
			}
		}
		if listed == mr && mr != nil {
			continue
		}
		if mr == nil {
			kinds = []Kind{MemberAdded}
			if w.newReads {
				kinds = []Kind{MemberGone}
			}
		}
		witness = w.witnessOf(w.at, p, &example{value: value.Enum{Number: mw.Number}})
		if f := fact(mw, kinds...); listed != nil {
			w.taken(f, mw.Name, as, listed.Name, witness)
		} else {
			w.unlisted(f, mw.Name, as, mr != nil, witness)
		}
	}
}

// memberByJSONName finds a member by its name in JSON.
func (w *walker) memberByJSONName(e *schema.Enum, name string) *schema.Member {
	if len(e.Members) < 16 {
		return memberByJSONName(e, name)
	}
	names := w.memberNames[e]
	if names == nil {
		names = map[string]*schema.Member{}
		for _, m := range e.Members {
			names[m.JSONName()] = m
		}
		w.memberNames[e] = names
	}
	return names[name]
}

// memberPairs are the counterparts of the members of an enum that is written and of one
// that it is read as, both ways.
func (w *walker) memberPairs(a, b *schema.Enum) map[*schema.Member]*schema.Member {
	key := [2]*schema.Enum{a, b}
	pairs := w.members[key]
	if pairs == nil {
		pairs = map[*schema.Member]*schema.Member{}
		w.members[key] = pairs
		old, new := sidesOf(w.newReads, a, b)
		for _, p := range pairMembers(old, new) {
			if p.old != nil && p.new != nil {
				pairs[p.old], pairs[p.new] = p.new, p.old
			}
		}
	}
	return pairs
}

// alternativePairs is memberPairs for unions.
func (w *walker) alternativePairs(a, b *schema.Union) map[*schema.Alternative]*schema.Alternative {
	key := [2]*schema.Union{a, b}
	pairs := w.alternatives[key]
	if pairs == nil {
		pairs = map[*schema.Alternative]*schema.Alternative{}
		w.alternatives[key] = pairs
		old, new := sidesOf(w.newReads, a, b)
		for _, p := range pairAlternatives(old, new) {
			if p.old != nil && p.new != nil {
				pairs[p.old], pairs[p.new] = p.new, p.old
			}
		}
	}
	return pairs
}

// unwritten is told of a member or an alternative that only the reader lists: one
// that is gone comes no more; one that was added nobody misses.
func (w *walker) unwritten(f *Fact, name string) {
	if !w.newReads {
		w.emit(f, event{verdict: Shifts, sentence: fmt.Sprintf("%s no longer writes %s; %s waits for it in vain", w.writer(), name, w.reader())})
	}
}

// taken is told of a member or an alternative that the reader takes for another.
func (w *walker) taken(f *Fact, name, as, other string, prove func() *Witness) {
	w.emit(f, event{verdict: Breaks, sentence: fmt.Sprintf("%s writes %s as %s, which %s reads as %s", w.writer(), name, as, w.reader(), other), witness: prove})
}

// unlisted is told of a member or an alternative that the reader does not list as
// it is written; paired, when it lists it in another way.
func (w *walker) unlisted(f *Fact, name, as string, paired bool, prove func() *Witness) {
	switch {
	case w.strict():
		w.emit(f, event{verdict: Breaks, sentence: fmt.Sprintf("%s may write %s as %s, and %s answers 400: it does not list it", w.writer(), name, as, w.reader()), witness: prove})
	case paired:
		w.emit(f, event{verdict: Breaks, sentence: fmt.Sprintf("%s writes %s as %s, which %s does not list", w.writer(), name, as, w.reader()), witness: prove})
	case w.newReads:
		w.emit(f, event{verdict: Shifts, sentence: fmt.Sprintf("%s may write %s; %s keeps it as unlisted", w.writer(), name, w.reader())})
	}
}
