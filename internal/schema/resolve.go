package schema

import (
	"encoding/base64"
	"fmt"
	"math"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"unicode/utf8"

	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

// Parse parses files, which know nothing of each other, on all cores.
func Parse(files []*source.File, findings *source.Findings) []*syntax.File {
	trees := make([]*syntax.File, len(files))
	found := make([]source.Findings, len(files))
	onAllCores(len(files), func(i int) { trees[i] = syntax.Parse(files[i], &found[i]) })
	for i := range found {
		findings.Join(&found[i])
	}
	return trees
}

// Resolve turns trees into definitions and adds what is wrong to findings.
// It goes over the trees in phases: declarations, so that names can be used
// before they stand; what they hold; and what only the whole shows.
func Resolve(trees []*syntax.File, findings *source.Findings) *Definitions {
	r := &resolver{findings: findings, scopes: map[string]*scope{}, defs: &Definitions{},
		numbers: map[int]source.Place{}, names: map[string]used{}}
	for _, t := range trees {
		if t.Module.Text != "" {
			r.declare(t)
		}
	}
	for _, f := range r.files {
		r.bindUses(f)
	}
	r.checkUseCycles()
	// What each phase needs is there before it: bases of types, constants (for
	// bounds), members (for defaults), fields (for calls and examples).
	for _, phase := range []func(*resolver, *fileScope){(*resolver).scalarTypes, (*resolver).otherTypes} {
		for _, f := range r.files {
			phase(r, f)
		}
	}
	r.breakTypeCircles()
	for _, phase := range []func(*resolver, *fileScope){(*resolver).constants, (*resolver).enums, (*resolver).typeBounds} {
		for _, f := range r.files {
			phase(r, f)
		}
	}
	for _, s := range r.scopes {
		r.defs.Modules = append(r.defs.Modules, s.module)
	}
	r.beside((*resolver).contents)
	fillPatches(r.defs)
	fillChecked(r.defs)
	for _, phase := range []func(*resolver, *fileScope){(*resolver).services, (*resolver).examples} {
		r.beside(phase)
	}
	r.unusedUses()
	for _, m := range r.defs.Modules {
		// An example of nothing has been reported; nobody shall stumble on it.
		m.Examples = slices.DeleteFunc(m.Examples, func(e *Example) bool { return e.Of == nil })
	}
	sortDefinitions(r.defs)
	checkWhole(r.defs, findings)
	return r.defs
}

// beside runs a phase for all files on all cores. In such a phase a file writes
// only what it declares itself.
func (r *resolver) beside(phase func(*resolver, *fileScope)) {
	found := make([]source.Findings, len(r.files))
	onAllCores(len(r.files), func(i int) {
		own := &resolver{findings: &found[i], scopes: r.scopes, files: r.files, defs: r.defs,
			numbers: map[int]source.Place{}, names: map[string]used{},
			compared: maxSuggestions - maxSuggestions/len(r.files)}
		phase(own, r.files[i])
	})
	for i := range found {
		r.findings.Join(&found[i])
	}
}

// onAllCores calls do for 0 to n-1, several at a time.
func onAllCores(n int, do func(i int)) {
	var next atomic.Int64
	var workers sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), n) {
		workers.Go(func() {
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				do(i)
			}
		})
	}
	workers.Wait()
}

// checkWhole checks what only the whole shows. The checks change nothing, and
// run at the same time.
func checkWhole(d *Definitions, findings *source.Findings) {
	checks := []func(*Definitions, *source.Findings){checkClaims, checkFinite}
	found := make([]source.Findings, len(checks))
	var running sync.WaitGroup
	for i, check := range checks {
		running.Go(func() { check(d, &found[i]) })
	}
	running.Wait()
	for i := range found {
		findings.Join(&found[i])
	}
	checkSmallest(d, findings)
}

func sortDefinitions(d *Definitions) {
	slices.SortFunc(d.Modules, func(a, b *Module) int { return strings.Compare(a.Name, b.Name) })
	for _, m := range d.Modules {
		sortByName(m.Consts, func(c *Const) string { return c.Name })
		sortByName(m.Types, func(t *NamedType) string { return t.Name })
		sortByName(m.Enums, func(e *Enum) string { return e.Name })
		sortByName(m.Unions, func(u *Union) string { return u.Name })
		sortByName(m.Messages, func(x *Message) string { return x.Name })
		sortByName(m.Patches, func(x *Message) string { return x.Name })
		sortByName(m.Examples, func(e *Example) string { return e.Name })
		sortByName(m.Credentials, func(c *Credential) string { return c.Name })
		sortByName(m.Services, func(s *Service) string { return s.Name })
		for _, s := range m.Services {
			sortByName(s.Calls, func(c *Call) string { return c.Name })
		}
	}
}

func sortByName[T any](list []T, name func(T) string) {
	slices.SortFunc(list, func(a, b T) int { return strings.Compare(name(a), name(b)) })
}

type resolver struct {
	findings *source.Findings
	scopes   map[string]*scope // by module name
	files    []*fileScope
	defs     *Definitions

	// What the scope that is checked has used, kept to be used again.
	numbers    map[int]source.Place
	names      map[string]used
	scopeWatch uniqueness

	compared int // names, for suggestions
}

// scope is what one module declares, by name.
type scope struct {
	module *Module
	decls  map[string]Declaration
	names  []string        // in the order declared, for suggestions
	lower  map[string]used // examples and credentials, by folded name
}

// fileScope is what one file sees.
type fileScope struct {
	*scope
	tree  *syntax.File
	uses  map[string]*scope // by alias
	spent map[string]bool   // the aliases that were used
	bound []Declaration     // the resolved declaration of each tree.Decls, nil for a double
}

func (f *fileScope) place(span source.Span) source.Place {
	return source.Place{File: f.tree.Source, Span: span}
}

func (r *resolver) report(place source.Place, name, message, fix string, notes ...source.Note) {
	r.findings.Add(source.Finding{Name: name, Place: place, Message: message, Fix: fix, Notes: notes})
}

func (r *resolver) declare(t *syntax.File) {
	s := r.scopes[t.Module.Text]
	if s == nil {
		s = &scope{module: &Module{Name: t.Module.Text, Place: source.Place{File: t.Source, Span: t.Module.Span}},
			decls: make(map[string]Declaration, len(t.Decls))}
		r.scopes[t.Module.Text] = s
		for step := range strings.SplitSeq(t.Module.Text, ".") {
			if syntax.IsDevice(step) {
				r.report(s.module.Place, "device-name", fmt.Sprintf("Windows keeps the name %q for a device: no file or "+
					"folder of a module can be called so", step),
					"give the module another name, such as "+strconv.Quote(strings.Replace(t.Module.Text, step, step+"_1", 1)))
			}
		}
	}
	if doc := t.Doc.Text(t.Source); doc != "" {
		if s.module.Doc != "" {
			s.module.Doc += "\n\n"
		}
		s.module.Doc += doc
	}
	s.names = slices.Grow(s.names, len(t.Decls))
	f := &fileScope{bound: make([]Declaration, 0, len(t.Decls)), scope: s, tree: t, uses: map[string]*scope{},
		spent: map[string]bool{}}
	r.files = append(r.files, f)
	for _, d := range t.Decls {
		h := d.Common()
		decl := Decl{Module: s.module, Name: h.Name.Text, Doc: h.Doc.Text(t.Source), Place: f.place(h.Name.Span),
			Deprecated: h.Marks.DeprecatedWhy()}
		if before, taken := s.decls[decl.Name]; taken {
			r.report(decl.Place, "declared-twice", fmt.Sprintf("%q is declared twice in module %q", decl.Name, s.module.Name),
				"rename or remove one of them",
				source.Note{Place: before.Head().Place, Message: "it is " + before.Noun() + " here"})
			f.bound = append(f.bound, nil)
			continue
		}
		var bound Declaration
		switch d := d.(type) {
		case *syntax.Const:
			c := &Const{Decl: decl}
			s.module.Consts = append(s.module.Consts, c)
			bound = c
		case *syntax.TypeDecl:
			nt := &NamedType{Decl: decl, Secret: h.Marks != nil && h.Marks.Secret.Text != ""}
			nt.Type.Named = nt
			s.module.Types = append(s.module.Types, nt)
			bound = nt
		case *syntax.Union:
			u := &Union{Decl: decl}
			u.typ = Type{Kind: KindUnion, Union: u}
			s.module.Unions = append(s.module.Unions, u)
			bound = u
		case *syntax.Example:
			e := &Example{Decl: decl}
			s.module.Examples = append(s.module.Examples, e)
			r.lowerScope(s, decl)
			bound = e
		case *syntax.Credential:
			c := &Credential{Decl: decl, Kind: d.Kind.Text, Carrier: d.Carrier.Text}
			if c.Kind == "key" {
				c.Key = d.Text.Text
			} else {
				c.Format = d.Text.Text
			}
			s.module.Credentials = append(s.module.Credentials, c)
			r.credential(f, d, c)
			r.lowerScope(s, decl)
			bound = c
		case *syntax.Enum:
			e := &Enum{Decl: decl}
			e.typ = Type{Kind: KindEnum, Enum: e}
			s.module.Enums = append(s.module.Enums, e)
			bound = e
		case *syntax.Message:
			m := &Message{Decl: decl, Stored: h.Marks != nil && h.Marks.Stored.Text != ""}
			m.typ = Type{Kind: KindMessage, Message: m}
			m.patch = newPatch(m)
			if d.IsError {
				m.Status = r.status(f, d)
			}
			s.module.Messages = append(s.module.Messages, m)
			bound = m
		case *syntax.Service:
			sv := &Service{Decl: decl}
			s.module.Services = append(s.module.Services, sv)
			bound = sv
		}
		s.decls[decl.Name] = bound
		s.names = append(s.names, decl.Name)
		f.bound = append(f.bound, bound)
	}
}

// lowerScope refuses two examples or credentials that differ only in "_".
func (r *resolver) lowerScope(s *scope, d Decl) {
	if s.lower == nil {
		s.lower = map[string]used{}
	}
	folded := syntax.Fold(d.Name)
	if before, taken := s.lower[folded]; taken {
		r.report(d.Place, "name-twice", fmt.Sprintf("%q and %q differ only in _ or case", before.name, d.Name),
			"rename one of them", source.Note{Place: before.place, Message: "the other is here"})
		return
	}
	s.lower[folded] = used{d.Name, d.Place}
}

func (r *resolver) status(f *fileScope, d *syntax.Message) int {
	if d.Status.Text == "" {
		return 500 // missing, and reported
	}
	n, err := strconv.Atoi(d.Status.Text)
	if err != nil || n < 400 || n > 599 {
		r.report(f.place(d.Status.Span), "error-status",
			fmt.Sprintf("the HTTP status of an error is 400 to 599, not %s", d.Status.Text),
			"409 says that the request conflicts with the state of things, 404 that something is not there")
		return 500
	}
	return n
}

func (r *resolver) moduleNames() []string {
	var names []string
	for name := range r.scopes {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

func (r *resolver) bindUses(f *fileScope) {
	for _, u := range f.tree.Uses {
		target := r.scopes[u.Module.Text]
		switch {
		case target == nil:
			r.report(f.place(u.Module.Span), "no-such-module", fmt.Sprintf("there is no module %q", u.Module.Text),
				r.meant(u.Module.Text, "the modules of this project are: ", r.moduleNames()))
			// Names after this alias must not be reported once more.
			f.uses[u.Alias.Text] = nil
			continue
		case target == f.scope:
			r.findings.Add(source.Finding{Name: "use-itself", Place: f.place(u.Module.Span),
				Message: "a module does not use itself: its names are there anyway", Fix: "remove this line",
				Edits: []source.Edit{f.removeUse(u)}, Sure: true})
			continue
		}
		if before, taken := f.uses[u.Alias.Text]; taken && before != nil {
			what := fmt.Sprintf("the alias %q already means %q", u.Alias.Text, before.module.Name)
			fix := "give one of them another alias: use " + u.Module.Text + " as …"
			finding := source.Finding{Name: "alias-taken", Place: f.place(u.Alias.Span), Message: what, Fix: fix}
			if before == target {
				finding.Message, finding.Fix = fmt.Sprintf("%q is used twice in this file", u.Module.Text), "remove this line"
				finding.Edits, finding.Sure = []source.Edit{f.removeUse(u)}, true
			}
			r.findings.Add(finding)
			continue
		}
		f.uses[u.Alias.Text] = target
	}
}

// removeUse is the edit that takes a use away.
func (f *fileScope) removeUse(u syntax.Use) source.Edit {
	end := max(u.Module.Span.End, u.Alias.Span.End)
	start := u.Module.Span.Start
	for text := f.tree.Source.Text; start > 0 && !strings.HasPrefix(text[start:], "use"); start-- {
	}
	return source.RemoveLine(f.place(source.Span{Start: start, End: end}))
}

// UnusedUse is the name of the advice on a use of which nothing is used.
const UnusedUse = "unused-use"

func (r *resolver) unusedUses() {
	for _, f := range r.files {
		for _, u := range f.tree.Uses {
			if f.uses[u.Alias.Text] != nil && !f.spent[u.Alias.Text] {
				r.findings.Add(source.Finding{Name: UnusedUse, Severity: source.Advice, Place: f.place(u.Module.Span),
					Message: fmt.Sprintf("nothing of %q is used in this file", u.Module.Text), Fix: "remove this line",
					Edits: []source.Edit{f.removeUse(u)}, Sure: true})
			}
		}
	}
}

func (r *resolver) checkUseCycles() {
	type edge struct {
		to    *scope
		place source.Place
	}
	edges := map[*scope][]edge{}
	for _, f := range r.files {
		for _, u := range f.tree.Uses {
			if target := r.scopes[u.Module.Text]; target != nil && target != f.scope {
				edges[f.scope] = append(edges[f.scope], edge{target, f.place(u.Module.Span)})
			}
		}
	}
	state := map[*scope]int{} // 1: open, 2: done
	var chain []*scope
	var visit func(s *scope)
	visit = func(s *scope) {
		state[s] = 1
		chain = append(chain, s)
		for _, e := range edges[s] {
			if state[e.to] == 0 {
				visit(e.to)
			} else if state[e.to] == 1 {
				var names []string
				for _, c := range chain[slices.Index(chain, e.to):] {
					names = append(names, c.module.Name)
				}
				r.report(e.place, "use-cycle", "modules use each other in a circle: "+strings.Join(append(names,
					e.to.module.Name), " → "),
					"move what both need into a module that both use")
			}
		}
		chain = chain[:len(chain)-1]
		state[s] = 2
	}
	for _, name := range r.moduleNames() {
		if s := r.scopes[name]; state[s] == 0 {
			visit(s)
		}
	}
}

// lookup finds a declared name. ok is false when it has been reported, or
// when an earlier mistake makes a report pointless.
func (r *resolver) lookup(f *fileScope, alias, name syntax.Name, what string) (decl Declaration, ok bool) {
	s := f.scope
	if alias.Text != "" {
		target, known := f.uses[alias.Text]
		f.spent[alias.Text] = true
		if known && target == nil {
			return nil, false
		}
		if !known {
			r.unknownAlias(f, alias)
			return nil, false
		}
		s = target
	}
	if d, found := s.decls[name.Text]; found {
		return d, true
	}
	finding := source.Finding{Name: "no-such-name", Place: f.place(name.Span),
		Message: fmt.Sprintf("there is no %s %q in module %q", what, name.Text, s.module.Name)}
	whole := f.place(name.Span)
	if alias.Text != "" {
		whole.Span.Start = alias.Span.Start
	}
	if owner := r.ownerOf(name.Text); owner != nil && alias.Text == "" {
		finding.Fix = r.importFix(f, owner, name.Text)
		finding.Edits, finding.Sure = r.importEdits(f, owner, whole, name.Text)
	} else if scalar := scalarFor(name.Text); scalar != "" && alias.Text == "" && what == "type" {
		finding.Fix = "write " + scalar
		finding.Edits, finding.Sure = []source.Edit{{Place: whole, Text: scalar}}, true
	} else if near := r.nearest(f, s, alias.Text, name.Text); near != "" {
		finding.Fix = source.DidYouMean(near)
		finding.Edits = []source.Edit{{Place: whole, Text: near}}
	}
	r.findings.Add(finding)
	return nil, false
}

// scalarFor is the scalar that a word means which begins with a capital, as in other
// languages, or "".
func scalarFor(word string) string {
	lower := strings.ToLower(word)
	if usual := usualWords[lower]; scalarTypes[usual] != nil {
		return usual
	}
	if scalarTypes[lower] != nil {
		return lower
	}
	return ""
}

func (r *resolver) unknownAlias(f *fileScope, alias syntax.Name) {
	var aliases []string
	for a := range f.uses {
		aliases = append(aliases, a)
	}
	slices.Sort(aliases)
	fix := "write below the module line: use MODULE as " + alias.Text
	if near := r.nearestOf(alias.Text, aliases); near != "" {
		fix = source.DidYouMean(near)
	} else {
		for _, name := range r.moduleNames() {
			if name == alias.Text || strings.HasSuffix(name, "."+alias.Text) {
				fix = "write below the module line: use " + name
			}
		}
	}
	r.report(f.place(alias.Span), "no-such-alias", fmt.Sprintf("this file uses no module as %q", alias.Text), fix)
}

// maxSuggestions bounds how many names are compared in search of the ones that
// were meant: thousands of mistakes among thousands of names take no longer.
const maxSuggestions = 2_000_000

// nearestOf is source.Nearest, as long as there is time for it.
func (r *resolver) nearestOf(word string, candidates []string) string {
	if r.compared += len(candidates); r.compared > maxSuggestions {
		return ""
	}
	return source.Nearest(word, candidates)
}

// nearest finds the closest name in the scope that was asked, then in what
// the file uses.
func (r *resolver) nearest(f *fileScope, s *scope, alias, name string) string {
	if near := r.nearestOf(name, s.names); near != "" {
		if alias != "" {
			return alias + "." + near
		}
		return near
	}
	var aliases []string
	for a := range f.uses {
		aliases = append(aliases, a)
	}
	slices.Sort(aliases)
	for _, a := range aliases {
		if other := f.uses[a]; other != nil && other != s {
			if _, exact := other.decls[name]; exact {
				return a + "." + name
			}
		}
	}
	return ""
}

func (r *resolver) ownerOf(name string) *scope {
	for _, module := range r.moduleNames() {
		if _, found := r.scopes[module].decls[name]; found {
			return r.scopes[module]
		}
	}
	return nil
}

// importEdits are the edits that make a name of another module known here.
// They are certain where one module alone declares the name.
func (r *resolver) importEdits(f *fileScope, owner *scope, whole source.Place, name string) (edits []source.Edit,
	sure bool) {
	owners := 0
	for _, s := range r.scopes {
		if _, found := s.decls[name]; found {
			owners++
		}
	}
	for alias, used := range f.uses {
		if used == owner {
			return []source.Edit{{Place: whole, Text: alias + "." + name}}, owners == 1
		}
	}
	module := owner.module.Name
	alias := module[strings.LastIndexByte(module, '.')+1:]
	if _, taken := f.uses[alias]; taken {
		return nil, false
	}
	at := f.tree.Module.Span.End
	text := "\n\nuse " + module
	if uses := f.tree.Uses; len(uses) > 0 {
		at = max(uses[len(uses)-1].Module.Span.End, uses[len(uses)-1].Alias.Span.End)
		text = "\nuse " + module
	}
	return []source.Edit{{Place: f.place(source.Span{Start: at, End: at}), Text: text},
		{Place: whole, Text: alias + "." + name}}, owners == 1
}

func (r *resolver) importFix(f *fileScope, owner *scope, name string) string {
	for alias, used := range f.uses {
		if used == owner {
			return source.DidYouMean(alias + "." + name)
		}
	}
	module := owner.module.Name
	return fmt.Sprintf("%q is in module %q: write \"use %s\" below the module line, and %s.%s here",
		name, module, module, module[strings.LastIndexByte(module, '.')+1:], name)
}

// constants resolves constants before the fields that use them as defaults.
func (r *resolver) constants(f *fileScope) {
	for i, d := range f.tree.Decls {
		c, ok := d.(*syntax.Const)
		if !ok || f.bound[i] == nil {
			continue
		}
		bound := f.bound[i].(*Const)
		bound.Type = r.typ(f, c.Type)
		switch {
		case bound.Type.Kind == KindInvalid:
		case !bound.Type.Kind.IsScalar() || bound.Type.Kind == KindAny || bound.Type.Named != nil:
			fix := "write one of: " + strings.Join(scalarWords(), ", ")
			if bound.Type.Named != nil && bound.Type.Kind.IsScalar() {
				fix = "write what it is over: " + bound.Type.Kind.String()
			}
			r.report(f.place(c.Type.Span), "not-a-scalar",
				fmt.Sprintf("a constant is a plain scalar, not %s", indefinite(bound.Type.Short())), fix)
			bound.Type = invalidType
		case c.Value.Form == syntax.ConstLiteral:
			r.report(f.place(c.Value.Span), "wrong-type", "the value of a constant is written out", "")
		default:
			bound.Value, _ = r.literal(f, &c.Value, bound.Type, fmt.Sprintf("constant %q", bound.Name))
		}
	}
}

// literal reads a literal as a value of a scalar or enum type; ok is false
// when it has been reported or its type is already known to be wrong.
func (r *resolver) literal(f *fileScope, l *syntax.Literal, t *Type, what string) (value any, ok bool) {
	if t.Kind == KindInvalid || l.Form == syntax.BrokenLiteral {
		return nil, false
	}
	refuse := func(message, fix string) (any, bool) {
		r.report(f.place(l.Span), "wrong-type", message, fix)
		return nil, false
	}
	if l.Form == syntax.ConstLiteral {
		return r.constant(f, l, t, what)
	}
	written := f.tree.Source.Text[l.Span.Start:l.Span.End]
	mismatch := func(expected string) (any, bool) {
		return refuse(fmt.Sprintf("%s is %s, and %s is not", what, t.InWords(f.module), written), expected)
	}
	if t.Kind.IsInteger() {
		if l.Form != syntax.NumberLiteral || strings.ContainsAny(l.Text, ".eE") {
			return mismatch("write a whole number")
		}
		n, ok := ParseInteger(t.Kind, l.Text)
		if !ok {
			low, high := t.Kind.Range()
			return refuse(fmt.Sprintf("%s is %s, %d to %d, and %s is outside", what, t.Kind, low, high, l.Text),
				widerFix(l.Text))
		}
		return n, true
	}
	switch t.Kind {
	case KindBool:
		if l.Form != syntax.BoolLiteral {
			return mismatch("write true or false")
		}
		return l.Text == "true", true
	case KindFloat32, KindFloat64:
		if l.Form != syntax.NumberLiteral {
			return mismatch("write a number")
		}
		x, err := strconv.ParseFloat(l.Text, t.Kind.Bits())
		if err != nil || math.IsInf(x, 0) {
			return refuse(fmt.Sprintf("%s is too large for a %s", l.Text, t.Kind), "write a number that fits")
		}
		if t.Kind == KindFloat32 {
			return float32(x), true
		}
		return x, true
	case KindEnum:
		if l.Form != syntax.WordLiteral && l.Form != syntax.BoolLiteral {
			return mismatch("write the name of a member, without quotes")
		}
		m := t.Enum.ByName(l.Text)
		if m == nil {
			return refuse(fmt.Sprintf("%q has no member %q", t.Enum.Name, l.Text), r.memberFix(t.Enum, l.Text))
		}
		if l.Form == syntax.BoolLiteral {
			return refuse(fmt.Sprintf("a member named %q can't be a default", l.Text), "rename the member")
		}
		return m, true
	case KindText, KindBytes, KindUUID, KindInstant, KindDecimal, KindDate, KindDuration:
		isWhole := t.Kind == KindDecimal && l.Form == syntax.NumberLiteral && !strings.ContainsAny(l.Text, ".eE")
		if l.Form != syntax.TextLiteral && !isWhole {
			r.findings.Add(source.Finding{Name: "wrong-type", Place: f.place(l.Span),
				Message: fmt.Sprintf("%s is %s, and %s is not", what, t.InWords(f.module), written),
				Fix:     "write it in quotes", Edits: []source.Edit{{Place: f.place(l.Span), Text: quote(written)}},
				Sure: l.Form == syntax.NumberLiteral || l.Form == syntax.WordLiteral})
			return nil, false
		}
		v, err := textScalar(t.Kind, l.Text)
		if err != nil {
			return refuse(fmt.Sprintf("%s is %s, and %s is not", what, t.InWords(f.module), written), err.Error())
		}
		return v, true
	case KindAny:
		return refuse(fmt.Sprintf("%s is any, which has no defaults", what), "make it optional with ? instead")
	}
	return refuse(fmt.Sprintf("%s is %s, and defaults are for scalars and enums", what, t.Described()),
		"make it optional with ? instead")
}

// widerFix names the smallest integer type that holds a number.
func widerFix(digits string) string {
	for _, k := range []Kind{KindInt8, KindInt16, KindInt32, KindInt64, KindUint64} {
		if _, ok := ParseInteger(k, digits); ok {
			return "write a number that fits, or take " + k.String()
		}
	}
	return "write a number that fits"
}

func textScalar(k Kind, s string) (any, error) {
	switch k {
	case KindBytes:
		b, err := base64.RawURLEncoding.Strict().DecodeString(s)
		if err != nil {
			return nil, fmt.Errorf("bytes are written as base64url without padding")
		}
		return b, nil
	case KindUUID:
		return ParseUUID(s)
	case KindInstant:
		return ParseInstant(s)
	case KindDecimal:
		return ParseDecimal(s)
	case KindDate:
		return ParseDate(s)
	case KindDuration:
		return ParseDuration(s)
	}
	if !utf8.ValidString(s) {
		return nil, fmt.Errorf("text is UTF-8")
	}
	return s, nil
}

// ParseInteger reads the digits of an integer kind: an int64 for a signed one,
// a uint64 for an unsigned one.
func ParseInteger(k Kind, digits string) (value any, ok bool) {
	if k.IsUnsigned() {
		n, err := strconv.ParseUint(strings.Replace(digits, "-0", "0", 1), 10, k.Bits())
		return n, err == nil
	}
	n, err := strconv.ParseInt(digits, 10, k.Bits())
	return n, err == nil
}

func (r *resolver) memberFix(e *Enum, name string) string {
	return r.meant(name, "its members are: ", names(e.Members, func(m *Member) string { return m.Name }))
}

// meant is the fix of a word that none of names is: the nearest one, or all.
func (r *resolver) meant(word, all string, names []string) string {
	if near := r.nearestOf(word, names); near != "" {
		return source.DidYouMean(near)
	}
	return all + strings.Join(names, ", ")
}

func names[T any](list []T, name func(T) string) []string {
	var out []string
	for _, x := range list {
		out = append(out, name(x))
	}
	return out
}

// namedConst finds the constant that a literal names, with its value.
func (r *resolver) namedConst(f *fileScope, l *syntax.Literal) (*Const, bool) {
	name := syntax.Name{Text: l.Text, Span: l.Span}
	if l.Alias.Text != "" {
		name.Span.Start = l.Span.End - uint32(len(l.Text))
	}
	decl, ok := r.lookup(f, l.Alias, name, "constant")
	if !ok {
		return nil, false
	}
	c, isConst := decl.(*Const)
	if !isConst {
		r.report(f.place(l.Span), "wrong-type", fmt.Sprintf("%q is %s, not a constant", l.Text, decl.Noun()), "")
		return nil, false
	}
	return c, c.Type.Kind != KindInvalid && c.Value != nil
}

func (r *resolver) constant(f *fileScope, l *syntax.Literal, t *Type, what string) (any, bool) {
	c, ok := r.namedConst(f, l)
	if !ok {
		return nil, false
	}
	if c.Type.Kind != t.Kind {
		r.report(f.place(l.Span), "wrong-type", fmt.Sprintf("%s is %s, and the constant %q is %s", what, t.InWords(f.module),
			c.Name, c.Type.Kind), fmt.Sprintf("declare it as: const %s %s, or write the value", c.Name, t.Kind),
			source.Note{Place: c.Place, Message: "the constant is declared here"})
		return nil, false
	}
	return c.Value, true
}

func (r *resolver) enums(f *fileScope) {
	for i, d := range f.tree.Decls {
		if e, ok := d.(*syntax.Enum); ok && f.bound[i] != nil {
			r.enum(f, e, f.bound[i].(*Enum))
		}
	}
}

// contents resolves what messages and unions hold.
func (r *resolver) contents(f *fileScope) {
	for i, d := range f.tree.Decls {
		if f.bound[i] == nil {
			continue
		}
		switch d := d.(type) {
		case *syntax.Message:
			r.message(f, d, f.bound[i].(*Message))
		case *syntax.Union:
			r.union(f, d, f.bound[i].(*Union))
		}
	}
}

// uniqueness watches the numbers and names of one scope.
type uniqueness struct {
	r       *resolver
	f       *fileScope
	what    string // "field" or "member"
	owner   string
	items   []numberedItem
	numbers map[int]source.Place // of large scopes; below, too
	names   map[string]used      // by folded name
	retired []Retired
}

// numberedItem is a number with its place, and the name that stands after it.
type numberedItem struct {
	number int
	place  source.Place
	used
	first bool // no item before has this name
}

// smallScope is how many items are faster looked through than looked up.
const smallScope = 16

// numbered finds where a number is used.
func (u *uniqueness) numbered(number int) (source.Place, bool) {
	if len(u.items) > smallScope {
		place, taken := u.numbers[number]
		return place, taken
	}
	for i := range u.items {
		if u.items[i].number == number {
			return u.items[i].place, true
		}
	}
	return source.Place{}, false
}

// named finds what has a name, "_" and case aside.
func (u *uniqueness) named(name string) (used, bool) {
	if len(u.items) > smallScope {
		x, taken := u.names[syntax.Fold(name)]
		return x, taken
	}
	for i := range u.items {
		if syntax.SameFolded(u.items[i].name, name) {
			return u.items[i].used, true
		}
	}
	return used{}, false
}

// keep adds an item. A scope that grows large is kept in maps from then on.
func (u *uniqueness) keep(number int, place source.Place, name used, first bool) {
	u.items = append(u.items, numberedItem{number, place, name, first})
	fresh := u.items[len(u.items)-1:]
	if len(u.items) == smallScope+1 {
		fresh = u.items
	}
	if len(u.items) <= smallScope {
		return
	}
	for _, x := range fresh {
		u.numbers[x.number] = x.place
		if x.first {
			u.names[syntax.Fold(x.name)] = x.used
		}
	}
}

type used struct {
	name  string
	place source.Place
}

func (r *resolver) unique(f *fileScope, what, owner string, retired []syntax.Retired) (*uniqueness, []Retired) {
	if len(r.numbers) > 0 {
		clear(r.numbers)
		clear(r.names)
	}
	u := &r.scopeWatch
	*u = uniqueness{r: r, f: f, what: what, owner: owner, items: u.items[:0], numbers: r.numbers, names: r.names}
	for _, x := range retired {
		entry := Retired{Number: x.Number.Value, Name: x.Name.Text, Place: f.place(x.Number.Span)}
		if entry.Number < 0 {
			entry.Place = f.place(x.Name.Span)
		}
		for _, before := range u.retired {
			if before.Number == entry.Number && entry.Number >= 0 || entry.Name != "" && before.Name == entry.Name {
				r.report(entry.Place, "retired-twice", fmt.Sprintf("%q retires this twice", owner), "remove one of the two lines",
					source.Note{Place: before.Place, Message: "it is retired here, too"})
				break
			}
		}
		u.retired = append(u.retired, entry)
	}
	return u, u.retired
}

// add checks a number and a name; it returns false when the item is a double that must
// be left out. The number is another one where that was wrong, so that what goes by the
// name is not wrong, too.
func (u *uniqueness) add(number syntax.Number, name syntax.Name, smallest int) (int, bool) {
	ok := true
	place := u.f.place(number.Span)
	if number.Value < 0 {
		ok = false // reported by the parser
	} else if number.Value < smallest {
		u.r.report(place, "number-range", fmt.Sprintf("the numbers of %ss are %d to 65535", u.what, smallest),
			u.freeFix(smallest))
		ok = false
	} else if before, taken := u.numbered(number.Value); taken {
		u.r.report(place, "number-twice", fmt.Sprintf("#%d is used twice in %q", number.Value, u.owner),
			u.freeFix(smallest), source.Note{Place: before, Message: "it is used here first"})
		ok = false
	}
	before, taken := u.named(name.Text)
	if !ok {
		if taken || name.Text == "" {
			return 0, false // a line that was copied is one mistake, not two
		}
		number.Value, ok = u.free(smallest), true
	}
	u.keep(number.Value, place, used{name.Text, u.f.place(name.Span)}, !taken)
	place = u.f.place(name.Span)
	if taken {
		message := fmt.Sprintf("%q has two %ss named %q", u.owner, u.what, name.Text)
		if before.name != name.Text {
			message = fmt.Sprintf("%q and %q differ only in _ or case", before.name, name.Text)
		}
		u.r.report(place, "name-twice", message, "rename one of them",
			source.Note{Place: before.place, Message: "the other is here"})
		ok = false
	}
	for _, x := range u.retired {
		note := source.Note{Place: x.Place, Message: "it is retired here"}
		if x.Number == number.Value && number.Value >= 0 {
			u.r.report(u.f.place(number.Span), "retired-number",
				fmt.Sprintf("#%d is retired: older payloads hold something else under it", number.Value),
				u.freeFix(smallest), note)
		} else if x.Name != "" && syntax.SameFolded(x.Name, name.Text) {
			u.r.report(place, "retired-name", fmt.Sprintf("the name %q is retired: older payloads hold something "+
				"else under it", name.Text), "choose another name", note)
		}
	}
	return number.Value, ok
}

// freeFix proposes a number that is free.
func (u *uniqueness) freeFix(smallest int) string {
	return fmt.Sprintf("write #%d, which is free", u.free(smallest))
}

func (u *uniqueness) free(smallest int) int {
	n := smallest
	for _, taken := range u.items {
		n = max(n, taken.number+1)
	}
	for _, x := range u.retired {
		n = max(n, x.Number+1)
	}
	return n
}

func (r *resolver) enum(f *fileScope, tree *syntax.Enum, e *Enum) {
	u, retired := r.unique(f, "member", e.Name, tree.Retired)
	e.Retired = retired
	for _, m := range tree.Members {
		if number, ok := u.add(m.Number, m.Name, 0); ok {
			e.Members = append(e.Members, &Member{Enum: e, Number: number, Name: m.Name.Text,
				Doc: m.Doc.Text(f.tree.Source), Place: f.place(m.Name.Span), Deprecated: m.Marks.DeprecatedWhy(),
				JSON: r.jsonName(f, m.Marks)})
		}
	}
	jsonNames(r, "member", e.Name, e.Members, func(m *Member) (string, string, source.Place) {
		return m.Name, m.JSONName(), m.Place
	})
	slices.SortFunc(e.Members, func(a, b *Member) int { return a.Number - b.Number })
	if len(tree.Members) == 0 {
		r.report(e.Place, "empty-enum", fmt.Sprintf("%q has no members: no value could be written", e.Name),
			"add one, such as: #0 unassigned")
	}
}

func (r *resolver) message(f *fileScope, tree *syntax.Message, m *Message) {
	u, retired := r.unique(f, "field", m.Name, tree.Retired)
	m.Retired = retired
	slab := make([]Field, len(tree.Fields))
	m.Fields = make([]*Field, 0, len(tree.Fields))
	for i := range tree.Fields {
		t := &tree.Fields[i]
		field := &slab[i]
		*field = Field{Message: m, Number: t.Number.Value, Name: t.Name.Text, Doc: t.Doc.Text(f.tree.Source),
			Place: f.place(t.Name.Span)}
		var ok bool
		if field.Number, ok = u.add(t.Number, t.Name, 1); !ok {
			r.typ(f, t.Type) // its mistakes count all the same
			continue
		}
		field.Type = r.fieldType(f, t)
		if t.Marks != nil {
			r.fieldMarks(f, t.Marks, field)
		}
		var outer *Bounds
		if field.Type.Named != nil {
			outer = field.Type.Named.Bounds
		}
		field.Bounds = r.bounds(f, t.Where, field.Type, outer, strconv.Quote(field.Name))
		switch {
		case t.Optional:
			field.Presence = Optional
		case t.Default != nil:
			field.Presence = Defaulted
			field.Default, _ = r.literal(f, t.Default, field.Type, strconv.Quote(field.Name))
			r.defaultBounds(f.place(t.Default.Span), field, outer)
		}
		m.Fields = append(m.Fields, field)
	}
	jsonNames(r, "field", m.Name, m.Fields, func(f *Field) (string, string, source.Place) {
		return f.Name, f.JSONName(), f.Place
	})
	slices.SortFunc(m.Fields, func(a, b *Field) int { return a.Number - b.Number })
}

// fieldType resolves a field's type, and knows when name and type were
// exchanged.
func (r *resolver) fieldType(f *fileScope, t *syntax.Field) *Type {
	if t.Type != nil && t.Type.Form == syntax.NamedType && t.Type.Alias.Text == "" {
		word := t.Type.Name.Text
		if scalar := scalarTypes[word]; scalar != nil {
			return scalar
		}
		if first := word[0]; first >= 'a' && first <= 'z' && scalarTypes[t.Name.Text] != nil && usualWords[word] == "" &&
			r.nearestOf(word, scalarWords()) == "" {
			span := source.Span{Start: t.Name.Span.Start, End: t.Type.Span.End}
			r.findings.Add(source.Finding{Name: "no-such-name", Place: f.place(t.Type.Span),
				Message: fmt.Sprintf("there is no type %q", word),
				Fix:     fmt.Sprintf("the name comes before the type: %s %s", word, t.Name.Text),
				Edits:   []source.Edit{{Place: f.place(span), Text: word + " " + t.Name.Text}}, Sure: true})
			return invalidType
		}
	}
	return r.typ(f, t.Type)
}

func (r *resolver) fieldMarks(f *fileScope, marks *syntax.Marks, field *Field) {
	field.Deprecated = marks.DeprecatedWhy()
	field.Secret = marks.Secret.Text != ""
	field.JSON = r.jsonName(f, marks)
	if marks.In == nil {
		return
	}
	field.In = &In{Place: marks.In.Place.Text, Name: marks.In.Name.Text}
	if field.Message.IsError() {
		r.report(f.place(marks.In.Span), "misplaced-mark",
			fmt.Sprintf("%q is a field of an error, which has no %s", field.Name, field.In.Place), "remove it here")
		field.In = nil
	}
}

// defaultBounds refuses a default that the field's own bounds refuse.
func (r *resolver) defaultBounds(place source.Place, field *Field, outer *Bounds) {
	if field.Default == nil {
		return
	}
	for _, b := range []*Bounds{field.Bounds, outer} {
		if list := b.Violations(field.Default); len(list) > 0 {
			r.report(place, "default-refused", fmt.Sprintf("the default of %q is refused by its own bounds: it %s", field.Name,
				list[0]), "change one of the two")
			return
		}
	}
}

// jsonName checks the mark json.
func (r *resolver) jsonName(f *fileScope, marks *syntax.Marks) string {
	if marks == nil || marks.JSON.Span.End == 0 {
		return ""
	}
	name := marks.JSON.Text
	why := ""
	switch {
	case name == "":
		why = "is empty"
	case name[0] == '#':
		why = "begins with #, as unlisted numbers do in JSON"
	case isDigits(name):
		why = "is a number, as unlisted members are in JSON"
	}
	if why != "" {
		r.report(f.place(marks.JSON.Span), "json-name", fmt.Sprintf("the name in JSON %s", why), "choose a name with letters")
		return ""
	}
	return name
}

// jsonNames refuses names in JSON that differ only in "_" and case. Declared
// names have been compared already.
func jsonNames[T any](r *resolver, what, owner string, list []T,
	names func(T) (name, json string, place source.Place)) {
	if !slices.ContainsFunc(list, func(x T) bool { name, json, _ := names(x); return name != json }) {
		return
	}
	seen := map[string]used{}
	for _, x := range list {
		name, json, place := names(x)
		folded := syntax.Fold(json)
		if before, taken := seen[folded]; taken {
			r.report(place, "json-name", fmt.Sprintf("%q and %q of %q have names in JSON that differ at most in _ "+
				"and case: %q", before.name, name, owner, json), "give one of them another name in JSON",
				source.Note{Place: before.place, Message: "the other " + what + " is here"})
			continue
		}
		seen[folded] = used{name, place}
	}
}
