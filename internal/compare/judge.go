package compare

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

// judge says what each fact does to each promise.
type judge struct {
	*differ
	promise Promise
}

func (j *judge) run() {
	for _, c := range j.calls {
		for _, form := range []string{"binary", "json"} {
			if j.promised(form) {
				j.side(c, Request, c.old.Request, c.new.Request, CallRequest, form)
				j.side(c, Answer, c.old.Response, c.new.Response, CallAnswer, form)
			}
		}
		if j.promised("http") {
			j.failures(c)
		}
	}
	j.kept()
	for _, f := range j.facts {
		j.conversation(f)
		for _, l := range j.promise.Languages {
			if e := judgeCode(l, f); e != nil {
				f.Effects = append(f.Effects, e)
			}
		}
		slices.SortStableFunc(f.Effects, func(a, b *Effect) int {
			return cmp.Or(int(b.Verdict)-int(a.Verdict), cmp.Compare(formRank(a.Form), formRank(b.Form)))
		})
		if f.Verdict() == Breaks {
			f.Mend = mend(f)
		}
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

// side walks a request or an answer of a call that both have.
func (j *judge) side(c callPair, position Position, old, new *schema.Message, kind Kind, form string) {
	if old == nil && new == nil {
		return
	}
	owner := j.callFact(c, kind)
	for _, newReads := range j.directions(position) {
		cr := crossing{newReads, form, form, position}
		w, r := old, new
		if !newReads {
			w, r = new, old
		}
		if w == nil || r == nil {
			j.nothing(cr, owner, c, w, r)
			continue
		}
		j.walk(cr, w, r, owner, c.old.Service.Name+"."+c.old.Name)
	}
}

func (j *judge) callFact(c callPair, kind Kind) *Fact {
	for _, f := range j.facts {
		if f.call == c && f.Kind == kind {
			return f
		}
	}
	return nil
}

func (j *judge) walk(cr crossing, w, r *schema.Message, owner *Fact, call string) {
	walk := &walker{differ: j.differ, crossing: cr, root: w, rootReader: r, seen: map[visit]bool{}}
	walk.emit = func(f *Fact, e event) {
		if f != nil {
			j.effect(f, cr, e, call)
		}
	}
	walk.message(w, r, nil, owner)
}

// effect adds an event to the effects of a fact: one effect for each form,
// position and direction, however many calls it concerns.
func (j *judge) effect(f *Fact, cr crossing, e event, call string) {
	var found *Effect
	for _, have := range f.Effects {
		if have.Form == cr.label && have.Position == cr.position && have.NewReads == cr.newReads {
			found = have
		}
	}
	if found == nil {
		found = &Effect{Form: cr.label, Position: cr.position, NewReads: cr.newReads}
		f.Effects = append(f.Effects, found)
	}
	if call != "" && !slices.Contains(found.Calls, call) {
		found.Calls = append(found.Calls, call)
	}
	if found.Sentence != "" && e.verdict <= found.Verdict {
		if e.verdict < Breaks || found.Witness != nil {
			return
		}
	}
	found.Verdict, found.Sentence = e.verdict, e.sentence
	if e.witness != nil {
		found.Witness = e.witness()
	}
}

// nothing judges "()" on one side and a message on the other.
func (j *judge) nothing(cr crossing, f *Fact, c callPair, w, r *schema.Message) {
	e := event{}
	switch {
	case r == nil:
		e = event{verdict: Shifts, sentence: fmt.Sprintf("%s writes %s, and %s drops it", cr.writer(), w.Name, cr.reader())}
	case cr.position == Answer:
		e = event{Breaks, fmt.Sprintf("%s answers 204 with nothing, and %s expects %s", cr.writer(), cr.reader(), r.Name), func() *Witness {
			return &Witness{Message: r.FullName(), Form: cr.form, Writer: cr.writer(), Reader: cr.reader(), Outcome: "does not understand an answer 204 without a body"}
		}}
	default:
		// No body and no type read as the empty message.
		_, err := value.DecodeJSON(r, []byte("{}"), 0)
		if err == nil {
			return
		}
		e = event{Breaks, fmt.Sprintf("%s sends nothing, and %s reads it as an empty %s", cr.writer(), cr.reader(), r.Name), func() *Witness {
			return &Witness{Message: r.FullName(), JSON: "{}", Binary: []byte{0xa0}, Form: cr.form, Writer: cr.writer(), Reader: cr.reader(), Outcome: "refuses it: " + err.Error()}
		}}
	}
	j.effect(f, cr, e, c.old.Service.Name+"."+c.old.Name)
}

// failures walks the errors that a call declares on both sides.
func (j *judge) failures(c callPair) {
	for _, e := range c.old.Fails {
		n := j.messages[e]
		if n == nil || !slices.Contains(c.new.Fails, n) {
			continue
		}
		for _, newReads := range j.directions(Failure) {
			w, r := e, n
			if !newReads {
				w, r = n, e
			}
			j.walk(crossing{newReads, "json", "http", Failure}, w, r, nil, c.old.Service.Name+"."+c.old.Name)
		}
	}
}

// kept walks the messages and enums that no call of OLD uses: nobody knows
// where their payloads lie.
func (j *judge) kept() {
	used := map[any]bool{}
	var use func(m *schema.Message)
	var useType func(t *schema.Type)
	useType = func(t *schema.Type) {
		switch t.Kind {
		case schema.KindList, schema.KindMap:
			useType(t.Elem)
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
	for _, m := range j.old.Modules {
		for _, old := range m.Messages {
			if new := j.messages[old]; new != nil && !used[old] {
				j.keptPair(old, new)
			}
		}
		for _, old := range m.Enums {
			if new := j.enums[old]; new != nil && !used[old] {
				// Alone it is judged as the only field of a message.
				alone := func(e *schema.Enum) *schema.Message {
					f := &schema.Field{Number: 1, Name: "value", Type: &schema.Type{Kind: schema.KindEnum, Enum: e}}
					f.Message = &schema.Message{Decl: e.Decl, Fields: []*schema.Field{f}}
					return f.Message
				}
				j.keptPair(alone(old), alone(new))
			}
		}
	}
}

func (j *judge) keptPair(old, new *schema.Message) {
	for _, newReads := range j.directions(Kept) {
		w, r := old, new
		if !newReads {
			w, r = new, old
		}
		for _, form := range []string{"binary", "json"} {
			if j.promised(form) {
				j.walk(crossing{newReads, form, form, Kept}, w, r, nil, "")
			}
		}
	}
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
			http(Breaks, true, "an older client calls it, and a newer server answers 404", j.noLongerServed(f.call.old))
		}
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
	case ErrorRenamed:
		http(Breaks, false, "clients tell errors apart by name: to the other side it is another problem",
			&Witness{Message: f.Old, Form: "json", Writer: "one side", Reader: "the other", Outcome: fmt.Sprintf("looks for /-/errors/%s and finds /-/errors/%s", f.Old, f.New)})
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

// noLongerServed makes the request of a call that NEW has not, and looks for
// its path among those that NEW serves.
func (j *judge) noLongerServed(c *schema.Call) *Witness {
	for _, n := range j.new.Calls() {
		if n.Path() == c.Path() {
			return nil
		}
	}
	w := &Witness{Message: c.FullName(), Form: "http", Writer: "an older client", Reader: "a newer server", Outcome: fmt.Sprintf("answers POST %s with 404 unknown-call", c.Path())}
	if c.Request != nil {
		m := value.MinimalMessage(c.Request)
		w.Binary, _ = value.EncodeCBOR(m)
		text, _ := value.EncodeJSON(m)
		w.Message, w.JSON = c.Request.FullName(), string(text)
	}
	return w
}

// mend says how to get the same end without breaking.
func mend(f *Fact) string {
	switch f.Kind {
	case FieldAdded:
		n := f.field.new
		return fmt.Sprintf("make it optional, or give it a default: #%d %s %s?", n.Number, n.Name, n.Type.Local(n.Message.Module))
	case FieldGone:
		o := f.field.old
		if o.Presence == schema.Required {
			return fmt.Sprintf("first make it optional (#%d %s %s?), and remove it when no reader needs it any more; then keep its number: retired #%d %q",
				o.Number, o.Name, o.Type.Local(o.Message.Module), o.Number, o.Name)
		}
		return fmt.Sprintf("keep it as long as code uses it: %s", FieldText(o))
	case FieldRenamed:
		o, n := f.field.old, f.field.new
		return fmt.Sprintf("keep the name %s; where the new one matters, add it beside: #%d %s %s?", o.Name, free(n.Message), n.Name, n.Type.Local(n.Message.Module))
	case FieldRenumbered:
		return fmt.Sprintf("give it back its number: #%d %s", f.field.old.Number, f.field.old.Name)
	case FieldType:
		o, n := f.field.old, f.field.new
		return fmt.Sprintf("keep it as it is (%s), and add the new one beside it: #%d %s_2 %s?", FieldText(o), free(n.Message), n.Name, n.Type.Local(n.Message.Module))
	case FieldPresence:
		return fmt.Sprintf("leave it as it was: %s", FieldText(f.field.old))
	case MemberGone:
		return fmt.Sprintf("keep the member: %s", memberText(f.member.old))
	case MemberAdded:
		return "let the servers know the member first, and use it in requests when all do"
	case MemberRenamed:
		return fmt.Sprintf("keep the name: %s", memberText(f.member.old))
	case MemberRenumbered:
		return fmt.Sprintf("give it back its number: %s", memberText(f.member.old))
	case CallGone:
		return "keep the call as long as it is called"
	case CallRequest, CallAnswer:
		return "keep this call as it is, and add another one beside it"
	case MessageRenamed, EnumRenamed, ErrorRenamed:
		return fmt.Sprintf("keep the name %s", f.Old)
	case MessageGone, EnumGone, ErrorGone, ConstGone, ServiceGone, ModuleGone:
		return "keep it as long as code uses it"
	}
	return ""
}

// free is a number that no field of a message has or had.
func free(m *schema.Message) int {
	n := 1
	for _, f := range m.Fields {
		n = max(n, f.Number+1)
	}
	for _, r := range m.Retired {
		n = max(n, r.Number+1)
	}
	return n
}
