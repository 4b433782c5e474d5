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

// requests walks what travels in the bodies of requests, and, as http, what
// travels elsewhere: by its text, which is that of JSON without its quotes.
func (j *judge) requests(form string, elsewhere bool) {
	for _, newReads := range j.directions(Request) {
		label := form
		if elsewhere {
			label = "http"
		}
		walk := j.walker(crossing{newReads, form, label, Request})
		if elsewhere {
			walk.names = map[*schema.Field]string{}
		}
		for _, c := range j.calls {
			old, oldPlaced := split(c.old)
			new, newPlaced := split(c.new)
			if elsewhere {
				walk.name(c.old)
				walk.name(c.new)
				old, new = together(oldPlaced, newPlaced, j.pairs)
			} else if oldPlaced != nil || newPlaced != nil {
				old, new = together(old, new, j.pairs)
			}
			wm, rm := sidesOf(newReads, old, new)
			fact := j.callFact(c, CallRequest)
			switch {
			case old == nil && new == nil, elsewhere && (old == nil || new == nil):
			case c.old.Request == nil || c.new.Request == nil:
				j.nothing(walk.crossing, fact, c, wm, rm)
			case old == nil || new == nil:
			default:
				walk.add(wm, rm, fact, callName(c.old))
			}
		}
	}
}

// name keeps by what fields of a request are told apart outside of the body: in
// the path by what they are, elsewhere by a parameter's name.
func (w *walker) name(c *schema.Call) {
	for _, p := range c.Places() {
		switch p.Place {
		case "body":
		case "path":
			w.names[p.Field] = fmt.Sprintf("#%d", p.Field.Number)
		default:
			w.names[p.Field] = p.Place + " " + p.Name
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

// places judges where the fields of a request travel: a value that the server
// looks for elsewhere is not there.
func (j *judge) places(c callPair) {
	if !j.promised("http") || c.old.Request == nil || c.new.Request == nil || c.old.RequestStream || c.new.RequestStream {
		return
	}
	arrives := c.old.Method() == c.new.Method() && samePath(c.old, c.new)
	at := func(call *schema.Call) map[*schema.Field]schema.Placed {
		all := map[*schema.Field]schema.Placed{}
		for _, p := range call.Places() {
			all[p.Field] = p
		}
		return all
	}
	old, new := at(c.old), at(c.new)
	for _, pair := range j.pairs(c.old.Request, c.new.Request) {
		if pair.old == nil || pair.new == nil {
			continue
		}
		a, b := old[pair.old], new[pair.new]
		if a.Place == b.Place && (a.Place == "body" || a.Place == "path" || a.Name == b.Name) {
			continue
		}
		f := j.placeFact(c, pair)
		if f == nil || f.Kind == CallHTTP && !arrives || a.Place == b.Place && f.Kind != FieldPlace { // which is said already
			continue
		}
		for _, m := range j.meetings(c) {
			from, to := sidesOf(m.newReads, a, b)
			w := &Witness{Message: m.client.FullName(), Form: "http", Writer: m.clientName(), Reader: m.serverName(), Outcome: "finds no " + to.Field.Name}
			switch {
			case to.Field.Presence == schema.Required && to.Field.Type.Kind != schema.KindList:
				w.Outcome = fmt.Sprintf("answers 400: /%s is required", to.Field.JSONName())
			case to.Field.Presence == schema.Defaulted:
				w.Outcome = fmt.Sprintf("reads %s as %s, whatever was sent", to.Field.Name, schema.LiteralText(to.Field.Default))
			}
			j.httpEffect(f, m, Breaks, fmt.Sprintf("%s sends %s in %s, and %s looks for it in %s", m.clientName(), from.Field.Name, placeText(from), m.serverName(), placeText(to)), w)
		}
	}
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
func (j *judge) placeFact(c callPair, p fieldPair) *Fact {
	for _, kind := range []Kind{FieldPlace, FieldJSON, FieldRenamed} {
		for _, f := range j.fieldFacts[p.old] {
			if f.Kind == kind && f.field.new == p.new {
				return f
			}
		}
	}
	if f := j.callFact(c, CallHTTP); f != nil {
		return f
	}
	return j.callFact(c, CallRequest)
}
