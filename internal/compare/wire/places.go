package wire

import (
	"slices"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
)

// part is whose message a body is a part of.
type part struct {
	change.CallPair
	answers bool
}

// requests walks what travels in the bodies of requests.
func (j *Judge) requests(encoding string) {
	for _, newReads := range j.directions(verdict.Request) {
		walk := j.walker(crossing{newReads, encoding, encoding, verdict.Request})
		for _, c := range j.Calls {
			if conversation.Raw(c.Old) != nil || conversation.Raw(c.New) != nil {
				continue // which is judged as a whole
			}
			old, oldPlaced := conversation.Split(c.Old)
			new, newPlaced := conversation.Split(c.New)
			if c.Old.RequestStream || c.New.RequestStream {
				oldPlaced, newPlaced = nil, nil // heads are no parts of elements
			}
			if oldPlaced != nil || newPlaced != nil {
				old, new = together(old, new, j.Fields)
			}
			wm, rm := sidesOf(newReads, old, new)
			if wm != nil && (oldPlaced != nil || newPlaced != nil) {
				j.parts[wm] = part{c, false}
			}
			owner := j.callChange(c, change.CallRequest)
			switch {
			case old == nil && new == nil:
			case c.Old.Request == nil || c.New.Request == nil:
				j.nothing(walk.crossing, owner, c, wm, rm)
			case old == nil || new == nil:
			default:
				walk.add(wm, rm, owner, callName(c.Old))
			}
		}
	}
}

// together leaves out of two parts of messages the fields whose counterpart
// travels in another part: that is judged as a change of place.
func together(old, new *schema.Message, pairs func(o, n *schema.Message) []change.FieldPair) (*schema.Message,
	*schema.Message) {
	if old == nil || new == nil {
		return old, new
	}
	if len(old.Fields) == 0 && len(new.Fields) == 0 {
		return nil, nil
	}
	// What a message as a whole pairs is what counts.
	moved := map[*schema.Field]bool{}
	if len(old.Fields) > 0 && len(new.Fields) > 0 {
		for _, p := range pairs(old.Fields[0].Message, new.Fields[0].Message) {
			if p.Old == nil || p.New == nil {
				continue
			}
			inOld, inNew := slices.Contains(old.Fields, p.Old), slices.Contains(new.Fields, p.New)
			moved[p.Old], moved[p.New] = inOld && !inNew, inNew && !inOld
		}
	}
	rest := func(m *schema.Message) *schema.Message {
		return &schema.Message{Decl: m.Decl, Fields: slices.DeleteFunc(slices.Clone(m.Fields),
			func(f *schema.Field) bool { return moved[f] })}
	}
	return rest(old), rest(new)
}

// placeChange finds the change that moved a Field: its own, or that of the call's
// path.
func (j *Judge) placeChange(c change.CallPair, fw, fr *schema.Field, whole change.Kind) *change.Change {
	for _, kind := range []change.Kind{change.FieldPlace, change.FieldJSON, change.FieldRenamed} {
		for _, f := range j.OfField[fw] {
			if f.Kind == kind && (f.Field.New == fr || f.Field.Old == fr) {
				return f
			}
		}
	}
	if f := j.callChange(c, change.CallHTTP); f != nil {
		return f
	}
	return j.callChange(c, whole)
}
