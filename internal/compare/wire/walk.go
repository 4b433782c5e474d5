package wire

import (
	"fmt"
	"math/big"
	"slices"
	"strconv"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// crossing is one way of payloads from a writer to a reader: OLD to NEW or
// back, in an encoding, in a position.
type crossing struct {
	newReads bool // NEW reads what OLD writes
	encoding string
	covers   string // the encoding that is reported: errors travel as JSON, and count under http
	position verdict.Position
}

// strict tells whether an enum value that the reader does not list is refused.
func (c crossing) strict() bool { return c.position == verdict.Request }

// leftOut tells whether people write such payloads by hand, without fields
// that have a default.
func (c crossing) leftOut() bool {
	return c.position == verdict.Request || c.position == verdict.Stored
}

// writer and reader name the two sides, for people.
func (c crossing) writer() string {
	age := map[bool]string{true: "older", false: "newer"}[c.newReads]
	switch c.position {
	case verdict.Request:
		return article(age) + " client"
	case verdict.Stored:
		return age + " code"
	}
	return article(age) + " server"
}

func (c crossing) reader() string {
	age := map[bool]string{true: "newer", false: "older"}[c.newReads]
	switch c.position {
	case verdict.Request:
		return article(age) + " server"
	case verdict.Stored:
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
// says what each change does on the way. It goes breadth first, from all roots at
// once, so that every pair of messages, and of unions, is judged once and the way to
// it, which a proof takes, is short.
type walker struct {
	*change.Set
	crossing
	nodes map[visit]*node
	queue []*node
	at    *node // the pair that is judged
	told  []telling

	order []*node  // all nodes, those near roots first
	calls []string // that lead anywhere, once callsTo was asked

	pairings     map[[2]*schema.Message][]change.FieldPair // of messages that are no counterparts
	members      map[[2]*schema.Enum]map[*schema.Member]*schema.Member
	alternatives map[[2]*schema.Union]map[*schema.Alternative]*schema.Alternative
	memberNames  map[*schema.Enum]map[string]*schema.Member
	sights       map[spot]*sight
	bounds       map[string]*schema.Bounds // by their text
	reduced      map[[4]*schema.Field][2]*schema.Message

	standing map[*schema.Message]bool          // made for what no message holds
	made     map[*verdict.Proof]*value.Message // the payloads of proofs

	minimals value.Minimals
}

func newWalker(d *change.Set, cr crossing) *walker {
	return &walker{Set: d, crossing: cr, nodes: map[visit]*node{}, minimals: value.Minimals{},
		pairings:     map[[2]*schema.Message][]change.FieldPair{},
		members:      map[[2]*schema.Enum]map[*schema.Member]*schema.Member{},
		alternatives: map[[2]*schema.Union]map[*schema.Alternative]*schema.Alternative{},
		memberNames:  map[*schema.Enum]map[string]*schema.Member{}, sights: map[spot]*sight{},
		standing: map[*schema.Message]bool{}, made: map[*verdict.Proof]*value.Message{},
		bounds: map[string]*schema.Bounds{}, reduced: map[[4]*schema.Field][2]*schema.Message{}}
}

// visit is a pair of messages or of unions, what is written and what it is read as.
// owner is the change that the pair belongs to when they are not one declaration.
type visit struct {
	w, r   *schema.Message // or nil
	wu, ru *schema.Union   // or nil
	owner  *change.Change
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
		return strconv.Quote(p.written.Name)
	}
	return strconv.Quote(p.writtenAlt.Name)
}

// telling is an event of a change at a node.
type telling struct {
	about *change.Change
	event event
	at    *node
}

// event is what a change does at one place.
type event struct {
	verdict  verdict.Verdict
	sentence string
	proof    func() *verdict.Proof // of a break, and of what is altered where a payload shows it
	open     bool                  // whether it breaks was not decided
}

// add makes a pair of messages a root.
func (w *walker) add(wm, rm *schema.Message, owner *change.Change, call string) {
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
		counterparts = w.Unions[old] == new
	} else {
		old, new := sidesOf(w.newReads, v.w, v.r)
		counterparts = w.Messages[old] == new
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

func (w *walker) emit(f *change.Change, e event) {
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
func (w *walker) pairs(o, n *schema.Message) []change.FieldPair {
	key := [2]*schema.Message{o, n}
	if list, known := w.Paired(o, n); known {
		return list
	}
	list, known := w.pairings[key]
	if !known {
		list = change.PairFields(o, n)
		w.pairings[key] = list
	}
	return list
}

// change finds the change of a kind about a field, unless what is walked belongs
// to another change whole.
func (w *walker) changeOf(owner *change.Change, f *schema.Field, kind change.Kind) *change.Change {
	if owner != nil {
		return owner
	}
	for _, c := range w.OfField[f.Declared()] {
		if c.Kind == kind {
			return c
		}
	}
	return nil
}

// message compares what is written as wm with what is read as rm.
func (w *walker) message(wm, rm *schema.Message, owner *change.Change) {
	old, new := sidesOf(w.newReads, wm, rm)
	for _, p := range w.pairs(old, new) {
		fw, fr := sidesOf(w.newReads, p.Old, p.New)
		switch {
		case fw == nil:
			w.onlyReader(wm, fr, owner)
		case fr == nil:
			if w.newReads { // gone
				w.emit(w.changeOf(owner, fw, change.FieldGone), event{verdict: verdict.Altering,
					sentence: fmt.Sprintf("%s still writes %q; %s keeps it, but no longer sees it", w.writer(), fw.Name, w.reader())})
			}
		default:
			w.field(fw, fr, owner)
		}
	}
}

// onlyReader judges a field that only the reader's definitions have. Another field may
// arrive as it, by its number or its name.
func (w *walker) onlyReader(wm *schema.Message, fr *schema.Field, owner *change.Change) {
	kind := change.FieldGone
	if w.newReads {
		kind = change.FieldAdded
	}
	f := w.changeOf(owner, fr, kind)
	other := w.feeder(wm, fr)
	switch {
	case other == nil && fr.Presence == schema.Required:
		w.breaks(f, w.at, nil, fr, nil, fmt.Sprintf("%s does not write %q, and %s requires it", w.writer(), fr.Name,
			w.reader()))
		return
	case other != nil && w.breaks(f, w.at, nil, fr, other,
		fmt.Sprintf("%s writes %q where %s expects %q", w.writer(), other.Name, w.reader(), fr.Name)):
		return
	}
	if kind == change.FieldGone {
		w.emit(f, event{verdict: verdict.Altering, sentence: fmt.Sprintf("%s no longer writes %q; %s finds it absent",
			w.writer(), fr.Name, w.reader())})
	}
}

// feeder is the field of the writer that arrives as a field of the reader, or nil.
func (w *walker) feeder(wm *schema.Message, fr *schema.Field) *schema.Field {
	if w.encoding == "json" {
		return byJSONName(wm, fr.JSONName())
	}
	return wm.ByNumber(fr.Number)
}

// receiver is the field of the reader as which a field of the writer arrives, or nil.
func (w *walker) receiver(rm *schema.Message, fw *schema.Field) *schema.Field {
	if w.encoding == "json" {
		return byJSONName(rm, fw.JSONName())
	}
	return rm.ByNumber(fw.Number)
}

// field judges a field that both have.
func (w *walker) field(fw, fr *schema.Field, owner *change.Change) {
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
	w.types(place{written: fw, read: fr}, s, w.changeOf(owner, fw, change.FieldBounds),
		w.changeOf(owner, fw, change.FieldType))
}

// presence judges whether a field may be left out, and what that means.
func (w *walker) presence(fw, fr *schema.Field, owner *change.Change) {
	f := w.changeOf(owner, fw, change.FieldPresence)
	if fw.Type.Clearable {
		w.clearing(fw, fr, owner)
	}
	mayLack := fw.Presence == schema.Optional || fw.Presence == schema.Defaulted && w.leftOut()
	alters := func(f *change.Change, format string, args ...any) {
		w.emit(f, event{verdict: verdict.Altering, sentence: fmt.Sprintf(format, args...), proof: w.shows(fw, fr)})
	}
	switch {
	case !mayLack || fr.Presence == fw.Presence && fw.Presence != schema.Defaulted:
	case fr.Presence == schema.Required && fw.Presence == schema.Optional:
		w.breaks(f, w.at, fw, fr, nil, fmt.Sprintf("%s may leave out %q, and %s requires it", w.writer(), fw.Name,
			w.reader()))
	case fr.Presence == schema.Required:
		w.breaks(f, w.at, fw, fr, nil, fmt.Sprintf("%s may rely on the default of %q and leave it out, and %s requires it",
			w.writer(), fw.Name, w.reader()))
	case fw.Presence == schema.Optional:
		alters(f, "where %s leaves out %q, %s reads %s", w.writer(), fw.Name, w.reader(), schema.LiteralText(fr.Default))
	case fr.Presence == schema.Optional:
		alters(f, "where %s leaves out %q, meaning %s, %s finds it absent", w.writer(), fw.Name,
			schema.LiteralText(fw.Default), w.reader())
	default:
		a, b := hold(value.Default(fw.Default), fw.Type), hold(value.Default(fr.Default), fr.Type)
		if w.differs(a, b).verdict != verdict.Compatible {
			alters(firstOf(w.changeOf(owner, fw, change.FieldDefault), w.changeOf(owner, fw, change.FieldType), f),
				"where %s leaves out %q, meaning %s, %s reads %s",
				w.writer(), fw.Name, schema.LiteralText(fw.Default), w.reader(), schema.LiteralText(fr.Default))
		}
	}
}

// clearing judges what it means to clear a field that may be cleared.
func (w *walker) clearing(fw, fr *schema.Field, owner *change.Change) {
	f := w.changeOf(owner, fw, change.FieldPresence)
	if !fr.Type.Clearable {
		w.breaks(f, w.at, fw, fr, nil, fmt.Sprintf("%s may clear %q, and %s requires it", w.writer(), fw.Name, w.reader()))
		return
	}
	a, b := fw.Changes, fr.Changes
	before, after := cleared(a), cleared(b)
	if a.Presence == b.Presence {
		if a.Presence == schema.Optional || w.differs(hold(value.Default(a.Default), a.Type),
			hold(value.Default(b.Default), b.Type)).verdict == verdict.Compatible {
			return
		}
		f = firstOf(w.changeOf(owner, fw, change.FieldDefault), w.changeOf(owner, fw, change.FieldType), f)
	}
	at := w.at
	sentence := fmt.Sprintf("where %s clears %q, meaning %s, %s takes that for %s", w.writer(), fw.Name, before,
		w.reader(), after)
	w.emit(f, event{verdict: verdict.Altering, sentence: sentence, proof: func() *verdict.Proof {
		writer, _ := w.reduce(at, fw, fr, nil)
		m := w.minimals.Message(writer)
		m.Fields[fw.Number] = value.Cleared{}
		return w.prove(at, m, difference{verdict.Altering, "/" + pointerStep(fr.JSONName()), func(path string) string {
			return fmt.Sprintf("reads that %s is cleared, which means %s, where %s was meant", path, after, before)
		}}, "")
	}})
}

// cleared says what a field is once it is cleared.
func cleared(f *schema.Field) string {
	if f.Presence == schema.Defaulted {
		return schema.LiteralText(f.Default)
	}
	return "absent"
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
func (w *walker) misses(fw, fr *schema.Field, owner *change.Change) {
	kind, as, other := change.FieldRenumbered, fmt.Sprintf("#%d", fw.Number), fmt.Sprintf("#%d", fr.Number)
	if w.encoding == "json" {
		kind, as, other = change.FieldRenamed, strconv.Quote(fw.JSONName()), strconv.Quote(fr.JSONName())
		if fw.JSON != fr.JSON {
			kind = change.FieldJSON
		}
	}
	f := firstOf(w.changeOf(owner, fw, kind), w.changeOf(owner, fw, change.FieldRenamed),
		w.changeOf(owner, fw, change.FieldJSON))
	w.breaks(f, w.at, fw, fr, w.feeder(w.at.w, fr),
		fmt.Sprintf("%s writes %s, and %s looks for %s", w.writer(), nameAs(fw.Name, as),
			w.reader(), other))
}

// types compares the types at a place. bounds is the change that the bounds of the field
// itself changed, f the change that its type did; or nil.
func (w *walker) types(p place, s spot, bounds, f *change.Change) {
	old, new := sidesOf(w.newReads, s.wt, s.rt)
	if w.PairedTypes(old, new) {
		f = firstOf(w.TypeChange(s.wt.Named, change.TypeChanged), f)
	}
	blamed := blame{bounds: bounds, typ: f}
	switch a, b := s.wt.Kind, s.rt.Kind; {
	case a == schema.KindMap && b == a:
		w.countsAt(p, s, blamed)
		if empty(s.wt, s.wb) {
			return
		}
		w.types(p.in(link{s.wt, s.wb, true}), spot{wt: s.wt.Key, rt: s.rt.Key, key: true}, nil, f)
		w.types(p.in(link{s.wt, s.wb, false}), spot{wt: s.wt.Elem, rt: s.rt.Elem}, nil, f)
	case a == schema.KindList && b == a:
		w.countsAt(p, s, blamed)
		if empty(s.wt, s.wb) {
			return
		}
		w.types(p.in(link{s.wt, s.wb, false}), spot{wt: s.wt.Elem, rt: s.rt.Elem}, nil, f)
	case a == schema.KindUnion && b == a:
		w.step(p, visit{wu: s.wt.Union, ru: s.rt.Union, owner: f})
	case a == schema.KindMessage && b == a && s.wt.Message.IsPatch() != s.rt.Message.IsPatch():
		w.lookAt(p, s, blamed) // another kind of thing
	case a == schema.KindMessage && b == a:
		w.step(p, visit{w: s.wt.Message, r: s.rt.Message, owner: f})
	case a == schema.KindEnum && b == a:
		w.enum(p, s.wt.Enum, s.rt.Enum, f)
	case a == b && sameBounds(s.wb, s.rb) && sameBounds(namedBounds(s.wt), namedBounds(s.rt)):
	default:
		w.lookAt(p, s, blamed)
	}
}

// blame are the changes that what happens at a spot can belong to: of the field's own
// bounds, and of its type.
type blame struct{ bounds, typ *change.Change }

// ofOwn finds the change by which the bounds of a field refuse something, and ofNamed
// that by which those of its type do.
func (w *walker) ofOwn(s spot, b blame) *change.Change {
	return firstOf(b.bounds, w.TypeChange(s.wt.Named, change.TypeBounds), w.TypeChange(s.rt.Named, change.TypeBounds),
		b.typ, w.TypeChange(s.rt.Named, change.TypeChanged))
}

func (w *walker) ofNamed(s spot, b blame) *change.Change {
	return firstOf(w.TypeChange(s.rt.Named, change.TypeBounds), b.typ, b.bounds,
		w.TypeChange(s.wt.Named, change.TypeBounds), w.TypeChange(s.rt.Named, change.TypeChanged))
}

// countsAt judges how many elements or entries there may be.
func (w *walker) countsAt(p place, s spot, blamed blame) {
	if len(s.readers()) == 0 {
		return
	}
	own, named := w.counts(s)
	w.refusedByBounds(p, own, w.ofOwn(s, blamed))
	w.refusedByBounds(p, named, w.ofNamed(s, blamed))
}

// refusedByBounds tells of a value that the reader's bounds refuse. In a request the
// reader checks them; elsewhere nobody does, and a looser writer may surprise.
func (w *walker) refusedByBounds(p place, e *example, f *change.Change) {
	if e == nil {
		return
	}
	if !w.strict() {
		w.emit(f, event{verdict: verdict.Altering, sentence: fmt.Sprintf("%s may write values of %s that %s's own "+
			"bounds refuse; nobody checks them there", w.writer(), p.name(), w.reader())})
		return
	}
	w.emit(f, event{verdict: verdict.Breaking, sentence: fmt.Sprintf("%s may write values of %s that %s refuses",
		w.writer(), p.name(), w.reader()), proof: w.proofOf(w.at, p, e)})
}

// lookAt judges a spot by reading.
func (w *walker) lookAt(p place, s spot, blamed blame) {
	seen := w.look(s)
	of := blamed.typ
	if of == nil {
		of = firstOf(w.TypeChange(s.rt.Named, change.TypeChanged), w.TypeChange(s.wt.Named, change.TypeChanged),
			blamed.bounds)
	}
	writes := fmt.Sprintf("%s writes %s in %s, and %s reads %s", w.writer(), s.wt.Short(), p.name(), w.reader(),
		s.rt.Short())
	switch {
	case seen.refused != nil:
		w.emit(of, event{verdict: verdict.Breaking, sentence: writes, proof: w.proofOf(w.at, p, seen.refused)})
	case seen.otherwise != nil:
		w.emit(of, event{verdict: verdict.Breaking, sentence: writes, proof: w.proofOf(w.at, p, seen.otherwise)})
	case seen.altered != nil:
		w.emit(of, event{verdict: verdict.Altering, sentence: writes + ": the same text, but a value of another kind",
			proof: w.proofOf(w.at, p, seen.altered)})
	}
	w.refusedByBounds(p, seen.own, w.ofOwn(s, blamed))
	w.refusedByBounds(p, seen.named, w.ofNamed(s, blamed))
	if seen.undecided && seen.own == nil && seen.named == nil && seen.refused == nil && seen.otherwise == nil {
		w.emit(firstOf(w.ofOwn(s, blamed), w.ofNamed(s, blamed)),
			event{verdict: verdict.Altering, open: true,
				sentence: fmt.Sprintf("%s, at values of %s that %s may write and %s may refuse", notDecided, p.name(), w.writer(),
					w.reader())})
	}
}

// enum compares the members of two enums.
func (w *walker) enum(p place, we, re *schema.Enum, owner *change.Change) {
	old, new := sidesOf(w.newReads, we, re)
	if w.Enums[old] == new {
		owner = nil
	}
	find := func(m *schema.Member, kinds ...change.Kind) *change.Change {
		for _, kind := range kinds {
			for _, f := range w.OfMember[m] {
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
			w.unwritten(find(mr, change.MemberGone), mr.Name)
		}
	}
	for _, mw := range we.Members {
		mr := paired[mw]
		var proof func() *verdict.Proof
		listed, kinds, as := re.ByNumber(mw.Number), []change.Kind{change.MemberRenumbered}, fmt.Sprintf("#%d", mw.Number)
		if w.encoding == "json" {
			listed, kinds, as = w.memberByJSONName(re, mw.JSONName()), []change.Kind{change.MemberRenamed, change.MemberJSON},
				fmt.Sprintf("%q", mw.JSONName())
			if mr != nil && mw.JSON != mr.JSON {
				kinds = []change.Kind{change.MemberJSON, change.MemberRenamed}
			}
		}
		if listed == mr && mr != nil {
			continue
		}
		if mr == nil {
			kinds = []change.Kind{change.MemberAdded}
			if w.newReads {
				kinds = []change.Kind{change.MemberGone}
			}
		}
		proof = w.proofOf(w.at, p, &example{value: value.Enum{Number: mw.Number}})
		if f := find(mw, kinds...); listed != nil {
			w.taken(f, mw.Name, as, listed.Name, proof)
		} else {
			w.unlisted(f, mw.Name, as, mr != nil, proof)
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
		for _, p := range change.PairMembers(old, new) {
			if p.Old != nil && p.New != nil {
				pairs[p.Old], pairs[p.New] = p.New, p.Old
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
		for _, p := range change.PairAlternatives(old, new) {
			if p.Old != nil && p.New != nil {
				pairs[p.Old], pairs[p.New] = p.New, p.Old
			}
		}
	}
	return pairs
}

// unwritten is told of a member or an alternative that only the reader lists: one
// that is gone comes no more; one that was added nobody misses.
func (w *walker) unwritten(f *change.Change, name string) {
	if !w.newReads {
		w.emit(f, event{verdict: verdict.Altering, sentence: fmt.Sprintf("%s no longer writes %q; %s never gets it",
			w.writer(), name, w.reader())})
	}
}

// taken is told of a member or an alternative that the reader takes for another.
func (w *walker) taken(f *change.Change, name, as, other string, prove func() *verdict.Proof) {
	w.emit(f, event{verdict: verdict.Breaking, sentence: fmt.Sprintf("%s writes %s, which %s reads as %q",
		w.writer(), nameAs(name, as), w.reader(), other), proof: prove})
}

// nameAs says what is written, and as what where that does not look the same.
func nameAs(name, as string) string {
	if as == strconv.Quote(name) {
		return as
	}
	return fmt.Sprintf("%q as %s", name, as)
}

// unlisted is told of a member or an alternative that the reader does not list as
// it is written; paired, when it lists it in another way.
func (w *walker) unlisted(f *change.Change, name, as string, paired bool, prove func() *verdict.Proof) {
	switch {
	case w.strict():
		w.emit(f, event{verdict: verdict.Breaking, sentence: fmt.Sprintf("%s may write %s, and %s answers 400: it "+
			"does not list it", w.writer(), nameAs(name, as), w.reader()), proof: prove})
	case paired:
		w.emit(f, event{verdict: verdict.Breaking, sentence: fmt.Sprintf("%s writes %s, which %s does not list",
			w.writer(), nameAs(name, as), w.reader()), proof: prove})
	case w.newReads:
		w.emit(f, event{verdict: verdict.Altering, sentence: fmt.Sprintf("%s may write %q; %s keeps it as unlisted",
			w.writer(), name, w.reader())})
	}
}

// union judges what is written as one union and read as another.
func (w *walker) union(wu, ru *schema.Union, owner *change.Change) {
	find := func(a *schema.Alternative, kinds ...change.Kind) *change.Change {
		for _, kind := range kinds {
			for _, f := range w.OfAlternative[a] {
				if owner == nil && f.Kind == kind {
					return f
				}
			}
		}
		return owner
	}
	paired := w.alternativePairs(wu, ru)
	for _, ar := range ru.Alternatives {
		if paired[ar] == nil {
			w.unwritten(find(ar, change.AlternativeGone), ar.Name)
		}
	}
	for _, aw := range wu.Alternatives {
		ar := paired[aw]
		p := place{writtenAlt: aw, readAlt: ar}
		listed, kinds, as := ru.ByNumber(aw.Number), []change.Kind{change.AlternativeRenumbered},
			fmt.Sprintf("#%d", aw.Number)
		if w.encoding == "json" {
			listed, kinds, as = alternativeByJSONName(ru, aw.JSONName()),
				[]change.Kind{change.AlternativeRenamed, change.AlternativeJSON}, fmt.Sprintf("%q", aw.JSONName())
			if ar != nil && aw.JSON != ar.JSON {
				kinds = []change.Kind{change.AlternativeJSON, change.AlternativeRenamed}
			}
		}
		if listed == ar && ar != nil {
			w.types(p, spot{wt: aw.Type, rt: ar.Type}, nil, find(aw, change.AlternativeType))
			continue
		}
		if ar == nil {
			kinds = []change.Kind{change.AlternativeAdded}
			if w.newReads {
				kinds = []change.Kind{change.AlternativeGone}
			}
		}
		proof := w.proofOf(w.at, p, &example{value: w.minimals.Within(aw.Type, nil)})
		if f := find(aw, kinds...); listed != nil {
			w.taken(f, aw.Name, as, listed.Name, proof)
		} else {
			w.unlisted(f, aw.Name, as, ar != nil, proof)
		}
	}
}

func alternativeByJSONName(u *schema.Union, name string) *schema.Alternative {
	for _, a := range u.Alternatives {
		if a.JSONName() == name {
			return a
		}
	}
	return nil
}

func firstOf(changes ...*change.Change) *change.Change {
	for _, f := range changes {
		if f != nil {
			return f
		}
	}
	return nil
}

// notDecided begins the sentence of what is not judged.
const notDecided = "this version of faithful does not decide whether this is breaking: look at it yourself"
