package compare

import (
	"fmt"
	"slices"

	"faithfulcourier/internal/schema"
)

// split parts a request into what travels in the body and what travels elsewhere;
// either may be nil. Its fields are the same ones.
func split(c *schema.Call) (body, placed *schema.Message) {
	if c.Request == nil {
		return nil, nil
	}
	part := func(inBody bool) *schema.Message {
		m := &schema.Message{Decl: c.Request.Decl}
		for _, p := range c.Places() {
			if (p.Place == "body") == inBody {
				m.Fields = append(m.Fields, p.Field)
			}
		}
		return m
	}
	body, placed = part(true), part(false)
	if len(placed.Fields) == 0 {
		return c.Request, nil
	}
	if !c.HasBody() {
		body = nil
	}
	return body, placed
}

// requests walks what travels in the bodies of requests.
func (j *judge) requests(form string) {
	for _, newReads := range j.directions(Request) {
		walk := j.walker(crossing{newReads, form, form, Request})
		for _, c := range j.calls {
			old, oldPlaced := split(c.old)
			new, newPlaced := split(c.new)
			if oldPlaced != nil || newPlaced != nil {
				old, new = together(old, new, j.pairs)
			}
			wm, rm := sidesOf(newReads, old, new)
			if wm != nil && (oldPlaced != nil || newPlaced != nil) {
				j.parts[wm] = &callPair{c.old, c.new}
			}
			fact := j.callFact(c, CallRequest)
			switch {
			case old == nil && new == nil:
			case c.old.Request == nil || c.new.Request == nil:
				j.nothing(walk.crossing, fact, c, wm, rm)
			case old == nil || new == nil:
			default:
				walk.add(wm, rm, fact, callName(c.old))
			}
		}
	}
}

// together leaves out of two parts of requests the fields whose counterpart
// travels in another part: that is judged as a change of place.
func together(old, new *schema.Message, pairs func(o, n *schema.Message) []fieldPair) (*schema.Message, *schema.Message) {
	if old == nil || new == nil {
		return old, new
	}
	if len(old.Fields) == 0 && len(new.Fields) == 0 {
		return nil, nil
	}
	// What a request as a whole pairs is what counts.
	moved := map[*schema.Field]bool{}
	if len(old.Fields) > 0 && len(new.Fields) > 0 {
		for _, p := range pairs(old.Fields[0].Message, new.Fields[0].Message) {
			if p.old == nil || p.new == nil {
				continue
			}
			inOld, inNew := slices.Contains(old.Fields, p.old), slices.Contains(new.Fields, p.new)
			moved[p.old], moved[p.new] = inOld && !inNew, inNew && !inOld
		}
	}
	rest := func(m *schema.Message) *schema.Message {
		return &schema.Message{Decl: m.Decl, Fields: slices.DeleteFunc(slices.Clone(m.Fields), func(f *schema.Field) bool { return moved[f] })}
	}
	return rest(old), rest(new)
}

func placeText(p schema.Placed) string {
	switch p.Place {
	case "body", "path":
		return "the " + p.Place
	}
	return fmt.Sprintf("the %s as %s", p.Place, p.Name)
}

// placeFact finds the fact that moved a field: its own, or that of the call's
// path.
func (j *judge) placeFact(c callPair, fw, fr *schema.Field) *Fact {
	for _, kind := range []Kind{FieldPlace, FieldJSON, FieldRenamed} {
		for _, f := range j.fieldFacts[fw] {
			if f.Kind == kind && (f.field.new == fr || f.field.old == fr) {
				return f
			}
		}
	}
	if f := j.callFact(c, CallHTTP); f != nil {
		return f
	}
	return j.callFact(c, CallRequest)
}
