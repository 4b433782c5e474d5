package stubs

import (
	"fmt"
	"slices"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

// LeftOut is a module that stubs can't carry yet, and the first thing in it
// that they can't.
type LeftOut struct {
	Module string
	What   string
	Place  source.Place // zero when another module is the reason
}

// Carried returns the definitions that stubs can carry: without the modules
// that hold what no language has yet, and those that use them.
func Carried(d *schema.Definitions) (*schema.Definitions, []LeftOut) {
	var left []LeftOut
	out := map[*schema.Module]bool{}
	drop := func(m *schema.Module, what string, place source.Place) {
		out[m] = true
		left = append(left, LeftOut{m.Name, what, place})
	}
	for _, m := range d.Modules {
		if what, place := lacking(m); what != "" {
			drop(m, what, place)
		}
	}
	for again := len(left) > 0; again; {
		again = false
		for _, m := range d.Modules {
			if i := slices.IndexFunc(m.Uses(), func(u *schema.Module) bool { return out[u] }); i >= 0 && !out[m] {
				drop(m, "it uses "+m.Uses()[i].Name, source.Place{})
				again = true
			}
		}
	}
	carried := &schema.Definitions{}
	for _, m := range d.Modules {
		if !out[m] {
			carried.Modules = append(carried.Modules, m)
		}
	}
	return carried, left
}

// lacking finds the first thing in a module that stubs can't carry.
func lacking(m *schema.Module) (what string, place source.Place) {
	for _, decl := range m.Declarations() {
		switch d := decl.(type) {
		case *schema.Const:
			what, place = lackingType(d.Type), d.Place
		case *schema.NamedType:
			what, place = "named types", d.Place
		case *schema.Union:
			what, place = "unions", d.Place
		case *schema.Message:
			for _, f := range d.Fields {
				if w := lackingField(f); w != "" && what == "" {
					what, place = w, f.Place
				}
			}
		case *schema.Service:
			for _, c := range d.Calls {
				if w := lackingCall(c); w != "" && what == "" {
					what, place = w, c.Place
				}
			}
		}
		if what != "" {
			return what, place
		}
	}
	return "", source.Place{}
}

func lackingType(t *schema.Type) string {
	switch {
	case t.Named != nil:
		return "named types"
	case t.Kind == schema.KindDecimal, t.Kind == schema.KindDate, t.Kind == schema.KindDuration, t.Kind == schema.KindAny:
		return fmt.Sprintf("the scalar %s", t.Kind)
	case t.Kind == schema.KindUnion:
		return "unions"
	case t.Kind == schema.KindMap && t.Key.Kind != schema.KindText:
		return "maps whose keys are not text"
	case t.Elem != nil:
		return lackingType(t.Elem)
	}
	return ""
}

func lackingField(f *schema.Field) string {
	switch {
	case f.Secret:
		return "secret fields"
	case f.In != nil:
		return "fields outside of the body"
	}
	return lackingType(f.Type)
}

func lackingCall(c *schema.Call) string {
	switch {
	case c.RequestStream || c.ResponseStream:
		return "streams"
	case c.HTTP != nil:
		return "http clauses"
	case c.Needs != nil:
		return "credentials"
	}
	return ""
}
