package schema

import (
	"cmp"
	"encoding/base64"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

// Load parses and resolves files. The definitions are whole only when no
// finding is an error; findings are sorted by place.
func Load(files []*source.File) (*Definitions, []source.Finding) {
	findings := &source.Findings{}
	trees := make([]*syntax.File, len(files))
	for i, f := range files {
		trees[i] = syntax.Parse(f, findings)
	}
	return Resolve(trees, findings), findings.Sorted()
}

// Resolve turns trees into definitions and adds what is wrong to findings.
// It goes three times over the trees: declarations, so that names can be used
// before they stand; what they hold; and what only the whole shows.
func Resolve(trees []*syntax.File, findings *source.Findings) *Definitions {
	r := &resolver{findings: findings, scopes: map[string]*scope{}, defs: &Definitions{}, numbers: map[int]source.Place{}, names: map[string]used{}}
	for _, t := range trees {
		if t.Module.Text != "" {
			r.declare(t)
		}
	}
	for _, f := range r.files {
		r.bindUses(f)
	}
	r.checkUseCycles()
	for _, f := range r.files {
		r.constants(f)
	}
	for _, f := range r.files {
		r.enums(f) // before messages, since defaults name their members
	}
	for _, f := range r.files {
		r.contents(f)
	}
	r.unusedUses()
	for _, s := range r.scopes {
		r.defs.Modules = append(r.defs.Modules, s.module)
	}
	sortDefinitions(r.defs)
	for _, m := range r.defs.Modules {
		checkClaims(m, findings)
	}
	checkFinite(r.defs, findings)
	return r.defs
}

func sortDefinitions(d *Definitions) {
	slices.SortFunc(d.Modules, func(a, b *Module) int { return strings.Compare(a.Name, b.Name) })
	for _, m := range d.Modules {
		slices.SortFunc(m.Consts, func(a, b *Const) int { return strings.Compare(a.Name, b.Name) })
		slices.SortFunc(m.Enums, func(a, b *Enum) int { return strings.Compare(a.Name, b.Name) })
		slices.SortFunc(m.Messages, func(a, b *Message) int { return strings.Compare(a.Name, b.Name) })
		slices.SortFunc(m.Services, func(a, b *Service) int { return strings.Compare(a.Name, b.Name) })
		for _, s := range m.Services {
			slices.SortFunc(s.Calls, func(a, b *Call) int { return strings.Compare(a.Name, b.Name) })
		}
	}
}

func comparePlaces(a, b source.Place) int {
	return cmp.Or(strings.Compare(a.File.Name, b.File.Name), cmp.Compare(a.Span.Start, b.Span.Start))
}

type resolver struct {
	findings *source.Findings
	scopes   map[string]*scope // by module name
	files    []*fileScope
	defs     *Definitions

	// What the scope that is checked has used, kept to be used again.
	numbers map[int]source.Place
	names   map[string]used
}

// scope is what one module declares: *Const, *Enum, *Message or *Service by
// name.
type scope struct {
	module *Module
	decls  map[string]any
	names  []string // in the order declared, for suggestions
}

// fileScope is what one file sees.
type fileScope struct {
	*scope
	tree  *syntax.File
	uses  map[string]*scope // by alias
	spent map[string]bool   // the aliases that were used
	bound []any             // the resolved declaration of each tree.Decls, nil for a double
}

func (f *fileScope) place(span source.Span) source.Place {
	return source.Place{File: f.tree.Source, Span: span}
}

func (r *resolver) report(place source.Place, name, message, mend string, notes ...source.Note) {
	r.findings.Add(source.Finding{Name: name, Place: place, Message: message, Mend: mend, Notes: notes})
}

func head(decl any) *Decl {
	switch d := decl.(type) {
	case *Const:
		return &d.Decl
	case *Enum:
		return &d.Decl
	case *Message:
		return &d.Decl
	case *Service:
		return &d.Decl
	}
	return nil
}

func kindWord(decl any) string {
	switch d := decl.(type) {
	case *Const:
		return "a constant"
	case *Enum:
		return "an enum"
	case *Message:
		if d.IsError() {
			return "an error"
		}
		return "a message"
	}
	return "a service"
}

func (r *resolver) declare(t *syntax.File) {
	s := r.scopes[t.Module.Text]
	if s == nil {
		s = &scope{module: &Module{Name: t.Module.Text}, decls: map[string]any{}}
		r.scopes[t.Module.Text] = s
	}
	if doc := t.Doc.Text(t.Source); doc != "" {
		if s.module.Doc != "" {
			s.module.Doc += "\n\n"
		}
		s.module.Doc += doc
	}
	f := &fileScope{scope: s, tree: t, uses: map[string]*scope{}, spent: map[string]bool{}}
	r.files = append(r.files, f)
	for _, d := range t.Decls {
		h := d.Common()
		decl := Decl{Module: s.module, Name: h.Name.Text, Doc: h.Doc.Text(t.Source), Place: f.place(h.Name.Span), Deprecated: h.Deprecated.Text}
		if before, taken := s.decls[decl.Name]; taken {
			r.report(decl.Place, "declared-twice", fmt.Sprintf("%s is declared twice in module %s", decl.Name, s.module.Name), "rename or remove one of them",
				source.Note{Place: head(before).Place, Message: "it is " + kindWord(before) + " here"})
			f.bound = append(f.bound, nil)
			continue
		}
		var bound any
		switch d := d.(type) {
		case *syntax.Const:
			c := &Const{Decl: decl}
			s.module.Consts = append(s.module.Consts, c)
			bound = c
		case *syntax.Enum:
			e := &Enum{Decl: decl}
			s.module.Enums = append(s.module.Enums, e)
			bound = e
		case *syntax.Message:
			m := &Message{Decl: decl}
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

func (r *resolver) status(f *fileScope, d *syntax.Message) int {
	if d.Status.Text == "" {
		return 500 // missing, and reported
	}
	n, err := strconv.Atoi(d.Status.Text)
	if err != nil || n < 400 || n > 599 {
		r.report(f.place(d.Status.Span), "error-status", fmt.Sprintf("the HTTP status of an error is 400 to 599, not %s", d.Status.Text),
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
			mend := "the modules of this project are: " + strings.Join(r.moduleNames(), ", ")
			if near := source.Nearest(u.Module.Text, r.moduleNames()); near != "" {
				mend = "did you mean " + near + "?"
			}
			r.report(f.place(u.Module.Span), "unknown-module", "there is no module "+u.Module.Text, mend)
			// Names behind this alias must not be reported once more.
			f.uses[u.Alias.Text] = nil
			continue
		case target == f.scope:
			r.report(f.place(u.Module.Span), "use-itself", "a module does not use itself: its names are there anyway", "remove this line")
			continue
		}
		if before, taken := f.uses[u.Alias.Text]; taken && before != nil {
			what := fmt.Sprintf("the alias %s already stands for %s", u.Alias.Text, before.module.Name)
			mend := "give one of them another alias: use " + u.Module.Text + " as …"
			if before == target {
				what, mend = u.Module.Text+" is used twice in this file", "remove this line"
			}
			r.report(f.place(u.Alias.Span), "alias-taken", what, mend)
			continue
		}
		f.uses[u.Alias.Text] = target
	}
}

// UnusedUse is the name of the advice on a use of which nothing is used.
const UnusedUse = "unused-use"

func (r *resolver) unusedUses() {
	for _, f := range r.files {
		for _, u := range f.tree.Uses {
			if f.uses[u.Alias.Text] != nil && !f.spent[u.Alias.Text] {
				r.findings.Add(source.Finding{Name: UnusedUse, Severity: source.Advice, Place: f.place(u.Module.Span),
					Message: fmt.Sprintf("nothing of %s is used in this file", u.Module.Text), Mend: "remove this line"})
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
				r.report(e.place, "use-cycle", "modules use each other in a circle: "+strings.Join(append(names, e.to.module.Name), " → "),
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
func (r *resolver) lookup(f *fileScope, alias, name syntax.Name, what string) (decl any, ok bool) {
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
	mend := ""
	if near := r.nearest(f, s, alias.Text, name.Text); near != "" {
		mend = "did you mean " + near + "?"
	} else if owner := r.ownerOf(name.Text); owner != nil && alias.Text == "" {
		mend = r.importMend(f, owner, name.Text)
	}
	message := fmt.Sprintf("there is no %s %s in module %s", what, name.Text, s.module.Name)
	r.report(f.place(name.Span), "unknown-name", message, mend)
	return nil, false
}

func (r *resolver) unknownAlias(f *fileScope, alias syntax.Name) {
	var aliases []string
	for a := range f.uses {
		aliases = append(aliases, a)
	}
	slices.Sort(aliases)
	mend := ""
	if near := source.Nearest(alias.Text, aliases); near != "" {
		mend = "did you mean " + near + "?"
	} else {
		for _, name := range r.moduleNames() {
			if name == alias.Text || strings.HasSuffix(name, "."+alias.Text) {
				mend = "write below the module line: use " + name
			}
		}
	}
	r.report(f.place(alias.Span), "unknown-alias", fmt.Sprintf("this file uses no module as %s", alias.Text), mend)
}

// nearest finds the closest name in the scope that was asked, then in what
// the file uses.
func (r *resolver) nearest(f *fileScope, s *scope, alias, name string) string {
	if near := source.Nearest(name, s.names); near != "" {
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

func (r *resolver) importMend(f *fileScope, owner *scope, name string) string {
	module := owner.module.Name
	return fmt.Sprintf("%s is in module %s: write \"use %s\" below the module line, and %s.%s here",
		name, module, module, module[strings.LastIndexByte(module, '.')+1:], name)
}

// usualWords maps what people write by habit to the words of the language.
var usualWords = map[string]string{
	"string": "text", "str": "text", "char": "text", "varchar": "text", "int": "int32", "integer": "int32", "long": "int64", "short": "int16",
	"uint": "uint32", "float": "float64", "double": "float64", "real": "float64", "number": "float64", "boolean": "bool",
	"timestamp": "instant", "datetime": "instant", "time": "instant", "binary": "bytes", "blob": "bytes", "byte": "bytes",
	"guid": "uuid", "list": "[T]", "array": "[T]", "map": "{text: T}", "dict": "{text: T}",
}

var laterScalars = []string{"decimal", "date", "duration", "any"}

// scalarTypes holds one type per scalar, so that types of fields share them.
var scalarTypes = func() map[string]*Type {
	types := map[string]*Type{}
	for _, s := range Scalars {
		types[s.Word] = &Type{Kind: s.Kind}
	}
	return types
}()

var (
	invalidType = &Type{}
	textType    = scalarTypes["text"]
)

func (r *resolver) typ(f *fileScope, t *syntax.Type) *Type {
	if t == nil {
		return invalidType
	}
	switch t.Form {
	case syntax.ListType:
		return &Type{Kind: KindList, Elem: r.typ(f, t.Elem)}
	case syntax.MapType:
		key := r.typ(f, t.Key)
		if key.Kind != KindText && key.Kind != KindInvalid {
			r.report(f.place(t.Key.Span), "map-key", fmt.Sprintf("the keys of a map are text, not %s", key.Local(f.module)), "write {text: …}, or a list of a message with two fields")
		}
		return &Type{Kind: KindMap, Key: textType, Elem: r.typ(f, t.Elem)}
	}
	if t.Alias.Text == "" {
		if scalar := scalarTypes[t.Name.Text]; scalar != nil {
			return scalar
		}
		if first := t.Name.Text[0]; first >= 'a' && first <= 'z' {
			r.unknownScalar(f, t.Name)
			return invalidType
		}
	}
	decl, ok := r.lookup(f, t.Alias, t.Name, "type")
	if !ok {
		return invalidType
	}
	switch d := decl.(type) {
	case *Enum:
		return &Type{Kind: KindEnum, Enum: d}
	case *Message:
		if !d.IsError() {
			return &Type{Kind: KindMessage, Message: d}
		}
		r.report(f.place(t.Name.Span), "not-a-type", t.Name.Text+" is an error; errors stand after fails only", "put what both need into a message",
			source.Note{Place: d.Place, Message: "it is declared here"})
	default:
		r.report(f.place(t.Name.Span), "not-a-type", fmt.Sprintf("%s is %s, not a type", t.Name.Text, kindWord(decl)), "",
			source.Note{Place: head(decl).Place, Message: "it is declared here"})
	}
	return invalidType
}

func (r *resolver) unknownScalar(f *fileScope, name syntax.Name) {
	if slices.Contains(laterScalars, name.Text) {
		r.report(f.place(name.Span), "not-yet", fmt.Sprintf("%q belongs to the language, but this version of faithful does not read it yet", name.Text), "")
		return
	}
	mend := "the scalars are: " + strings.Join(scalarWords(), ", ")
	if usual, ok := usualWords[strings.ToLower(name.Text)]; ok {
		mend = "write " + usual
	} else if near := source.Nearest(name.Text, append(scalarWords(), f.names...)); near != "" {
		mend = "did you mean " + near + "?"
	}
	r.report(f.place(name.Span), "unknown-name", "there is no type "+name.Text, mend)
}

func scalarWords() []string {
	var words []string
	for _, s := range Scalars {
		words = append(words, s.Word)
	}
	return words
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
		case bound.Type.Kind > KindInstant:
			r.report(f.place(c.Type.Span), "not-a-scalar", fmt.Sprintf("a constant is a scalar, not %s", describe(bound.Type)), "")
			bound.Type = invalidType
		case c.Value.Form == syntax.ConstLiteral:
			r.report(f.place(c.Value.Span), "wrong-type", "the value of a constant is written out", "")
		default:
			bound.Value, _ = r.literal(f, &c.Value, bound.Type, "constant "+bound.Name)
		}
	}
}

func describe(t *Type) string {
	switch t.Kind {
	case KindList:
		return "a list"
	case KindMap:
		return "a map"
	case KindEnum:
		return "an enum"
	case KindMessage:
		return "a message"
	}
	return t.Kind.String()
}

// literal reads a literal as a value of a scalar or enum type; ok is false
// when it has been reported or its type is already known to be wrong.
func (r *resolver) literal(f *fileScope, l *syntax.Literal, t *Type, what string) (value any, ok bool) {
	if t.Kind == KindInvalid {
		return nil, false
	}
	refuse := func(message, mend string) (any, bool) {
		r.report(f.place(l.Span), "wrong-type", message, mend)
		return nil, false
	}
	if l.Form == syntax.ConstLiteral {
		return r.constant(f, l, t, what)
	}
	written := f.tree.Source.Text[l.Span.Start:l.Span.End]
	mismatch := func(expected string) (any, bool) {
		return refuse(fmt.Sprintf("%s is %s, and %s is not", what, t.Local(f.module), written), expected)
	}
	if t.Kind.IsInteger() {
		if l.Form != syntax.NumberLiteral || strings.ContainsAny(l.Text, ".eE") {
			return mismatch("write a whole number")
		}
		n, ok := ParseInteger(t.Kind, l.Text)
		if !ok {
			low, high := t.Kind.Range()
			return refuse(fmt.Sprintf("%s is %s, %d to %d, and %s lies outside", what, t.Kind, low, high, l.Text), "")
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
			return refuse(fmt.Sprintf("%s is too large for a %s", l.Text, t.Kind), "")
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
			return refuse(fmt.Sprintf("%s has no member %s", t.Enum.Name, l.Text), memberMend(t.Enum, l.Text))
		}
		if l.Form == syntax.BoolLiteral {
			return refuse(fmt.Sprintf("a member named %s can't be a default", l.Text), "rename the member")
		}
		return m, true
	case KindText, KindBytes, KindUUID, KindInstant:
		if l.Form != syntax.TextLiteral {
			return mismatch("write it in quotes")
		}
		v, err := textScalar(t.Kind, l.Text)
		if err != nil {
			return refuse(fmt.Sprintf("%s is %s: %s", what, t.Kind, err), "")
		}
		return v, true
	}
	return refuse(fmt.Sprintf("%s is %s, and defaults are for scalars and enums", what, describe(t)), "make it optional with ? instead")
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

func memberMend(e *Enum, name string) string {
	var names []string
	for _, m := range e.Members {
		names = append(names, m.Name)
	}
	if near := source.Nearest(name, names); near != "" {
		return "did you mean " + near + "?"
	}
	return "its members are: " + strings.Join(names, ", ")
}

func (r *resolver) constant(f *fileScope, l *syntax.Literal, t *Type, what string) (any, bool) {
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
		r.report(f.place(l.Span), "wrong-type", fmt.Sprintf("%s is %s, not a constant", l.Text, kindWord(decl)), "")
		return nil, false
	}
	if c.Type.Kind == KindInvalid || c.Value == nil {
		return nil, false
	}
	if c.Type.Kind != t.Kind {
		r.report(f.place(l.Span), "wrong-type", fmt.Sprintf("%s is %s, and the constant %s is %s", what, t.Local(f.module), c.Name, c.Type.Kind), "",
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

// contents resolves what messages and services hold.
func (r *resolver) contents(f *fileScope) {
	for i, d := range f.tree.Decls {
		if f.bound[i] == nil {
			continue
		}
		switch d := d.(type) {
		case *syntax.Message:
			r.message(f, d, f.bound[i].(*Message))
		case *syntax.Service:
			r.service(f, d, f.bound[i].(*Service))
		}
	}
}

// uniqueness watches the numbers and names of one scope.
type uniqueness struct {
	r       *resolver
	f       *fileScope
	what    string // "field" or "member"
	owner   string
	numbers map[int]source.Place
	names   map[string]used // by folded name
	retired []Retired
}

type used struct {
	name  string
	place source.Place
}

func (r *resolver) unique(f *fileScope, what, owner string, retired []syntax.Retired) (*uniqueness, []Retired) {
	clear(r.numbers)
	clear(r.names)
	u := &uniqueness{r: r, f: f, what: what, owner: owner, numbers: r.numbers, names: r.names}
	for _, x := range retired {
		entry := Retired{Number: x.Number.Value, Name: x.Name.Text, Place: f.place(x.Number.Span)}
		if entry.Number < 0 {
			entry.Place = f.place(x.Name.Span)
		}
		for _, before := range u.retired {
			if before.Number == entry.Number && entry.Number >= 0 || entry.Name != "" && before.Name == entry.Name {
				r.report(entry.Place, "retired-twice", fmt.Sprintf("%s retires this twice", owner), "remove one of the two lines", source.Note{Place: before.Place, Message: "it is retired here, too"})
				break
			}
		}
		u.retired = append(u.retired, entry)
	}
	return u, u.retired
}

// add checks a number and a name; it returns false when the item is a double
// that must be left out.
func (u *uniqueness) add(number syntax.Number, name syntax.Name, smallest int) bool {
	ok := true
	place := u.f.place(number.Span)
	if number.Value < 0 {
		ok = false // reported by the parser
	} else if number.Value < smallest {
		u.r.report(place, "number-range", fmt.Sprintf("the numbers of %ss are %d to 65535", u.what, smallest), fmt.Sprintf("%d is free", u.free(smallest)))
		ok = false
	} else if before, taken := u.numbers[number.Value]; taken {
		u.r.report(place, "number-twice", fmt.Sprintf("#%d is used twice in %s", number.Value, u.owner), fmt.Sprintf("#%d is free", u.free(smallest)),
			source.Note{Place: before, Message: "it is used here first"})
		ok = false
	} else {
		u.numbers[number.Value] = place
	}
	if !ok {
		return false // a line that was copied is one mistake, not two
	}
	place = u.f.place(name.Span)
	if before, taken := u.names[syntax.Fold(name.Text)]; taken {
		message := fmt.Sprintf("%s has two %ss named %s", u.owner, u.what, name.Text)
		if before.name != name.Text {
			message = fmt.Sprintf("%s and %s differ only in _ or case", before.name, name.Text)
		}
		u.r.report(place, "name-twice", message, "rename one of them", source.Note{Place: before.place, Message: "the other is here"})
		ok = false
	} else {
		u.names[syntax.Fold(name.Text)] = used{name.Text, place}
	}
	for _, x := range u.retired {
		note := source.Note{Place: x.Place, Message: "it is retired here"}
		if x.Number == number.Value && number.Value >= 0 {
			u.r.report(u.f.place(number.Span), "retired-number", fmt.Sprintf("#%d is retired: older payloads hold something else under it", number.Value), fmt.Sprintf("#%d is free", u.free(smallest)), note)
		} else if x.Name != "" && syntax.Fold(x.Name) == syntax.Fold(name.Text) {
			u.r.report(place, "retired-name", fmt.Sprintf("the name %s is retired: older payloads hold something else under it", name.Text), "choose another name", note)
		}
	}
	return ok
}

func (u *uniqueness) free(smallest int) int {
	n := smallest
	for taken := range u.numbers {
		n = max(n, taken+1)
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
		if u.add(m.Number, m.Name, 0) {
			e.Members = append(e.Members, &Member{Enum: e, Number: m.Number.Value, Name: m.Name.Text, Doc: m.Doc.Text(f.tree.Source), Place: f.place(m.Name.Span), Deprecated: m.Deprecated.Text})
		}
	}
	slices.SortFunc(e.Members, func(a, b *Member) int { return a.Number - b.Number })
	if len(tree.Members) == 0 {
		r.report(e.Place, "empty-enum", fmt.Sprintf("%s has no members: no value could be written", e.Name), "add one, such as: #0 unassigned")
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
		*field = Field{Message: m, Number: t.Number.Value, Name: t.Name.Text, Doc: t.Doc.Text(f.tree.Source), Place: f.place(t.Name.Span), Deprecated: t.Deprecated.Text}
		if !u.add(t.Number, t.Name, 1) {
			r.typ(f, t.Type) // its mistakes count all the same
			continue
		}
		field.Type = r.typ(f, t.Type)
		switch {
		case t.Optional:
			field.Presence = Optional
		case t.Default != nil:
			field.Presence = Defaulted
			field.Default, _ = r.literal(f, t.Default, field.Type, field.Name)
		}
		m.Fields = append(m.Fields, field)
	}
	slices.SortFunc(m.Fields, func(a, b *Field) int { return a.Number - b.Number })
}

func (r *resolver) service(f *fileScope, tree *syntax.Service, s *Service) {
	common := r.errors(f, tree.Fails)
	names := map[string]used{}
	for i := range tree.Calls {
		t := &tree.Calls[i]
		c := &Call{Service: s, Name: t.Name.Text, Doc: t.Doc.Text(f.tree.Source), Place: f.place(t.Name.Span), Safe: t.Safe, Deprecated: t.Deprecated.Text}
		if before, taken := names[syntax.Fold(c.Name)]; taken {
			r.report(c.Place, "name-twice", fmt.Sprintf("%s has two calls named %s", s.Name, c.Name), "rename one of them", source.Note{Place: before.place, Message: "the other is here"})
			continue
		}
		names[syntax.Fold(c.Name)] = used{c.Name, c.Place}
		c.Request = r.side(f, t.Request)
		c.Response = r.side(f, t.Response)
		c.Fails = r.errors(f, t.Fails)
		for _, e := range common {
			if !slices.Contains(c.Fails, e) {
				c.Fails = append(c.Fails, e)
			}
		}
		slices.SortFunc(c.Fails, func(a, b *Message) int { return strings.Compare(a.FullName(), b.FullName()) })
		s.Calls = append(s.Calls, c)
	}
}

func (r *resolver) side(f *fileScope, ref *syntax.Ref) *Message {
	if ref == nil {
		return nil
	}
	if ref.Alias.Text == "" && scalarTypes[ref.Name.Text] != nil {
		r.report(f.place(ref.Name.Span), "not-a-message", fmt.Sprintf("requests and answers are messages, not %s", ref.Name.Text),
			"declare a message with one field, so that more can be added later; write () for nothing")
		return nil
	}
	decl, ok := r.lookup(f, ref.Alias, ref.Name, "message")
	if !ok {
		return nil
	}
	if m, isMessage := decl.(*Message); isMessage && !m.IsError() {
		return m
	}
	r.report(f.place(ref.Name.Span), "not-a-message", fmt.Sprintf("requests and answers are messages, and %s is %s", ref.Name.Text, kindWord(decl)), "",
		source.Note{Place: head(decl).Place, Message: "it is declared here"})
	return nil
}

func (r *resolver) errors(f *fileScope, refs []syntax.Ref) []*Message {
	var list []*Message
	for _, ref := range refs {
		decl, ok := r.lookup(f, ref.Alias, ref.Name, "error")
		if !ok {
			continue
		}
		m, isMessage := decl.(*Message)
		switch {
		case !isMessage || !m.IsError():
			r.report(f.place(ref.Name.Span), "not-an-error", fmt.Sprintf("a call fails with errors, and %s is %s", ref.Name.Text, kindWord(decl)),
				"declare it as: error "+ref.Name.Text+" 409 { … }", source.Note{Place: head(decl).Place, Message: "it is declared here"})
		case slices.Contains(list, m):
			r.report(f.place(ref.Name.Span), "fails-twice", ref.Name.Text+" is named twice here", "remove one")
		default:
			list = append(list, m)
		}
	}
	return list
}
