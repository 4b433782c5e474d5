package compare

import (
	"fmt"
	"math"
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
// once, so that every pair of messages is judged once and the way to it, which
// a witness takes, is short.
type walker struct {
	*differ
	crossing
	nodes map[visit]*node
	queue []*node
	at    *node // the pair that is judged
	told  []telling

	unions []*schema.Union // that types is in

	order []*node  // all nodes, those near roots first
	calls []string // that lead anywhere, once callsTo was asked

	pairings map[[2]*schema.Message][]fieldPair // of messages that are no counterparts
	found    map[proof]proven                   // what proved breaks, in any form

	minimals value.Minimals
	slims    map[proof]visit // messages without what is large in them, by what is varied

	names map[*schema.Field]string // outside of bodies, what fields are told apart by; else nil
}

// visit is a pair of messages, what is written and what it is read as. owner
// is the fact that the pair belongs to when they are not one declaration.
type visit struct {
	w, r  *schema.Message
	owner *Fact
}

// node is a visit with the ways to it.
type node struct {
	visit
	root   *node         // where the shortest way begins
	parent *node         // the step before on that way; nil for a root
	field  *schema.Field // of parent, which holds this
	from   []*node       // all that lead here
	to     []*node       // all that this leads to
	calls  []string      // of a root: the calls whose payloads it is

	reached big.Int // the calls that lead here, a bit each
	seen    bool    // by before
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
	witness  func() *Witness // of a break
}

// add makes a pair of messages a root.
func (w *walker) add(wm, rm *schema.Message, owner *Fact, call string) {
	n := w.node(wm, rm, owner)
	if call != "" {
		n.calls = append(n.calls, call)
	}
}

// node finds or makes the node of a pair.
func (w *walker) node(wm, rm *schema.Message, owner *Fact) *node {
	old, new := sidesOf(w.newReads, wm, rm)
	if w.messages[old] == new {
		owner = nil
	}
	v := visit{wm, rm, owner}
	n := w.nodes[v]
	if n == nil {
		n = &node{visit: v}
		n.root = n
		w.nodes[v] = n
		w.queue, w.order = append(w.queue, n), append(w.order, n)
	}
	return n
}

// step goes on to a pair that a field of the current one holds.
func (w *walker) step(field *schema.Field, wm, rm *schema.Message, owner *Fact) {
	known := len(w.nodes)
	n := w.node(wm, rm, owner)
	if len(w.nodes) > known {
		n.root, n.parent, n.field = w.at.root, w.at, field
	}
	n.from, w.at.to = append(n.from, w.at), append(w.at.to, n)
}

// walk judges every pair that the roots lead to.
func (w *walker) walk() {
	for len(w.queue) > 0 {
		w.at, w.queue = w.queue[0], w.queue[1:]
		w.message(w.at.w, w.at.r, w.at.owner)
	}
}

func (w *walker) emit(f *Fact, e event) {
	if f != nil {
		w.told = append(w.told, telling{f, e, w.at})
	}
}

// steps are the fields that lead from the root to a node.
func (n *node) steps() []*schema.Field {
	var steps []*schema.Field
	for ; n.parent != nil; n = n.parent {
		steps = append(steps, n.field)
	}
	slices.Reverse(steps)
	return steps
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

// onlyReader judges a field that only the reader's definitions have.
func (w *walker) onlyReader(wm *schema.Message, fr *schema.Field, owner *Fact) {
	kind := FieldGone
	if w.newReads {
		kind = FieldAdded
	}
	switch {
	case fr.Presence == schema.Required:
		at := w.at
		if w.feeder(wm, fr) != nil && w.prove(at, nil, false) == nil {
			return // another field, which was renamed or renumbered, comes in its place
		}
		w.emit(w.fact(owner, fr, kind), event{verdict: Breaks,
			sentence: fmt.Sprintf("%s does not write %s, and %s requires it", w.writer(), fr.Name, w.reader()),
			witness:  func() *Witness { return w.prove(at, nil, false) }})
	case kind == FieldGone:
		w.emit(w.fact(owner, fr, kind), event{verdict: Shifts,
			sentence: fmt.Sprintf("%s no longer writes %s; %s finds it absent", w.writer(), fr.Name, w.reader())})
	}
}

// feeder is the field of the writer that arrives as a field of the reader, or nil.
func (w *walker) feeder(wm *schema.Message, fr *schema.Field) *schema.Field {
	if w.form == "json" {
		return byJSONName(wm, fr.JSONName())
	}
	return wm.ByNumber(fr.Number)
}

// field judges a field that both have.
func (w *walker) field(fw, fr *schema.Field, owner *Fact) {
	reader := fr.Message
	receiver, kind := reader.ByNumber(fw.Number), FieldRenumbered
	if w.form == "json" {
		receiver, kind = byJSONName(reader, fw.JSONName()), FieldRenamed
		if fw.JSON != fr.JSON {
			kind = FieldJSON
		}
	}
	if w.names != nil && w.names[fw] == w.names[fr] {
		receiver = fr
	}
	if receiver != fr {
		w.misses(fw, fr, w.fact(owner, fw, kind))
		return
	}
	presence := func(v Verdict, sentence string, witness func() *Witness) {
		w.emit(w.fact(owner, fw, FieldPresence), event{v, sentence, witness})
	}
	at := w.at
	absent := func() *Witness { return w.prove(at, fw, true) }
	switch {
	case fw.Presence == schema.Optional && fr.Presence == schema.Required:
		presence(Breaks, fmt.Sprintf("%s may leave out %s, and %s requires it", w.writer(), fw.Name, w.reader()), absent)
	case fw.Presence == schema.Defaulted && fr.Presence == schema.Required && w.leftOut():
		presence(Breaks, fmt.Sprintf("%s may rely on the default of %s and leave it out, and %s requires it", w.writer(), fw.Name, w.reader()), absent)
	case fw.Presence == schema.Optional && fr.Presence == schema.Defaulted:
		presence(Shifts, fmt.Sprintf("where %s leaves out %s, %s reads %s", w.writer(), fw.Name, w.reader(), schema.LiteralText(fr.Default)), nil)
	case fw.Presence == schema.Defaulted && fr.Presence == schema.Optional && w.leftOut():
		presence(Shifts, fmt.Sprintf("where %s leaves out %s, meaning %s, %s finds it absent", w.writer(), fw.Name, schema.LiteralText(fw.Default), w.reader()), nil)
	case fw.Presence == schema.Defaulted && fr.Presence == schema.Defaulted && w.leftOut():
		if f := w.fact(owner, fw, FieldDefault); f != nil && schema.LiteralText(fw.Default) != schema.LiteralText(fr.Default) {
			w.emit(f, event{verdict: Shifts, sentence: fmt.Sprintf("where %s leaves out %s, meaning %s, %s reads %s",
				w.writer(), fw.Name, schema.LiteralText(fw.Default), w.reader(), schema.LiteralText(fr.Default))})
		}
	}
	if bareScalar(fw) && bareScalar(fr) && fw.Type.Kind == fr.Type.Kind {
		return // as most fields are: nothing more can differ
	}
	w.types(fw, fw.Type, fr.Type, &ownBounds{fw.Bounds, fr.Bounds, w.fact(owner, fw, FieldBounds)}, w.fact(owner, fw, FieldType))
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
// so the search for a witness decides.
func (w *walker) misses(fw, fr *schema.Field, f *Fact) {
	how := fmt.Sprintf("as #%d, and %s looks for #%d", fw.Number, w.reader(), fr.Number)
	if w.form == "json" {
		how = fmt.Sprintf("as %q, and %s looks for %q", fw.JSONName(), w.reader(), fr.JSONName())
	}
	witness := w.prove(w.at, fw, false)
	if other := w.feeder(fw.Message, fr); witness == nil && other != nil && other != fw {
		witness = w.proveBoth(w.at, fw, other) // what comes in its place may be equal by chance
	}
	if witness != nil {
		w.emit(f, event{Breaks, fmt.Sprintf("%s writes %s %s", w.writer(), fw.Name, how), func() *Witness { return witness }})
		return
	}
	w.emit(f, event{verdict: Shifts, sentence: fmt.Sprintf("%s writes %s %s; every value reads alike all the same", w.writer(), fw.Name, how)})
}

// types compares the types of a field, or of what it holds. own are the bounds
// of the field itself, nil for what it holds; f is the fact that its type has
// changed, or nil.
func (w *walker) types(field *schema.Field, wt, rt *schema.Type, own *ownBounds, f *Fact) {
	at := w.at
	w.limits(field, wt, rt, own, f)
	old, new := sidesOf(w.newReads, wt, rt)
	if w.pairedTypes(old, new) {
		f = w.typeFact(wt.Named, TypeChanged)
	}
	if w.label == "http" && w.position == Request && wt.Kind != schema.KindList && rt.Kind == schema.KindList && wt.Kind == rt.Elem.Kind {
		return // one value in a parameter is a list of one
	}
	if wt.Kind != rt.Kind {
		if !w.widens(wt, rt) {
			if (len(boundsOf(field)) > 0 || bounded(field.Type, 0)) && w.prove(at, field, false) == nil {
				// The writer's bounds may keep every value within the new type.
				w.emit(f, event{verdict: Shifts, sentence: fmt.Sprintf("%s; %s writes %s in %s, and %s reads %s, but within its bounds no value was found that reads otherwise", notDecided, w.writer(), wt.Short(), field.Name, w.reader(), rt.Short())})
				return
			}
			w.emit(f, event{Breaks, fmt.Sprintf("%s writes %s in %s, and %s reads %s", w.writer(), wt.Short(), field.Name, w.reader(), rt.Short()),
				func() *Witness { return w.prove(at, field, false) }})
		}
		return
	}
	switch wt.Kind {
	case schema.KindMap:
		w.types(field, wt.Key, rt.Key, nil, f)
		w.types(field, wt.Elem, rt.Elem, nil, f)
	case schema.KindList:
		w.types(field, wt.Elem, rt.Elem, nil, f)
	case schema.KindUnion:
		w.union(field, wt.Union, rt.Union, f)
	case schema.KindMessage:
		w.step(field, wt.Message, rt.Message, f)
	case schema.KindEnum:
		w.enum(field, wt.Enum, rt.Enum, f)
	}
}

// enterUnion goes into a union, unless that is inside of itself.
func (w *walker) enterUnion(u *schema.Union) bool {
	if slices.Contains(w.unions, u) {
		return false
	}
	w.unions = append(w.unions, u)
	return true
}

func (w *walker) leaveUnion() { w.unions = w.unions[:len(w.unions)-1] }

// widens tells whether every value of one type is read as an equal value of
// another kind.
func (w *walker) widens(from, to *schema.Type) bool {
	low, high := int64(0), uint64(0)
	switch {
	case from.Kind.IsInteger():
		low, high = from.Kind.Range()
	case from.Kind == schema.KindEnum && w.form == "binary":
		// An enum travels as its number, and only listed members are lawful.
		high = uint64(from.Enum.Members[len(from.Enum.Members)-1].Number)
	default:
		return from.Kind == schema.KindFloat32 && to.Kind == schema.KindFloat64
	}
	switch {
	case to.Kind.IsInteger():
		least, most := to.Kind.Range()
		return low >= least && high <= most
	case to.Kind == schema.KindFloat64:
		return high <= 1<<53
	case to.Kind == schema.KindFloat32:
		return high <= 1<<24
	case to.Kind == schema.KindEnum:
		// Any number is kept as an enum's, but in a request it must be listed.
		return low >= 0 && high <= math.MaxUint16 && !w.strict()
	}
	return false
}

// enum compares the members of two enums.
func (w *walker) enum(field *schema.Field, we, re *schema.Enum, owner *Fact) {
	at := w.at
	old, new := sidesOf(w.newReads, we, re)
	if w.enums[old] == new {
		owner = nil
	}
	prove := func() *Witness { return w.prove(at, field, false) }
	for _, p := range pairMembers(old, new) {
		mw, mr := sidesOf(w.newReads, p.old, p.new)
		memberFact := func(m *schema.Member, kind Kind) *Fact {
			for _, fact := range w.memberFacts[m] {
				if owner == nil && fact.Kind == kind {
					return fact
				}
			}
			return owner
		}
		if mw == nil {
			w.unwritten(memberFact(mr, MemberGone), mr.Name)
			continue
		}
		listed, kind, as := re.ByNumber(mw.Number), MemberRenumbered, fmt.Sprintf("#%d", mw.Number)
		if w.form == "json" {
			listed, kind, as = memberByJSONName(re, mw.JSONName()), MemberRenamed, fmt.Sprintf("%q", mw.JSONName())
			if mr != nil && mw.JSON != mr.JSON {
				kind = MemberJSON
			}
		}
		if mr == nil {
			kind = MemberAdded
			if w.newReads {
				kind = MemberGone
			}
		}
		f := memberFact(mw, kind)
		switch {
		case listed == mr && mr != nil:
		case listed != nil:
			w.taken(f, mw.Name, as, listed.Name, prove)
		default:
			w.unlisted(f, mw.Name, as, mr != nil, prove)
		}
	}
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
	w.emit(f, event{Breaks, fmt.Sprintf("%s writes %s as %s, which %s reads as %s", w.writer(), name, as, w.reader(), other), prove})
}

// unlisted is told of a member or an alternative that the reader does not list as
// it is written; paired, when it lists it in another way.
func (w *walker) unlisted(f *Fact, name, as string, paired bool, prove func() *Witness) {
	switch {
	case w.strict():
		w.emit(f, event{Breaks, fmt.Sprintf("%s may write %s as %s, and %s answers 400: it does not list it", w.writer(), name, as, w.reader()), prove})
	case paired:
		w.emit(f, event{Breaks, fmt.Sprintf("%s writes %s as %s, which %s does not list", w.writer(), name, as, w.reader()), prove})
	case w.newReads:
		w.emit(f, event{verdict: Shifts, sentence: fmt.Sprintf("%s may write %s; %s keeps it as unlisted", w.writer(), name, w.reader())})
	}
}
