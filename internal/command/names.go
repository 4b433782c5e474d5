package command

import (
	"flag"
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

// named returns the one thing that a name means. kinds says what it may be:
// with none, anything.
func named(defs *schema.Definitions, name string, kinds ...thingKind) (schema.Element, error) {
	var wanted, others []schema.Element
	for _, n := range defs.Find(name) {
		if len(kinds) == 0 || slices.Contains(kinds, thingKind(n.Noun())) {
			wanted = append(wanted, n)
		} else {
			others = append(others, n)
		}
	}
	switch {
	case len(wanted) == 1:
		return wanted[0], nil
	case len(wanted) > 1:
		var names []string
		for _, n := range wanted {
			names = append(names, n.FullName())
		}
		return nil, fmt.Errorf("%q may be any of: %s", name, strings.Join(names, ", "))
	case len(others) > 0:
		message := fmt.Sprintf("%q is %s; what is needed is %s", others[0].FullName(), thingKind(others[0].Noun()),
			alternatives(kinds))
		if s, isService := others[0].(*schema.Service); isService && slices.Contains(kinds, aCall) {
			var calls []string
			for _, c := range s.Calls {
				calls = append(calls, s.Name+"."+c.Name)
			}
			message = fmt.Sprintf("%q is a service; its calls are: %s", others[0].FullName(), strings.Join(calls, ", "))
		}
		return nil, fmt.Errorf("%s", message)
	}
	var names []string
	for _, n := range defs.Everything() {
		if len(kinds) == 0 || slices.Contains(kinds, thingKind(n.Noun())) {
			parts := strings.Split(n.FullName(), ".")
			names = append(names, n.FullName(), parts[len(parts)-1])
			if len(parts) > 1 {
				names = append(names, strings.Join(parts[len(parts)-2:], "."))
			}
		}
	}
	if near := source.Nearest(name, names); near != "" {
		return nil, fmt.Errorf("nothing is called %q; did you mean %q?", name, near)
	}
	return nil, fmt.Errorf("nothing is called %q; faithful show lists what there is", name)
}

// thingKind says what a thing is, for a sentence.
type thingKind string

// The kinds of things that commands ask for.
const (
	aMessage thingKind = "a message"
	anError  thingKind = "an error"
	aCall    thingKind = "a call"
	aService thingKind = "a service"
)

func alternatives(kinds []thingKind) string {
	var list []string
	for _, k := range kinds {
		list = append(list, string(k))
	}
	return strings.Join(list, " or ")
}

// several is an option that may be given more than once.
type several []string

func (s *several) String() string { return strings.Join(*s, ", ") }

func (s *several) Set(value string) error {
	*s = append(*s, value)
	return nil
}

// severalOf declares an option that may be given more than once.
func severalOf(flags *flag.FlagSet, name, usage string) *several {
	s := &several{}
	flags.Var(s, name, usage)
	return s
}
