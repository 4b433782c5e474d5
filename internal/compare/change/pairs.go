package change

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

// lifecycle are the kinds of changes about a kind of declaration that comes, goes,
// gets another name, or moves to another module.
type lifecycle struct{ added, gone, renamed, moved Kind }

// pairAll pairs what both sides declare: by module and name; and what is gone
// with an equal one that has appeared.
func (d *Set) pairAll() {
	pairs := d.pairModules()
	messages := sieve[*schema.Message]{d: d}
	errors := sieve[*schema.Message]{d: d}
	enums, types, unions := sieve[*schema.Enum]{d: d}, sieve[*schema.NamedType]{d: d}, sieve[*schema.Union]{d: d}
	consts, credentials, services := sieve[*schema.Const]{d: d}, sieve[*schema.Credential]{d: d},
		sieve[*schema.Service]{d: d}
	for _, p := range pairs {
		messages.sift(onlyErrors(p[0].Messages, false), onlyErrors(p[1].Messages, false))
		errors.sift(onlyErrors(p[0].Messages, true), onlyErrors(p[1].Messages, true))
		enums.sift(p[0].Enums, p[1].Enums)
		types.sift(p[0].Types, p[1].Types)
		unions.sift(p[0].Unions, p[1].Unions)
		consts.sift(p[0].Consts, p[1].Consts)
		credentials.sift(p[0].Credentials, p[1].Credentials)
		services.sift(p[0].Services, p[1].Services)
	}
	// What others refer to comes first, so that references can be compared.
	enums.match(lifecycle{EnumAdded, EnumGone, EnumRenamed, EnumMoved}, func(o, n *schema.Enum) { d.Enums[o] = n })
	types.match(lifecycle{TypeAdded, TypeGone, TypeRenamed, TypeMoved}, func(o, n *schema.NamedType) { d.Types[o] = n })
	keep := func(o, n *schema.Message) {
		d.Messages[o] = n
		if o.Patch() != nil && n.Patch() != nil {
			d.Messages[o.Patch()] = n.Patch()
		}
	}
	messages.match(lifecycle{MessageAdded, MessageGone, MessageRenamed, MessageMoved}, keep)
	unions.match(lifecycle{UnionAdded, UnionGone, UnionRenamed, UnionMoved}, func(o, n *schema.Union) { d.Unions[o] = n })
	errors.match(lifecycle{ErrorAdded, ErrorGone, ErrorRenamed, ErrorMoved}, keep)
	consts.match(lifecycle{ConstAdded, ConstGone, ConstRenamed, ConstMoved}, d.constant)
	credentials.match(lifecycle{CredentialAdded, CredentialGone, CredentialRenamed, CredentialMoved}, d.credential)
	services.match(lifecycle{ServiceAdded, ServiceGone, ServiceRenamed, ServiceMoved}, d.service)
	for _, o := range services.gone {
		d.service(o, &schema.Service{Decl: o.Decl})
	}
	for _, n := range services.added {
		d.service(&schema.Service{Decl: n.Decl}, n)
	}
	d.renamedCalls()
}

func onlyErrors(list []*schema.Message, wanted bool) []*schema.Message {
	return slices.DeleteFunc(slices.Clone(list), func(m *schema.Message) bool { return m.IsError() != wanted })
}

// pairModules pairs modules, by name or because they hold the same under another
// one; a side that has not a module has an empty one.
func (d *Set) pairModules() (pairs [][2]*schema.Module) {
	var gone, added []*schema.Module
	for _, o := range d.Old.Modules {
		if n := d.New.Module(o.Name); n != nil {
			d.Modules[o] = n
			pairs = append(pairs, [2]*schema.Module{o, n})
		} else {
			gone = append(gone, o)
		}
	}
	for _, n := range d.New.Modules {
		if d.Old.Module(n.Name) == nil {
			added = append(added, n)
		}
	}
	for _, o := range gone {
		i := slices.IndexFunc(added, func(n *schema.Module) bool { return moduleText(n) == moduleText(o) })
		if i < 0 {
			i = mostShared(o, added)
		}
		if i < 0 {
			d.add(&Change{Kind: ModuleGone, Where: o.Name, Old: o.Name, Modules: ModulePair{Old: o}}, o.Place)
			pairs = append(pairs, [2]*schema.Module{o, {Name: o.Name}})
			continue
		}
		n := added[i]
		added = slices.Delete(added, i, i+1)
		d.Modules[o] = n
		pairs = append(pairs, [2]*schema.Module{o, n})
		d.add(&Change{Kind: ModuleRenamed, Where: o.Name, Old: o.Name, New: n.Name, Modules: ModulePair{Old: o, New: n}},
			n.Place)
	}
	for _, n := range added {
		d.add(&Change{Kind: ModuleAdded, Where: n.Name, New: n.Name, Modules: ModulePair{New: n}}, n.Place)
		pairs = append(pairs, [2]*schema.Module{{Name: n.Name}, n})
	}
	slices.SortFunc(pairs, func(a, b [2]*schema.Module) int { return strings.Compare(a[0].Name, b[0].Name) })
	return pairs
}

// mostShared is the module that declares most of the names of another one, and no fewer
// than half of them; -1 where there is none, or more than one.
func mostShared(o *schema.Module, added []*schema.Module) int {
	names := map[string]bool{}
	for _, decl := range o.Declarations() {
		names[decl.Head().Name] = true
	}
	best, most, tied := -1, 0, false
	for i, n := range added {
		shared := 0
		for _, decl := range n.Declarations() {
			if names[decl.Head().Name] {
				shared++
			}
		}
		if shared > most {
			best, most, tied = i, shared, false
		} else if shared == most {
			tied = true
		}
	}
	if tied || 2*most < len(names) || most == 0 {
		return -1
	}
	return best
}

// moduleText is what a module holds, but for its name.
func moduleText(m *schema.Module) string {
	var b strings.Builder
	for _, decl := range m.Declarations() {
		b.WriteString(schema.PlainText(decl) + "\n")
	}
	return b.String()
}

// declared are the types of declarations.
type declared interface {
	comparable
	schema.Declaration
}

// sieve keeps declarations of one kind that only one side has by name.
type sieve[D declared] struct {
	d           *Set
	both        [][2]D
	gone, added []D
}

// sift pairs the declarations of two modules by name.
func (s *sieve[D]) sift(old, new []D) {
	pair(old, new, func(x D) string { return x.Head().Name }, func(o, n D) {
		var none D
		switch {
		case n == none:
			s.gone = append(s.gone, o)
		case o == none:
			s.added = append(s.added, n)
		default:
			s.both = append(s.both, [2]D{o, n})
		}
	})
}

// match tells of pairs, pairs what is gone with an equal one that has appeared, and
// adds the changes. What has no counterpart stays.
func (s *sieve[D]) match(kinds lifecycle, paired func(old, new D)) {
	both := func(o, n D) {
		old, new := o.Head(), n.Head()
		s.d.known[old], s.d.known[new] = new.FullName(), new.FullName()
		paired(o, n)
	}
	for _, p := range s.both {
		both(p[0], p[1])
	}
	find := s.finder()
	var gone []D
	var none D
	taken := map[D]bool{}
	for _, o := range s.gone {
		head := o.Head()
		n := find(o, taken)
		if n == none {
			gone = append(gone, o)
			s.d.add(&Change{Kind: kinds.gone, Where: head.FullName(), Old: oneLine(o), OldDecl: o},
				head.Place).Missed = s.d.placeOf(head.Module)
			continue
		}
		taken[n] = true
		kind, now := kinds.renamed, n.Head()
		if s.d.Modules[head.Module] != now.Module {
			kind = kinds.moved
		}
		s.d.add(&Change{Kind: kind, Where: head.FullName(), Old: head.FullName(), New: now.FullName(), OldDecl: o,
			NewDecl: n}, now.Place)
		both(o, n)
	}
	s.gone = gone
	s.added = slices.DeleteFunc(s.added, func(n D) bool { return taken[n] })
	for _, n := range s.added {
		s.d.add(&Change{Kind: kinds.added, Where: n.Head().FullName(), New: oneLine(n), NewDecl: n}, n.Head().Place)
	}
}

// finder finds what of all that has appeared is what something gone was: its heir by
// the versions between, else an equal one, of the same name first.
func (s *sieve[D]) finder() func(o D, taken map[D]bool) D {
	if len(s.gone) == 0 || len(s.added) == 0 {
		return func(D, map[D]bool) (none D) { return none }
	}
	byName, byText := map[string]D{}, map[string][]D{}
	for _, n := range s.added {
		byName[n.Head().FullName()] = n
		text := s.d.likeness(n)
		byText[text] = append(byText[text], n)
	}
	heirs := s.d.heirs()
	return func(o D, taken map[D]bool) D {
		var none D
		if n := byName[heirs[o.Head().FullName()]]; n != none && !taken[n] {
			return n
		}
		var equal D
		for _, n := range byText[s.d.likeness(o)] {
			switch {
			case taken[n]:
			case n.Head().Name == o.Head().Name:
				return n
			case equal == none:
				equal = n
			}
		}
		return equal
	}
}

// placeOf is where NEW has a module of OLD, if it has.
func (d *Set) placeOf(m *schema.Module) source.Place {
	if n := d.Modules[m]; n != nil {
		return n.Place
	}
	return source.Place{}
}

// heirs are the full names that declarations of OLD have in NEW, by their own, as far
// as the versions between tell: what was renamed in one and changed in the next is
// no longer equal, and still the same.
func (d *Set) heirs() map[string]string {
	if d.between == nil {
		return d.heirNames
	}
	chain := append(append([]*schema.Definitions{d.Old}, d.between()...), d.New)
	d.between = nil
	if len(chain) == 2 {
		return nil
	}
	d.heirNames = map[string]string{}
	for _, m := range d.Old.Modules {
		for _, decl := range m.Declarations() {
			name := decl.Head().FullName()
			d.heirNames[name] = name
		}
	}
	for i := range chain[1:] {
		step := newSet(chain[i], chain[i+1])
		step.pairAll()
		next := map[string]string{}
		for _, m := range chain[i].Modules {
			for _, decl := range m.Declarations() {
				if name := step.known[decl.Head()]; name != "" {
					next[decl.Head().FullName()] = name
				}
			}
		}
		for first, now := range d.heirNames {
			if name := next[now]; name != "" {
				d.heirNames[first] = name
			} else {
				delete(d.heirNames, first)
			}
		}
	}
	return d.heirNames
}

// oneLine is a short text of a declaration, where a change shows it.
func oneLine(decl schema.Declaration) string {
	switch x := decl.(type) {
	case *schema.Const:
		return schema.LiteralText(x.Value)
	case *schema.Credential:
		return schema.PlainText(x)
	}
	return decl.Head().Name
}

// likeness is a text that two declarations share which are equal but for their
// names and modules. A message may refer to itself, and to what has the same name
// and moved with it.
func (d *Set) likeness(decl schema.Declaration) string {
	name := func(x *schema.Decl) string {
		if x == decl.Head() {
			return "itself"
		}
		return cmp.Or(d.known[x], x.Name)
	}
	var b strings.Builder
	switch x := decl.(type) {
	case *schema.Enum:
		for _, m := range x.Members {
			fmt.Fprintf(&b, "#%d %s\n", m.Number, m.Name)
		}
	case *schema.NamedType:
		b.WriteString(x.Type.SpellBase(name) + x.Bounds.String())
	case *schema.Union:
		for _, a := range x.Alternatives {
			fmt.Fprintf(&b, "#%d %s %s\n", a.Number, a.Name, a.Type.Spell(name))
		}
	case *schema.Message:
		fmt.Fprintf(&b, "%d\n", x.Status)
		for _, f := range x.Fields {
			fmt.Fprintf(&b, "#%d %s %s %d %s\n", f.Number, f.Name, f.Type.Spell(name), f.Presence, literal(f))
		}
	case *schema.Const:
		fmt.Fprintf(&b, "%s %s", x.Type.Kind, schema.LiteralText(x.Value))
	case *schema.Credential:
		fmt.Fprintf(&b, "%s %s", x.Carries(), x.Format)
	case *schema.Service:
		for _, c := range x.Calls {
			b.WriteString(c.Name + httpText(c) + callText(c, name) + "\n")
		}
	}
	return b.String()
}

// service pairs the calls of two services by name, and keeps what only one of them has.
func (d *Set) service(o, n *schema.Service) {
	d.words(o.FullName(), o.Doc, n.Doc, o.Deprecated, n.Deprecated, n.Place)
	missed := n.Place
	if n.Module == o.Module { // the service is gone itself
		missed = d.placeOf(o.Module)
	}
	pair(o.Calls, n.Calls, func(c *schema.Call) string { return c.Name }, func(a, b *schema.Call) {
		switch {
		case b == nil:
			d.goneCalls = append(d.goneCalls, goneCall{a, n, missed})
		case a == nil:
			d.addedCalls = append(d.addedCalls, b)
		default:
			d.Calls = append(d.Calls, CallPair{a, b})
		}
	})
}

// goneCall is a call that NEW has not by its name, its service in NEW, and the place of
// what held it.
type goneCall struct {
	call    *schema.Call
	service *schema.Service
	missed  source.Place
}

// renamedCalls pairs calls that are gone with those that have appeared at the same
// method and path, whatever else changed; with equal ones of the same service; and with
// equal ones of the same name in another one.
func (d *Set) renamedCalls() {
	name := func(x *schema.Decl) string { return cmp.Or(d.known[x], x.Name) }
	keys := []func(c *schema.Call, of *schema.Service) string{
		func(c *schema.Call, _ *schema.Service) string {
			return conversation.Method(c) + " " + conversation.Pattern(c)
		},
		func(c *schema.Call, of *schema.Service) string {
			return of.FullName() + " " + callText(c, name) + " " + httpText(c)
		},
		func(c *schema.Call, _ *schema.Service) string {
			return c.Name + " " + callText(c, name) + " " + httpText(c)
		},
	}
	partner, taken := map[*schema.Call]*schema.Call{}, map[*schema.Call]bool{}
	for _, key := range keys {
		if len(d.goneCalls) == 0 {
			break
		}
		added := map[string][]*schema.Call{}
		for _, b := range d.addedCalls {
			added[key(b, b.Service)] = append(added[key(b, b.Service)], b)
		}
		for _, a := range d.goneCalls {
			if partner[a.call] != nil {
				continue
			}
			k := key(a.call, a.service)
			for len(added[k]) > 0 && taken[added[k][0]] {
				added[k] = added[k][1:]
			}
			if len(added[k]) > 0 {
				partner[a.call] = added[k][0]
				taken[added[k][0]] = true
			}
		}
	}
	for _, a := range d.goneCalls {
		b := partner[a.call]
		if b == nil {
			d.add(&Change{Kind: CallGone, Where: a.call.FullName(), Old: signature(a.call), Call: CallPair{a.call, nil}},
				a.call.Place).Missed = a.missed
			continue
		}
		d.Calls = append(d.Calls, CallPair{a.call, b})
		if b.Service == a.service {
			d.add(&Change{Kind: CallRenamed, Where: a.call.FullName(), Old: a.call.Name, New: b.Name,
				Call: CallPair{a.call, b}}, b.Place)
		} else {
			d.add(&Change{Kind: CallMoved, Where: a.call.FullName(), Old: a.call.FullName(), New: b.FullName(),
				Call: CallPair{a.call, b}}, b.Place)
		}
	}
	for _, b := range d.addedCalls {
		if !taken[b] {
			d.add(&Change{Kind: CallAdded, Where: b.FullName(), New: signature(b), Call: CallPair{nil, b}}, b.Place)
		}
	}
}

// callText is what a call is, but for its name and where it is served.
func callText(c *schema.Call, name func(*schema.Decl) string) string {
	side := func(m *schema.Message) string {
		if m == nil {
			return "()"
		}
		return name(&m.Decl)
	}
	text := []string{side(c.Head), side(c.Request), side(c.Response), streamText(c), fmt.Sprint(c.Safe, c.Idempotent)}
	for _, e := range c.Fails {
		text = append(text, side(e))
	}
	for _, list := range c.Needs {
		for _, k := range list {
			text = append(text, name(&k.Decl))
		}
		text = append(text, "|")
	}
	return strings.Join(text, " ")
}

// pair calls each for the elements of two lists with equal keys, and for
// those that only one has.
func pair[T comparable](old, new []T, key func(T) string, each func(old, new T)) {
	var none T
	byKey := map[string]T{}
	for _, n := range new {
		byKey[key(n)] = n
	}
	for _, o := range old {
		each(o, byKey[key(o)])
		delete(byKey, key(o))
	}
	for _, n := range new {
		if byKey[key(n)] != none {
			each(none, n)
		}
	}
}

// pairFields pairs the fields of two messages: where a number is gone and its
// name stands under another number, by name; where two exchange numbers and
// keep names and types, by name; else by number.
func PairFields(o, n *schema.Message) []FieldPair {
	return pairNumbered(o.Fields, n.Fields, func(f *schema.Field) (int, string, string) {
		return f.Number, f.Name,
			f.Type.String()
	},
		func(a, b *schema.Field) FieldPair { return FieldPair{a, b} })
}

// pairs is pairFields, done once for each two messages.
func (d *Set) Fields(o, n *schema.Message) []FieldPair {
	key := [2]*schema.Message{o, n}
	list, known := d.paired[key]
	if !known {
		list = PairFields(o, n)
		d.paired[key] = list
	}
	return list
}

// pairMembers pairs the members of two enums in the same way.
func PairMembers(o, n *schema.Enum) []MemberPair {
	return pairNumbered(o.Members, n.Members, func(m *schema.Member) (int, string, string) { return m.Number, m.Name, "" },
		func(a, b *schema.Member) MemberPair { return MemberPair{a, b} })
}

func pairNumbered[T, P any](old, new []*T, key func(*T) (int, string, string), make func(old, new *T) P) []P {
	oldByNumber, newByNumber, newByName := map[int]*T{}, map[int]*T{}, map[string]*T{}
	for _, o := range old {
		number, _, _ := key(o)
		oldByNumber[number] = o
	}
	for _, n := range new {
		number, name, _ := key(n)
		newByNumber[number], newByName[name] = n, n
	}
	partner, taken := map[*T]*T{}, map[*T]bool{}
	join := func(o, n *T) { partner[o], taken[n] = n, true }
	// A number is gone when NEW has not it, or has it for something that is
	// paired by name already; so one pairing can lead to the next.
	for again := true; again; {
		again = false
		for _, o := range old {
			number, name, _ := key(o)
			n, there := newByName[name], newByNumber[number]
			if partner[o] == nil && n != nil && !taken[n] && n != there && (there == nil || taken[there]) {
				join(o, n)
				again = true
			}
		}
	}
	for _, o := range old {
		number, name, typ := key(o)
		n := newByName[name]
		if n == nil || partner[o] != nil || taken[n] {
			continue
		}
		// o's name now stands under a number whose old name stands under o's.
		newNumber, _, newType := key(n)
		other, back := oldByNumber[newNumber], newByNumber[number]
		if newNumber == number || other == nil || back == nil || taken[back] {
			continue
		}
		_, otherName, otherType := key(other)
		_, backName, backType := key(back)
		if otherName == backName && typ == newType && otherType == backType && partner[other] == nil {
			join(o, n)
			join(other, back)
		}
	}
	var pairs []P
	for _, o := range old {
		number, _, _ := key(o)
		n := partner[o]
		if candidate := newByNumber[number]; n == nil && candidate != nil && !taken[candidate] {
			n = candidate
			taken[n] = true
		}
		pairs = append(pairs, make(o, n))
	}
	for _, n := range new {
		if !taken[n] {
			pairs = append(pairs, make(nil, n))
		}
	}
	return pairs
}
