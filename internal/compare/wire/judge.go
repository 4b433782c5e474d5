package wire

import (
	"fmt"
	"slices"
	"sync"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/remote"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/value"
)

// Judge says what changes do to payloads and to the conversation, and proves it by running:
// payloads by the reference reader, requests by sending them to the other side's server.
type Judge struct {
	*change.Set
	promise verdict.Promise
	judged  map[*change.Change]*verdict.Judged

	walks   []*walker            // begun, to be walked
	routes  *conversation.Routes // of OLD, once they were asked for
	texts   map[crossing]*textReader
	servers map[*schema.Definitions]*remote.Counterpart
	parts   map[*schema.Message]part // bodies of messages whose other fields travel elsewhere

	referenced map[schema.Declaration]bool // in OLD, by anything
}

// NewJudge walks through everything that two sides exchange, and judges what fields,
// members, alternatives and calls that both have do to it. What a kind of change does
// besides, the methods that take a change add.
func NewJudge(set *change.Set, promise verdict.Promise) *Judge {
	j := &Judge{Set: set, promise: promise, judged: make(map[*change.Change]*verdict.Judged, len(set.Changes)),
		parts: map[*schema.Message]part{}}
	for _, c := range set.Changes {
		j.judged[c] = &verdict.Judged{Change: c}
	}
	for _, encoding := range []string{"binary", "json"} {
		if promise.Promises(encoding) {
			j.requests(encoding)
			j.answers(encoding)
			j.stored(encoding)
		}
	}
	if promise.Promises("http") {
		j.failures()
	}
	j.walkAll()
	if promise.Promises("http") {
		for _, c := range j.Calls {
			j.credentials(c)
			j.parameters(c)
			j.status(c)
		}
	}
	return j
}

// Judged is what is said of a change so far.
func (j *Judge) Judged(c *change.Change) *verdict.Judged { return j.judged[c] }

func (j *Judge) add(c *change.Change, e *verdict.Effect) {
	j.judged[c].Effects = append(j.judged[c].Effects, e)
}

// directions says which ways of reading a position promises: whether NEW
// reads what OLD writes, and whether OLD reads what NEW writes.
func (j *Judge) directions(p verdict.Position) (newReads []bool) {
	switch {
	case p == verdict.Stored:
		return map[string][]bool{"each-reads-other": {true, false}, "new-reads-old": {true},
			"old-reads-new": {false}}[j.promise.Stored]
	case j.promise.Rollout == "unordered":
		return []bool{true, false}
	case p == verdict.Request:
		return []bool{j.promise.Rollout == "server-leads"}
	}
	return []bool{j.promise.Rollout == "client-leads"}
}

// answers walks what calls that both have answer.
func (j *Judge) answers(encoding string) {
	for _, newReads := range j.directions(verdict.Answer) {
		walk := j.walker(crossing{newReads, encoding, encoding, verdict.Answer})
		for _, c := range j.Calls {
			if conversation.AnswerRaw(c.Old) != nil || conversation.AnswerRaw(c.New) != nil {
				continue // which is judged as a whole
			}
			old, oldPlaced := answerBody(c.Old)
			new, newPlaced := answerBody(c.New)
			if oldPlaced || newPlaced {
				old, new = together(old, new, j.Fields)
			}
			wm, rm := sidesOf(newReads, old, new)
			if wm != nil && (oldPlaced || newPlaced) {
				j.parts[wm] = part{c, true}
			}
			switch owner := j.callChange(c, change.CallAnswer); {
			case old == nil && new == nil:
			case rm != nil && wm == nil && readsNothing(c, newReads):
			case old == nil || new == nil:
				j.nothing(walk.crossing, owner, c, wm, rm)
			default:
				walk.add(wm, rm, owner, callName(c.Old))
			}
		}
	}
}

// answerBody is what of an answer travels in the body, and whether anything does not. Where
// there is no body all the same, it is read as one in which nothing is.
func answerBody(c *schema.Call) (body *schema.Message, placed bool) {
	body, elsewhere := conversation.SplitAnswer(c)
	if body == nil && elsewhere != nil {
		body = &schema.Message{Decl: elsewhere.Decl}
	}
	return body, elsewhere != nil
}

// readsNothing tells whether the reader of a call's answers takes one without a body.
func readsNothing(c change.CallPair, newReads bool) bool {
	reader := c.Old
	if newReads {
		reader = c.New
	}
	return conversation.AnswerMayBeEmpty(reader)
}

func callName(c *schema.Call) string { return c.Service.Name + "." + c.Name }

func (j *Judge) callChange(c change.CallPair, kind change.Kind) *change.Change {
	for _, f := range j.OfCall[c] {
		if f.Kind == kind {
			return f
		}
	}
	return nil
}

// walker begins a walk, which walkAll ends.
func (j *Judge) walker(cr crossing) *walker {
	walk := newWalker(j.Set, cr)
	j.walks = append(j.walks, walk)
	return walk
}

// walkAll walks on all cores: what crosses in one position and direction after
// the other, so that an encoding can begin with what proved a break in the encoding before.
func (j *Judge) walkAll() {
	type way struct {
		position verdict.Position
		newReads bool
	}
	effects := make([]map[*change.Change]*verdict.Effect, len(j.walks))
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
	for i, ofWalk := range effects {
		for f, e := range ofWalk {
			j.sendWhole(e, j.walks[i].made[e.Proof])
			j.add(f, e)
		}
	}
}

// effects walks, and makes of what each change does, in however many places, one
// effect: the worst, with the proof that is nearest to a root.
func (walk *walker) effects() map[*change.Change]*verdict.Effect {
	walk.walk()
	byChange := map[*change.Change][]telling{}
	for _, t := range walk.told {
		byChange[t.about] = append(byChange[t.about], t)
	}
	effects := make(map[*change.Change]*verdict.Effect, len(byChange))
	for f, told := range byChange {
		worst := told[0]
		var nodes []*node
		for _, t := range told {
			nodes = append(nodes, t.at)
			if t.event.verdict > worst.event.verdict {
				worst = t
			}
		}
		e := &verdict.Effect{Covers: walk.covers, Position: walk.position, NewReads: walk.newReads,
			Calls: walk.callsTo(nodes), Verdict: worst.event.verdict, Sentence: worst.event.sentence}
		if worst.event.proof != nil {
			e.Proof = worst.event.proof()
		}
		effects[f] = e
	}
	return effects
}

// nothing judges "()" on one side and a message on the other.
func (j *Judge) nothing(cr crossing, f *change.Change, c change.CallPair, w, r *schema.Message) {
	e := event{}
	switch {
	case r == nil && !cr.newReads:
		return // NEW has a message where OLD has nothing: what is added is dropped, and missed by nobody
	case r == nil:
		e = event{verdict: verdict.Altering, sentence: fmt.Sprintf("%s writes %q, and %s drops it", cr.writer(), w.Name,
			cr.reader())}
	case cr.position == verdict.Answer:
		e = event{verdict: verdict.Breaking, sentence: fmt.Sprintf("%s answers with nothing, and %s expects %q",
			cr.writer(), cr.reader(), r.Name), proof: func() *verdict.Proof {
			m := meeting{false, c.New, c.Old, j.Old}
			if !cr.newReads {
				m = meeting{true, c.Old, c.New, j.New}
			}
			return j.exchange(m, nil, 0, nil, cr.encoding == "binary")
		}}
	default:
		// No body and no type read as the empty message.
		_, err := value.DecodeJSON(r, []byte("{}"), 0)
		if err == nil {
			return
		}
		e = event{verdict: verdict.Breaking, sentence: fmt.Sprintf("%s sends nothing, and %s reads it as an empty %q",
			cr.writer(), cr.reader(), r.Name), proof: func() *verdict.Proof {
			return &verdict.Proof{Message: r.FullName(), JSON: "{}", Binary: []byte{0xa0}, Encoding: cr.encoding,
				Writer: cr.writer(), Reader: cr.reader(), Outcome: "refuses it: " + err.Error()}
		}}
	}
	effect := &verdict.Effect{Covers: cr.encoding, Position: cr.position, NewReads: cr.newReads,
		Calls: []string{callName(c.Old)}, Verdict: e.verdict, Sentence: e.sentence}
	if e.proof != nil {
		effect.Proof = e.proof()
	}
	j.add(f, effect)
}

// failures walks the errors that calls declare on both sides.
func (j *Judge) failures() {
	for _, newReads := range j.directions(verdict.Failure) {
		walk := j.walker(crossing{newReads, "json", "http", verdict.Failure})
		for _, c := range j.Calls {
			for _, old := range c.Old.Fails {
				new := j.Messages[old]
				if new == nil || !slices.Contains(c.New.Fails, new) {
					continue
				}
				wm, rm := sidesOf(newReads, old, new)
				walk.add(wm, rm, nil, callName(c.Old))
			}
		}
	}
}

// stored walks the messages that are stored, and what no call of OLD uses: nobody knows
// where their payloads lie.
func (j *Judge) stored(encoding string) {
	used := j.usedByCalls()
	for _, newReads := range j.directions(verdict.Stored) {
		walk := j.walker(crossing{newReads, encoding, encoding, verdict.Stored})
		add := func(old, new *schema.Message) {
			wm, rm := sidesOf(newReads, old, new)
			walk.add(wm, rm, nil, "")
		}
		// What no message holds stands as the only field of one.
		stand := func(old, new *schema.Decl, ot, nt *schema.Type) {
			if used[ot.Declaration()] || new == nil {
				return
			}
			a, b := alone(ot, nil), alone(nt, nil)
			a.Decl, b.Decl = *old, *new
			walk.standing[a], walk.standing[b] = true, true
			add(a, b)
		}
		for _, m := range j.Old.Modules {
			for _, old := range m.Messages {
				if new := j.Messages[old]; new != nil && (!used[old] || old.Stored) {
					add(old, new)
				}
			}
			for _, old := range m.Enums {
				if new := j.Enums[old]; new != nil {
					stand(&old.Decl, &new.Decl, &schema.Type{Kind: schema.KindEnum, Enum: old},
						&schema.Type{Kind: schema.KindEnum, Enum: new})
				}
			}
			for _, old := range m.Unions {
				if new := j.Unions[old]; new != nil {
					stand(&old.Decl, &new.Decl, &schema.Type{Kind: schema.KindUnion, Union: old},
						&schema.Type{Kind: schema.KindUnion, Union: new})
				}
			}
			for _, old := range m.Types {
				if new := j.Types[old]; new != nil {
					stand(&old.Decl, &new.Decl, &old.Type, &new.Type)
				}
			}
		}
	}
}

// usedByCalls holds the declarations that calls of OLD reach.
func (j *Judge) usedByCalls() map[schema.Declaration]bool {
	used := map[schema.Declaration]bool{}
	use := func(m *schema.Message) {
		if m == nil || used[m] {
			return
		}
		(&schema.Type{Kind: schema.KindMessage, Message: m}).Within(func(t *schema.Type) bool {
			d := t.Declaration()
			if d == nil {
				return true
			}
			seen := used[d]
			used[d] = true
			return !seen
		})
	}
	for _, c := range j.Old.Calls() {
		use(c.Request)
		use(c.Response)
		for _, e := range c.Fails {
			use(e)
		}
	}
	return used
}

// unreferenced tells whether nothing of OLD uses a message: it may be the root of what
// is stored.
func (j *Judge) unreferenced(m *schema.Message) bool {
	if j.referenced == nil {
		j.referenced = map[schema.Declaration]bool{}
		for _, module := range j.Old.Modules {
			module.EachType(func(t *schema.Type, _ source.Place) {
				for _, d := range t.Names() {
					j.referenced[d] = true
				}
			})
		}
		for _, c := range j.Old.Calls() {
			for _, side := range []*schema.Message{c.Request, c.Response} {
				if side != nil {
					j.referenced[side] = true
				}
			}
		}
	}
	return !j.referenced[m]
}
