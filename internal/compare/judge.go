package compare

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"

	"faithfulcourier/internal/remote"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// judge says what each fact does to each promise.
type judge struct {
	*differ
	promise Promise
	walks   []*walker // begun, to be walked
	tables  map[*schema.Definitions]*table
	texts   map[bool]*textReader // by whether NEW reads
	servers map[*schema.Definitions]*remote.Counterpart

	referenced map[*schema.Message]bool // in OLD, by anything
}

func (j *judge) run() {
	for _, form := range []string{"binary", "json"} {
		if j.promised(form) {
			j.requests(form)
			j.sides(form, Answer, CallAnswer, func(c *schema.Call) *schema.Message { return c.Response })
			j.kept(form)
		}
	}
	if j.promised("http") {
		j.failures()
	}
	j.walkAll()
	for _, c := range j.calls {
		j.credentials(c)
		j.parameters(c)
		j.status(c)
	}
	for _, f := range j.facts {
		switch f.Kind {
		case CallHTTP:
			j.route(f)
		case CallStream:
			j.stream(f)
		case ModuleRenamed, ServiceRenamed, ServiceMoved, CallRenamed, CallMoved:
			j.renamed(f)
		case CallAdded:
			j.intercepts(f)
		}
		j.conversation(f)
		j.marks(f)
		for _, l := range j.promise.Languages {
			f.Effects = append(f.Effects, judgeCode(l, f)...)
		}
		slices.SortStableFunc(f.Effects, func(a, b *Effect) int {
			return cmp.Or(int(b.Verdict)-int(a.Verdict), cmp.Compare(formRank(a.Form), formRank(b.Form)))
		})
	}
}

// formRank puts payloads before code.
func formRank(form string) int {
	forms := []string{"binary", "json", "http"}
	if i := slices.Index(forms, form); i >= 0 {
		return i
	}
	return len(forms)
}

func (j *judge) promised(form string) bool { return slices.Contains(j.promise.Forms, form) }

func (j *judge) sorted() []*Fact {
	slices.SortStableFunc(j.facts, func(a, b *Fact) int {
		return cmp.Or(int(b.Verdict())-int(a.Verdict()), payloadRank(a)-payloadRank(b), strings.Compare(a.Where, b.Where), strings.Compare(string(a.Kind), string(b.Kind)))
	})
	return j.facts
}

// payloadRank puts what breaks payloads before what breaks code alone.
func payloadRank(f *Fact) int {
	if slices.ContainsFunc(f.Effects, func(e *Effect) bool { return e.Verdict == Breaks && e.Position != Code }) {
		return 0
	}
	return 1
}

// directions says which ways of reading a position promises: whether NEW
// reads what OLD writes, and whether OLD reads what NEW writes.
func (j *judge) directions(p Position) (newReads []bool) {
	switch {
	case p == Kept:
		return map[string][]bool{"each-reads-other": {true, false}, "new-reads-old": {true}, "old-reads-new": {false}}[j.promise.Kept]
	case j.promise.Rollout == "unordered":
		return []bool{true, false}
	case p == Request:
		return []bool{j.promise.Rollout == "server-leads"}
	}
	return []bool{j.promise.Rollout == "client-leads"}
}

// sides walks one side of all calls that both have.
func (j *judge) sides(form string, position Position, kind Kind, side func(*schema.Call) *schema.Message) {
	for _, newReads := range j.directions(position) {
		walk := j.walker(crossing{newReads, form, form, position})
		for _, c := range j.calls {
			old, new := side(c.old), side(c.new)
			wm, rm := sidesOf(newReads, old, new)
			switch {
			case old == nil && new == nil:
			case old == nil || new == nil:
				j.nothing(walk.crossing, j.callFact(c, kind), c, wm, rm)
			default:
				walk.add(wm, rm, j.callFact(c, kind), callName(c.old))
			}
		}
	}
}

func callName(c *schema.Call) string { return c.Service.Name + "." + c.Name }

func (j *judge) callFact(c callPair, kind Kind) *Fact {
	for _, f := range j.callFacts[c] {
		if f.Kind == kind {
			return f
		}
	}
	return nil
}

// walker begins a walk, which walkAll ends.
func (j *judge) walker(cr crossing) *walker {
	walk := newWalker(j.differ, cr)
	j.walks = append(j.walks, walk)
	return walk
}

// walkAll walks on all cores: what crosses in one position and direction after
// the other, so that a form can begin with what proved a break in the form before.
func (j *judge) walkAll() {
	type way struct {
		position Position
		newReads bool
	}
	effects := make([]map[*Fact]*Effect, len(j.walks))
	begun := map[way]bool{}
	var ways sync.WaitGroup
	for _, walk := range j.walks {
		key := way{walk.position, walk.newReads}
		if begun[key] {
			continue
		}
		begun[key] = true
		ways.Go(func() {
			for i, walk := range j.walks {
				if (way{walk.position, walk.newReads}) == key {
					effects[i] = walk.effects()
				}
			}
		})
	}
	ways.Wait()
	for _, ofWalk := range effects {
		for f, e := range ofWalk {
			j.sendWhole(e)
			f.Effects = append(f.Effects, e)
		}
	}
}

// effects walks, and makes of what each fact does, in however many places, one
// effect: the worst, with the witness that is nearest to a root.
func (walk *walker) effects() map[*Fact]*Effect {
	walk.walk()
	byFact := map[*Fact][]telling{}
	for _, t := range walk.told {
		byFact[t.fact] = append(byFact[t.fact], t)
	}
	effects := make(map[*Fact]*Effect, len(byFact))
	for f, told := range byFact {
		worst := told[0]
		var nodes []*node
		for _, t := range told {
			nodes = append(nodes, t.at)
			if t.event.verdict > worst.event.verdict {
				worst = t
			}
		}
		e := &Effect{Form: walk.label, Position: walk.position, NewReads: walk.newReads, Calls: walk.callsTo(nodes), Verdict: worst.event.verdict, Sentence: worst.event.sentence}
		if worst.event.witness != nil {
			e.Witness = worst.event.witness()
		}
		effects[f] = e
	}
	return effects
}

// nothing judges "()" on one side and a message on the other.
func (j *judge) nothing(cr crossing, f *Fact, c callPair, w, r *schema.Message) {
	e := event{}
	switch {
	case r == nil && !cr.newReads:
		return // NEW has a message where OLD has nothing: what is added is dropped, and missed by nobody
	case r == nil:
		e = event{verdict: Shifts, sentence: fmt.Sprintf("%s writes %s, and %s drops it", cr.writer(), w.Name, cr.reader())}
	case cr.position == Answer:
		e = event{verdict: Breaks, sentence: fmt.Sprintf("%s answers 204 with nothing, and %s expects %s", cr.writer(), cr.reader(), r.Name), witness: func() *Witness {
			m := meeting{false, c.new, c.old, j.old}
			if !cr.newReads {
				m = meeting{true, c.old, c.new, j.new}
			}
			return j.exchange(m, nil, 0, nil, cr.form == "binary")
		}}
	default:
		// No body and no type read as the empty message.
		_, err := value.DecodeJSON(r, []byte("{}"), 0)
		if err == nil {
			return
		}
		e = event{verdict: Breaks, sentence: fmt.Sprintf("%s sends nothing, and %s reads it as an empty %s", cr.writer(), cr.reader(), r.Name), witness: func() *Witness {
			return &Witness{Message: r.FullName(), JSON: "{}", Binary: []byte{0xa0}, Form: cr.form, Writer: cr.writer(), Reader: cr.reader(), Outcome: "refuses it: " + err.Error()}
		}}
	}
	effect := &Effect{Form: cr.form, Position: cr.position, NewReads: cr.newReads, Calls: []string{callName(c.old)}, Verdict: e.verdict, Sentence: e.sentence}
	if e.witness != nil {
		effect.Witness = e.witness()
	}
	f.Effects = append(f.Effects, effect)
}

// failures walks the errors that calls declare on both sides.
func (j *judge) failures() {
	for _, newReads := range j.directions(Failure) {
		walk := j.walker(crossing{newReads, "json", "http", Failure})
		for _, c := range j.calls {
			for _, old := range c.old.Fails {
				new := j.messages[old]
				if new == nil || !slices.Contains(c.new.Fails, new) {
					continue
				}
				wm, rm := sidesOf(newReads, old, new)
				walk.add(wm, rm, nil, callName(c.old))
			}
		}
	}
}

// kept walks the messages that are stored, and what no call of OLD uses: nobody knows where their payloads lie.
func (j *judge) kept(form string) {
	used := j.usedByCalls()
	for _, newReads := range j.directions(Kept) {
		walk := j.walker(crossing{newReads, form, form, Kept})
		add := func(old, new *schema.Message) {
			wm, rm := sidesOf(newReads, old, new)
			walk.add(wm, rm, nil, "")
		}
		for _, m := range j.old.Modules {
			for _, old := range m.Messages {
				if new := j.messages[old]; new != nil && (!used[old] || old.Stored) {
					add(old, new)
				}
			}
			for _, old := range m.Enums {
				if new := j.enums[old]; new != nil && !used[old] {
					add(j.stand(&old.Decl, &schema.Type{Kind: schema.KindEnum, Enum: old}), j.stand(&new.Decl, &schema.Type{Kind: schema.KindEnum, Enum: new}))
				}
			}
			for _, old := range m.Unions {
				if new := j.unions[old]; new != nil && !used[old] {
					add(j.stand(&old.Decl, &schema.Type{Kind: schema.KindUnion, Union: old}), j.stand(&new.Decl, &schema.Type{Kind: schema.KindUnion, Union: new}))
				}
			}
			for _, old := range m.Types {
				if new := j.types[old]; new != nil && !used[old] {
					add(j.stand(&old.Decl, &old.Type), j.stand(&new.Decl, &new.Type))
				}
			}
		}
	}
}

// stand makes what no message holds the only field of one.
func (j *judge) stand(decl *schema.Decl, t *schema.Type) *schema.Message {
	m := alone(t, nil)
	m.Decl = *decl
	j.standing[m] = true
	return m
}

// usedByCalls holds the declarations that calls of OLD reach.
func (j *judge) usedByCalls() map[any]bool {
	used := map[any]bool{}
	var use func(m *schema.Message)
	var useType func(t *schema.Type)
	useType = func(t *schema.Type) {
		if t.Named != nil {
			used[t.Named] = true
		}
		switch t.Kind {
		case schema.KindMap:
			useType(t.Key)
			useType(t.Elem)
		case schema.KindList:
			useType(t.Elem)
		case schema.KindUnion:
			if !used[t.Union] {
				used[t.Union] = true
				for _, a := range t.Union.Alternatives {
					useType(a.Type)
				}
			}
		case schema.KindEnum:
			used[t.Enum] = true
		case schema.KindMessage:
			use(t.Message)
		}
	}
	use = func(m *schema.Message) {
		if m == nil || used[m] {
			return
		}
		used[m] = true
		for _, f := range m.Fields {
			useType(f.Type)
		}
	}
	for _, c := range j.old.Calls() {
		use(c.Request)
		use(c.Response)
		for _, e := range c.Fails {
			use(e)
		}
	}
	return used
}

// conversation judges what has no payload of its own: calls that come and go,
// declared errors, retries, constants, retirement.
func (j *judge) conversation(f *Fact) {
	oldClient := j.promise.Rollout != "client-leads" // an older client may meet a newer server
	newClient := j.promise.Rollout != "server-leads"
	http := func(v Verdict, newReads bool, sentence string, witness *Witness) {
		if j.promised("http") {
			f.Effects = append(f.Effects, &Effect{Form: "http", Position: Request, NewReads: newReads, Verdict: v, Sentence: sentence, Witness: witness})
		}
	}
	switch f.Kind {
	case CallGone:
		if oldClient {
			http(Breaks, true, "an older client calls it, and a newer server does not serve it", j.noLongerServed(f.call.old))
		}
	case MessageGone:
		j.unread(f)
	case CallAdded:
		if newClient {
			http(Shifts, false, "a newer client calls it, and an older server answers 404", nil)
		}
	case FailsAdded:
		if oldClient {
			http(Shifts, false, "an older client does not know this error of the call: to it, it is another problem", nil)
		}
	case FailsGone:
		if newClient {
			http(Shifts, true, "a newer client does not expect this error of the call any more, and an older server may answer it", nil)
		}
	case ErrorStatus:
		http(Shifts, false, fmt.Sprintf("its status changes from %s to %s; clients go by its type", f.Old, f.New), nil)
	case ErrorRenamed, ErrorMoved:
		if j.promised("http") {
			j.otherProblem(f, f.Old, f.New)
		}
	case CallUnsafe:
		if oldClient {
			http(Shifts, true, "an older client takes the call for safe and may send it again", nil)
		}
	case CallSafe:
		if newClient {
			http(Shifts, false, "a newer client takes the call for safe and may send it again to an older server", nil)
		}
	case ConstChanged, Freed:
		sentence := "both sides go on, with different values"
		if f.Kind == Freed {
			sentence = "older payloads may hold something else under it"
		}
		for _, form := range j.promise.Forms {
			f.Effects = append(f.Effects, &Effect{Form: form, Position: Kept, NewReads: true, Verdict: Shifts, Sentence: sentence})
		}
	}
}

// unread judges a message that is gone and whose payloads may be stored: nobody of NEW
// can read them.
func (j *judge) unread(f *Fact) {
	o, isMessage := f.oldAny.(*schema.Message)
	if !isMessage || !slices.Contains(j.directions(Kept), true) || !o.Stored && !j.unreferenced(o) {
		return
	}
	smallest := value.MinimalMessage(o)
	payload, _ := value.EncodeCBOR(smallest)
	text, _ := value.EncodeJSON(smallest)
	for _, form := range []string{"binary", "json"} {
		if j.promised(form) {
			f.Effects = append(f.Effects, &Effect{Form: form, Position: Kept, NewReads: true, Verdict: Breaks,
				Sentence: fmt.Sprintf("older code has stored %s, and newer code has nothing to read it with", o.Name),
				Witness:  &Witness{Message: o.FullName(), JSON: string(text), Binary: payload, Form: form, Writer: "older code", Reader: "newer code", Outcome: "has no message " + o.FullName()}})
		}
	}
}

// unreferenced tells whether nothing of OLD uses a message: it may be the root of what
// is stored.
func (j *judge) unreferenced(m *schema.Message) bool {
	if j.referenced == nil {
		j.referenced = map[*schema.Message]bool{}
		var use func(t *schema.Type)
		use = func(t *schema.Type) {
			switch t.Kind {
			case schema.KindMessage:
				j.referenced[t.Message] = true
			case schema.KindList, schema.KindMap:
				use(t.Elem)
			}
		}
		for _, module := range j.old.Modules {
			for _, m := range module.Messages {
				for _, f := range m.Fields {
					use(f.Type)
				}
			}
			for _, u := range module.Unions {
				for _, a := range u.Alternatives {
					use(a.Type)
				}
			}
			for _, t := range module.Types {
				use(bareType(&t.Type))
			}
		}
		for _, c := range j.old.Calls() {
			j.referenced[c.Request], j.referenced[c.Response] = true, true
		}
	}
	return !j.referenced[m]
}

// noLongerServed sends the request of a call that NEW has not.
func (j *judge) noLongerServed(c *schema.Call) *Witness {
	return j.meet(meeting{newReads: true, client: c, served: j.new}, nil)
}
