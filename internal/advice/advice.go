// Package advice says what could be better in definitions that are right. It
// must not know files or how advice is shown. Each rule has a stable name, by
// which a project can switch it off, and says why it matters to a user of the
// service.
package advice

import (
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

// Rule is one kind of advice.
type Rule struct {
	Name string
	Why  string
	find func(d *schema.Definitions, say func(place source.Place, message, mend string))
}

// UnusedUse is the rule that the resolver itself applies, since only it sees
// aliases.
const UnusedUse = schema.UnusedUse

// Rules lists all rules, by name.
var Rules = []Rule{
	{"deprecated-used", "new code is led to what is on its way out", deprecatedUsed},
	{"stutter", "code says the same word twice: booking.BookingState", stutter},
	{"undocumented", "documentation is what users of the stubs read first, in their editors", undocumented},
	{"unlimited-list", "the answer grows with the data, until it is too large for those who read it", unlimitedList},
	{"unused-type", "stubs carry what nothing sends", unusedType},
	{UnusedUse, "it makes readers look for what is not there", nil},
}

// Names lists the names of all rules.
func Names() []string {
	var names []string
	for _, r := range Rules {
		names = append(names, r.Name)
	}
	return names
}

// Advise returns the advice of all rules that are not switched off, sorted by
// place. found is what loading found: advice in it is kept.
func Advise(d *schema.Definitions, found []source.Finding, off []string) []source.Finding {
	var findings source.Findings
	for _, f := range found {
		if !slices.Contains(off, f.Name) {
			findings.Add(f)
		}
	}
	for _, r := range Rules {
		if r.find == nil || slices.Contains(off, r.Name) {
			continue
		}
		r.find(d, func(place source.Place, message, mend string) {
			findings.Add(source.Finding{Name: r.Name, Severity: source.Advice, Place: place, Message: message, Mend: mend})
		})
	}
	return findings.Sorted()
}

func undocumented(d *schema.Definitions, say func(source.Place, string, string)) {
	check := func(doc, what string, place source.Place) {
		if doc == "" {
			say(place, what+" has no documentation", "write /// above it")
		}
	}
	for _, m := range d.Modules {
		for _, msg := range m.Messages {
			if msg.IsError() {
				check(msg.Doc, "the error "+msg.Name, msg.Place)
			}
		}
		for _, s := range m.Services {
			check(s.Doc, "the service "+s.Name, s.Place)
			for _, c := range s.Calls {
				check(c.Doc, "the call "+c.Name, c.Place)
			}
		}
	}
}

func stutter(d *schema.Definitions, say func(source.Place, string, string)) {
	check := func(owner, name, what string, place source.Place) {
		if rest, ok := strings.CutPrefix(name, syntax.SnakeCase(owner)+"_"); ok {
			say(place, fmt.Sprintf("the %s %s repeats the name of %s", what, name, owner), "call it "+rest)
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
	}
}

func unusedType(d *schema.Definitions, say func(source.Place, string, string)) {
	if len(d.Calls()) == 0 {
		return // a module of types for others
	}
	used := usedTypes(d)
	for _, m := range d.Modules {
		for _, e := range m.Enums {
			if !used[e] {
				say(e.Place, fmt.Sprintf("nothing uses the enum %s", e.Name), "remove it, or use it")
			}
		}
		for _, msg := range m.Messages {
			if !used[msg] {
				say(msg.Place, fmt.Sprintf("nothing uses %s", msg.Name), "remove it, or use it in a call")
			}
		}
	}
}

// usedTypes holds the enums and messages that a call or another message uses.
func usedTypes(d *schema.Definitions) map[any]bool {
	used := map[any]bool{}
	var walk func(by *schema.Message, t *schema.Type)
	walk = func(by *schema.Message, t *schema.Type) {
		switch t.Kind {
		case schema.KindList, schema.KindMap:
			walk(by, t.Elem)
		case schema.KindEnum:
			used[t.Enum] = true
		case schema.KindMessage:
			if t.Message != by {
				used[t.Message] = true
			}
		}
	}
	for _, m := range d.Modules {
		for _, msg := range m.Messages {
			for _, f := range msg.Fields {
				walk(msg, f.Type)
			}
		}
	}
	for _, c := range d.Calls() {
		for _, side := range append([]*schema.Message{c.Request, c.Response}, c.Fails...) {
			used[side] = true
		}
	}
	return used
}

func deprecatedUsed(d *schema.Definitions, say func(source.Place, string, string)) {
	for _, m := range d.Modules {
		for _, msg := range m.Messages {
			for _, f := range msg.Fields {
				if name, why := deprecatedType(f.Type); why != "" && f.Deprecated == "" && msg.Deprecated == "" {
					say(f.Place, fmt.Sprintf("%s uses %s, which is deprecated: %s", f.Name, name, why), "")
				}
			}
		}
	}
	for _, c := range d.Calls() {
		for _, side := range append([]*schema.Message{c.Request, c.Response}, c.Fails...) {
			if side != nil && side.Deprecated != "" && c.Deprecated == "" && c.Service.Deprecated == "" {
				say(c.Place, fmt.Sprintf("%s uses %s, which is deprecated: %s", c.Name, side.Name, side.Deprecated), "")
			}
		}
	}
}

// deprecatedType finds a deprecated declaration in a type.
func deprecatedType(t *schema.Type) (name, why string) {
	switch t.Kind {
	case schema.KindList, schema.KindMap:
		return deprecatedType(t.Elem)
	case schema.KindEnum:
		return t.Enum.Name, t.Enum.Deprecated
	case schema.KindMessage:
		return t.Message.Name, t.Message.Deprecated
	}
	return "", ""
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
				say(c.Place, fmt.Sprintf("%s answers the list %s, and a request can't say how much of it", c.Name, f.Name), "give the request a field such as: limit int32 = 50")
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
