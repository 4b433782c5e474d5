package schema

import (
	"bytes"
	"fmt"
	"slices"

	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

// typeClaims are the names that types claim, of all languages: each by its kind what some
// language makes of it.
func typeClaims(name string, affixes ...string) []string {
	names := []string{name, name + "Tools"}
	for _, affix := range affixes {
		names = append(names, name+affix)
	}
	return names
}

// Claims is its name.
func (k *Const) Claims() []string { return []string{k.Name} }

// Claims are those of a type, and what makes values of it.
func (t *NamedType) Claims() []string { return typeClaims(t.Name, "Init") }

// Claims are those of a type, and what makes values of it.
// Only messages have patches.
func (m *Message) Claims() []string {
	if m.IsError() {
		return typeClaims(m.Name, "Init", "Builder", "OfAll")
	}
	return typeClaims(m.Name, "Init", "Builder", "OfAll", "Patch", "PatchInit")
}

// Claims are those of a type, and a name for each member.
func (e *Enum) Claims() []string {
	names := typeClaims(e.Name)
	for _, m := range e.Members {
		names = append(names, e.Name+syntax.PascalCase(m.Name))
	}
	return names
}

// Claims are those of a type, what makes values of it, and a name for each alternative and
// for what is unlisted.
func (u *Union) Claims() []string {
	names := typeClaims(u.Name, "Init", "Unlisted")
	for _, a := range u.Alternatives {
		names = append(names, u.Name+syntax.PascalCase(a.Name))
	}
	return names
}

// Claims are the names of what implements, calls and serves it.
func (s *Service) Claims() []string {
	n := s.Name
	return []string{n, n + "Calls", n + "Client", "Async" + n + "Client", "Serve" + n, n + "EveryCall",
		"Serve" + n + "EveryCall"}
}

// affixes are what claims put before or after a name, folded.
var affixes = struct{ before, after [][]byte }{
	before: [][]byte{[]byte("async"), []byte("serve")},
	after: [][]byte{[]byte("tools"), []byte("init"), []byte("builder"), []byte("ofall"), []byte("patch"),
		[]byte("unlisted"), []byte("calls"), []byte("client"), []byte("everycall")},
}

// mayClash tells whether two claims of a module could be equal at all: two
// declarations or members of equal names, or a name that looks like a claim.
// Nearly all modules have neither, and need no closer look. Names are compared
// by a hash: that two are taken for one costs the closer look, no more.
func mayClash(m *Module) bool {
	names := len(m.Consts) + len(m.Types) + len(m.Enums)*4 + len(m.Unions)*4 + len(m.Messages) + len(m.Services)
	seen := make(map[uint64]struct{}, names)
	var folded []byte
	clash := func(name, part string) bool {
		folded = syntax.AppendFold(syntax.AppendFold(folded[:0], name), part)
		for _, a := range affixes.before {
			if bytes.HasPrefix(folded, a) {
				return true
			}
		}
		for _, a := range affixes.after {
			if bytes.HasSuffix(folded, a) {
				return true
			}
		}
		hash := uint64(14695981039346656037) // FNV-1a
		for _, c := range folded {
			hash = (hash ^ uint64(c)) * 1099511628211
		}
		_, twice := seen[hash]
		seen[hash] = struct{}{}
		return twice
	}
	for _, decl := range m.Declarations() {
		name := decl.Head().Name
		switch d := decl.(type) {
		case *Example, *Credential:
			continue
		case *Enum:
			if slices.ContainsFunc(d.Members, func(x *Member) bool { return clash(name, x.Name) }) {
				return true
			}
		case *Union:
			if slices.ContainsFunc(d.Alternatives, func(x *Alternative) bool { return clash(name, x.Name) }) {
				return true
			}
		}
		if clash(name, "") {
			return true
		}
	}
	return false
}

// checkClaims refuses two declarations of one module that claim one name.
func checkClaims(d *Definitions, findings *source.Findings) {
	for _, m := range d.Modules {
		checkModuleClaims(m, findings)
	}
}

func checkModuleClaims(m *Module, findings *source.Findings) {
	if !mayClash(m) {
		return
	}
	type claim struct {
		name string
		decl *Decl
	}
	claimed := map[string]claim{}
	check := func(d *Decl, decl Declaration) {
		for _, name := range decl.Claims() {
			before, taken := claimed[syntax.Fold(name)]
			if !taken {
				claimed[syntax.Fold(name)] = claim{name, d}
				continue
			}
			if before.decl == d {
				findings.Add(source.Finding{Name: "name-claimed", Place: d.Place, Fix: "rename it",
					Message: fmt.Sprintf("a part of %q would be called %q in generated code, a name that %q claims for "+
						"something else", d.Name, name, d.Name)})
				return
			}
			message := fmt.Sprintf("%q and %q differ only in case or _", d.Name, before.decl.Name)
			if syntax.Fold(d.Name) != syntax.Fold(before.decl.Name) {
				message = fmt.Sprintf("%q and %q both claim the name %q in generated code", d.Name, before.decl.Name, name)
			}
			findings.Add(source.Finding{Name: "name-claimed", Place: d.Place, Message: message, Fix: "rename one of them",
				Notes: []source.Note{{Place: before.decl.Place, Message: "the other is declared here"}}})
			return
		}
	}
	all := m.Declarations()
	// In the order written, so that the later of two is the one at fault.
	slices.SortStableFunc(all, func(a, b Declaration) int { return source.ComparePlaces(a.Head().Place, b.Head().Place) })
	for _, decl := range all {
		check(decl.Head(), decl)
	}
}
