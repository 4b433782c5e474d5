// Package advice says what could be better in definitions that are right. It
// must not know files or how advice is shown. Each rule has a stable name, by
// which a project can switch it off, and says why it matters to a user of the
// service.
package advice

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/pattern"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

// Rule is one kind of advice.
type Rule struct {
	Name string
	Why  string
	find func(d *schema.Definitions, say func(place source.Place, message, fix string))
}

// UnusedUse is the rule that the resolver itself applies, since only it sees
// aliases.
const UnusedUse = schema.UnusedUse

// Rules lists all rules, by name.
var Rules = []Rule{
	{"deprecated-used", "new code should not lead people to what is about to go", deprecatedUsed},
	{"example-missing", "an example is the fastest way to understand a request, and samples and mocks use it",
		exampleMissing},
	{"large-value", "every sample, request and proof of it is as large, and a server keeps that much in memory for each",
		largeValue},
	{"no-credential", "anybody who can reach the server can change its data; write needs nothing if that is intended",
		noCredential},
	{"safe-with-body", "caches, proxies and retries know that a GET is safe, but only our stubs know it of other methods",
		safeWithBody},
	{"slow-pattern", "JavaScript, Python and Java backtrack, and anybody can send the text that makes them slow",
		slowPattern},
	{"owner-repeated", "code says the same word twice: booking.BookingState", ownerRepeated},
	{"unbounded-input", "anybody can send a huge request, which costs memory and time", unboundedInput},
	{"undocumented", "documentation is what users of the stubs read first, in their editors", undocumented},
	{"unlimited-list", "the answer grows with the data, until clients can't read it", unlimitedList},
	{"unused-type", "the stubs contain code that no call uses", unusedType},
	{UnusedUse, "readers look for something that is not there", nil},
}

// Names lists the names of all rules.
func Names() []string {
	var names []string
	for _, r := range Rules {
		names = append(names, r.Name)
	}
	return names
}

// Why says for each rule, by name, why it matters to a user of the service.
func Why() map[string]string {
	why := map[string]string{}
	for _, r := range Rules {
		why[r.Name] = r.Why
	}
	return why
}

// Advise returns the advice of all rules that are not switched off, sorted by
// place. found is what loading found: advice in it is kept. A declaration switches a rule
// off for itself by a comment before it: // advice off: NAME why.
func Advise(d *schema.Definitions, found []source.Finding, off []string) []source.Finding {
	var findings source.Findings
	quiet := newSwitches(d)
	for _, f := range found {
		if f.Severity == source.Error || !slices.Contains(off, f.Name) && !quiet.off(f.Place, f.Name) {
			findings.Add(f)
		}
	}
	for _, s := range quiet.unknown {
		findings.Add(s)
	}
	for _, r := range Rules {
		if r.find == nil || slices.Contains(off, r.Name) {
			continue
		}
		r.find(d, func(place source.Place, message, fix string) {
			if !quiet.off(place, r.Name) {
				findings.Add(source.Finding{Name: r.Name, Severity: source.Advice, Place: place, Message: message, Fix: fix})
			}
		})
	}
	return findings.Sorted()
}

// slowPattern advises against long texts for patterns that take polynomial time.
func slowPattern(d *schema.Definitions, say func(source.Place, string, string)) {
	const harmless = 1000 // code points: a million tries take milliseconds
	known := map[string]bool{}
	check := func(place source.Place, name string, bounds ...*schema.Bounds) {
		longest, slow := uint64(schema.Unlimited), ""
		for _, b := range bounds {
			if b == nil {
				continue
			}
			if b.Length != nil {
				longest = min(longest, b.Length.High)
			}
			if b.Pattern == "" {
				continue
			}
			if _, done := known[b.Pattern]; !done {
				node, problem := pattern.Parse(b.Pattern)
				known[b.Pattern] = problem == nil && node.Polynomial() && !node.Bounded()
			}
			if known[b.Pattern] {
				slow = b.Pattern
			}
		}
		if slow == "" || longest <= harmless {
			return
		}
		worst := "a text of any length"
		if longest != schema.Unlimited {
			worst = fmt.Sprintf("a text of %d characters", longest)
		}
		say(place, fmt.Sprintf("the time to match %q grows with the square of a text's length, or with more, and "+
			"%q may be %s", slow, name, worst), "write: where length 1..200, or what is enough, next to the pattern")
	}
	for _, m := range d.Modules {
		for _, t := range m.Types {
			check(t.Place, t.Name, t.Bounds)
		}
		for _, msg := range m.Messages {
			for _, f := range msg.Fields {
				if f.Bounds != nil && (f.Bounds.Pattern != "" || f.Bounds.Length != nil) {
					var named *schema.Bounds
					if f.Type.Named != nil {
						named = f.Type.Named.Bounds
					}
					if f.Bounds.Pattern != "" {
						check(f.Place, f.Name, f.Bounds, named)
					}
				}
			}
		}
	}
}

// largeValue advises against what needs thousands of values to be written at all. Only the
// innermost is named.
func largeValue(d *schema.Definitions, say func(source.Place, string, string)) {
	for _, m := range d.Modules {
		for _, msg := range m.Messages {
			inner := int64(0)
			for _, f := range msg.Fields {
				if t := f.Type; f.Presence != schema.Optional && t.Kind == schema.KindMessage {
					inner = max(inner, t.Message.Smallest)
				}
			}
			if msg.Smallest > schema.AdviseNodes && inner <= schema.AdviseNodes {
				say(msg.Place, fmt.Sprintf("the smallest value of %q has %d values in it", msg.Name, msg.Smallest),
					"make fields optional, or lower the counts that must be there")
			}
		}
	}
}

func undocumented(d *schema.Definitions, say func(source.Place, string, string)) {
	check := func(doc, what string, place source.Place) {
		if doc == "" {
			say(place, what+" has no documentation", "write it above, after ///")
		}
	}
	used := map[any]int{}
	for _, m := range d.Modules {
		for _, decl := range m.Declarations() {
			if _, isExample := decl.(*schema.Example); isExample {
				continue
			}
			for _, other := range schema.Uses(decl) {
				used[other]++
			}
		}
	}
	for _, m := range d.Modules {
		for _, decl := range m.Declarations() {
			h := decl.Head()
			switch x := decl.(type) {
			case *schema.Message:
				if x.IsError() {
					check(x.Doc, fmt.Sprintf("the error %q", x.Name), x.Place)
				} else if used[x] > 1 { // a request or answer of one call speaks through it
					check(x.Doc, fmt.Sprintf("%q, which %d declarations use,", x.Name, used[x]), x.Place)
				}
			case *schema.Example:
			case *schema.Service:
				check(x.Doc, fmt.Sprintf("the service %q", x.Name), x.Place)
				for _, c := range x.Calls {
					check(c.Doc, fmt.Sprintf("the call %q", c.Name), c.Place)
				}
			default:
				_, word, _ := strings.Cut(decl.Noun(), " ")
				check(h.Doc, fmt.Sprintf("the %s %q", word, h.Name), h.Place)
			}
		}
	}
}

func ownerRepeated(d *schema.Definitions, say func(source.Place, string, string)) {
	check := func(owner, name, what string, place source.Place) {
		if rest, ok := strings.CutPrefix(name, syntax.SnakeCase(owner)+"_"); ok {
			say(place, fmt.Sprintf("the %s %q repeats the name of %q", what, name, owner), "call it "+strconv.Quote(rest))
		}
	}
	for _, m := range d.Modules {
		for _, msg := range m.Messages {
			for _, f := range msg.Fields {
				check(msg.Name, f.Name, "field", f.Place)
			}
		}
		for _, e := range m.Enums {
			for _, x := range e.Members {
				check(e.Name, x.Name, "member", x.Place)
			}
		}
		for _, u := range m.Unions {
			for _, a := range u.Alternatives {
				check(u.Name, a.Name, "alternative", a.Place)
			}
		}
	}
}

func unusedType(d *schema.Definitions, say func(source.Place, string, string)) {
	if len(d.Calls()) == 0 {
		return // a module of types for others
	}
	used := usedTypes(d)
	for _, m := range d.Modules {
		for _, decl := range m.Declarations() {
			h := decl.Head()
			if used[decl] {
				continue
			}
			switch x := decl.(type) {
			case *schema.Message:
				if !x.Stored { // queues and databases use it
					say(h.Place, fmt.Sprintf("nothing uses %q", h.Name), "remove it, or use it in a call")
				}
			case *schema.Enum, *schema.Union, *schema.NamedType, *schema.Credential:
				_, word, _ := strings.Cut(decl.Noun(), " ")
				say(h.Place, fmt.Sprintf("nothing uses the %s %q", word, h.Name), "remove it, or use it")
			}
		}
	}
}

// usedTypes holds the declarations that another one uses; an example is no
// use.
func usedTypes(d *schema.Definitions) map[schema.Declaration]bool {
	used := map[schema.Declaration]bool{}
	for _, m := range d.Modules {
		for _, decl := range m.Declarations() {
			if _, isExample := decl.(*schema.Example); isExample {
				continue
			}
			for _, other := range schema.Uses(decl) {
				used[other] = true
			}
		}
	}
	return used
}

func deprecatedUsed(d *schema.Definitions, say func(source.Place, string, string)) {
	check := func(by *schema.Decl, name string, place source.Place, deprecated bool, used []schema.Declaration) {
		if deprecated || by.Deprecated != "" {
			return
		}
		for _, u := range used {
			if h := u.Head(); h.Deprecated != "" {
				say(place, fmt.Sprintf("%q uses %q, which is deprecated: %s", name, h.Name, h.Deprecated), "")
			}
		}
	}
	for _, m := range d.Modules {
		for _, t := range m.Types {
			check(&t.Decl, t.Name, t.Place, false, schema.Uses(t))
		}
		for _, u := range m.Unions {
			for _, a := range u.Alternatives {
				check(&u.Decl, a.Name, a.Place, a.Deprecated != "", a.Type.Names())
			}
		}
		for _, msg := range m.Messages {
			for _, f := range msg.Fields {
				check(&msg.Decl, f.Name, f.Place, f.Deprecated != "", f.Type.Names())
			}
		}
	}
	for _, c := range d.Calls() {
		var used []schema.Declaration
		for _, side := range slices.Concat(c.Inputs(), []*schema.Message{c.Response}, c.Fails) {
			if side != nil {
				used = append(used, side)
			}
		}
		for _, alternative := range c.Needs {
			for _, k := range alternative {
				if len(c.Needs) == 1 { // of several, another may be taken
					used = append(used, k)
				}
			}
		}
		check(&c.Service.Decl, c.Name, c.Place, c.Deprecated != "", used)
	}
}

// exampleMissing looks for requests without an example; one without fields
// needs none.
func exampleMissing(d *schema.Definitions, say func(source.Place, string, string)) {
	have := map[*schema.Message]bool{}
	for _, m := range d.Modules {
		for _, e := range m.Examples {
			have[e.Of] = true
		}
	}
	for _, c := range d.Calls() {
		for _, m := range c.Inputs() {
			if len(m.Fields) == 0 || have[m] {
				continue
			}
			have[m] = true // said once
			what := "request"
			if m == c.Head {
				what = "head of a request"
			}
			say(m.Place, fmt.Sprintf("%q is the %s of %q, and has no example", m.Name, what, c.Name),
				fmt.Sprintf("write below it: example usual of %s { … }", m.Name))
		}
	}
}

func noCredential(d *schema.Definitions, say func(source.Place, string, string)) {
	for _, c := range d.Calls() {
		if !c.Safe && len(c.Needs) == 0 && !c.NeedsNothing {
			say(c.Place, fmt.Sprintf("%q may change something, and needs no credential", c.Name),
				"say which it needs, or: needs nothing")
		}
	}
}

func safeWithBody(d *schema.Definitions, say func(source.Place, string, string)) {
	for _, c := range d.Calls() {
		if c.Safe && c.HTTP != nil && conversation.HasBody(c) && fitsQuery(c) {
			say(c.Place, fmt.Sprintf("%q is safe, and made by %s", c.Name, c.HTTP.Method),
				"write http GET: all its fields can travel in the query")
		}
	}
}

// fitsQuery tells whether all of a call's request could travel in the query, by a request
// of its own.
func fitsQuery(c *schema.Call) bool {
	if c.RequestStream || c.Request == nil {
		return c.Request == nil
	}
	return !slices.ContainsFunc(c.Request.Fields, func(f *schema.Field) bool { return !conversation.FitsQuery(f) })
}

// unboundedInput looks for what may be of any size in requests.
func unboundedInput(d *schema.Definitions, say func(source.Place, string, string)) {
	seen := map[any]bool{}
	// of is a field or named type, which can have bounds, or a part of one,
	// which can have them only under a name of its own.
	type spot struct {
		name  string
		place source.Place
		part  bool
	}
	var visit func(t *schema.Type, bounds *schema.Bounds, of spot)
	message := func(m *schema.Message) {
		if m == nil || seen[m.Declared()] {
			return
		}
		seen[m.Declared()] = true
		for _, f := range m.Fields {
			visit(f.Type, f.Bounds, spot{strconv.Quote(f.Name), f.Place, false})
		}
	}
	visit = func(t *schema.Type, bounds *schema.Bounds, of spot) {
		if t.Named != nil && bounds == nil {
			if seen[t.Named] {
				return
			}
			seen[t.Named] = true
			bounds, of = t.Named.Bounds, spot{strconv.Quote(t.Named.Name), t.Named.Place, false}
		}
		limited := func(l *schema.Limits) bool { return l != nil && l.High != schema.Unlimited }
		advise := func(size, where string) {
			fix := "write: where " + where + ", or what is enough"
			if of.part {
				fix = fmt.Sprintf("give it a type with a name: type … = %s where %s", t.Local(nil), where)
			}
			say(of.place, fmt.Sprintf("%s has no limit: in a request it may be %s of any %s", of.name, t.ShortBase(), size), fix)
		}
		switch t.Kind {
		case schema.KindText:
			if bounds == nil || !limited(bounds.Length) && !boundedPattern(bounds.Pattern) {
				advise("length", "length 1..200")
			}
		case schema.KindBytes:
			if bounds == nil || !limited(bounds.Length) {
				advise("length", "length 1..200")
			}
		case schema.KindList, schema.KindMap:
			if bounds == nil || !limited(bounds.Count) {
				advise("size", "count 0..50")
			}
			if t.Key != nil {
				visit(t.Key, nil, spot{"a key of " + of.name, of.place, true})
			}
			visit(t.Elem, nil, spot{"an element of " + of.name, of.place, true})
		case schema.KindMessage:
			message(t.Message)
		case schema.KindUnion:
			if !seen[t.Union] {
				seen[t.Union] = true
				for _, a := range t.Union.Alternatives {
					visit(a.Type, nil, spot{strconv.Quote(a.Name), a.Place, true})
				}
			}
		}
	}
	for _, c := range d.Calls() {
		for _, m := range c.Inputs() {
			message(m)
		}
	}
}

// boundedPattern tells whether a pattern alone limits how long a text is.
func boundedPattern(text string) bool {
	if text == "" {
		return false
	}
	node, problem := pattern.Parse(text)
	return problem == nil && node.Bounded()
}

// limits are the words by which people name how much they want of a list.
var limits = []string{"limit", "max", "count", "size", "page"}

func unlimitedList(d *schema.Definitions, say func(source.Place, string, string)) {
	for _, c := range d.Calls() {
		// An answer with many fields is a thing that has a list, not a list.
		if !c.Safe || c.Response == nil || len(c.Response.Fields) > 3 {
			continue
		}
		for _, f := range c.Response.Fields {
			if f.Type.Kind == schema.KindList && !limited(c.Request) {
				say(c.Place, fmt.Sprintf("%q answers the list %q, and a request can't say how much of it", c.Name, f.Name),
					"give the request a field such as: limit int32 = 50")
				break
			}
		}
	}
}

func limited(request *schema.Message) bool {
	return request != nil && slices.ContainsFunc(request.Fields, func(f *schema.Field) bool {
		return slices.ContainsFunc(limits, func(word string) bool { return strings.Contains(f.Name, word) })
	})
}
