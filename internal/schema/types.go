package schema

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/source"
	"faithfulcourier/internal/syntax"
)

// usualWords maps what people write by habit to the words of the language.
var usualWords = map[string]string{
	"string": "text", "str": "text", "char": "text", "varchar": "text", "int": "int32", "integer": "int32",
	"long": "int64", "short": "int16",
	"uint": "uint32", "float": "float64", "double": "float64", "real": "float64", "number": "float64", "boolean": "bool",
	"timestamp": "instant", "datetime": "instant", "time": "instant", "binary": "bytes", "blob": "bytes", "byte": "bytes",
	"guid": "uuid", "list": "[T]", "array": "[T]", "map": "{text: T}", "dict": "{text: T}",
}

// scalarTypes holds one type per scalar, so that types of fields share them.
var scalarTypes = func() map[string]*Type {
	types := map[string]*Type{}
	for _, s := range Scalars {
		types[s.Word] = &Type{Kind: s.Kind}
	}
	return types
}()

var invalidType = &Type{}

func (r *resolver) typ(f *fileScope, t *syntax.Type) *Type {
	if t == nil {
		return invalidType
	}
	switch t.Form {
	case syntax.ListType:
		return &Type{Kind: KindList, Elem: r.typ(f, t.Elem)}
	case syntax.MapType:
		key := r.typ(f, t.Key)
		if k := key.Kind; k != KindInvalid && k != KindText && !k.IsInteger() && k != KindEnum {
			r.report(f.place(t.Key.Span), "map-key", fmt.Sprintf("the keys of a map are text, integers or an enum, not %s",
				key.InWords(f.module)), "write {text: …}, or a list of a message with two fields")
			key = invalidType
		}
		return &Type{Kind: KindMap, Key: key, Elem: r.typ(f, t.Elem)}
	}
	if t.Form == syntax.PatchType {
		return r.patch(f, t)
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
	case *NamedType:
		return &d.Type
	case *Enum:
		return &d.typ
	case *Union:
		return &d.typ
	case *Message:
		if !d.IsError() {
			return &d.typ
		}
		r.report(f.place(t.Name.Span), "not-a-type",
			fmt.Sprintf("%q is an error; errors appear after \"fails\" only", t.Name.Text),
			"put what both need into a message",
			source.Note{Place: d.Place, Message: "it is declared here"})
	default:
		r.report(f.place(t.Name.Span), "not-a-type", fmt.Sprintf("%q is %s, not a type", t.Name.Text, decl.Noun()), "",
			source.Note{Place: decl.Head().Place, Message: "it is declared here"})
	}
	return invalidType
}

func (r *resolver) unknownScalar(f *fileScope, name syntax.Name) {
	finding := source.Finding{Name: "no-such-name", Place: f.place(name.Span),
		Message: fmt.Sprintf("there is no type %q", name.Text),
		Fix:     "the scalars are: " + strings.Join(scalarWords(), ", ")}
	better := ""
	if usual, ok := usualWords[strings.ToLower(name.Text)]; ok {
		better = usual
		finding.Fix = "write " + usual
		finding.Sure = scalarTypes[usual] != nil
	} else if near := cmp.Or(r.nearestOf(name.Text, scalarWords()), r.nearestOf(name.Text, f.names)); near != "" {
		better = near
		finding.Fix = source.DidYouMean(near)
	}
	if better != "" && !strings.Contains(better, "T") {
		finding.Edits = []source.Edit{{Place: finding.Place, Text: better}}
	}
	r.findings.Add(finding)
}

func scalarWords() []string {
	var words []string
	for _, s := range Scalars {
		words = append(words, s.Word)
	}
	return words
}

// Described names what a type is, for a sentence: "int32", "a list", "an enum".
func (t *Type) Described() string {
	if t.Kind.IsScalar() {
		return t.Kind.String()
	}
	if t.Kind == KindMessage && t.Message.IsPatch() {
		return "a patch"
	}
	return indefinite(t.Kind.String())
}

// indefinite puts an article before a kind that takes one.
func indefinite(noun string) string {
	switch noun {
	case "list", "map", "union", "message":
		return "a " + noun
	case "enum":
		return "an enum"
	}
	return noun
}

// scalarTypes resolves named types over scalars, so that others may have them
// as keys.
func (r *resolver) scalarTypes(f *fileScope) {
	r.namedTypes(f, func(t *syntax.Type) bool {
		return t.Form == syntax.NamedType && t.Alias.Text == "" && scalarTypes[t.Name.Text] != nil
	})
}

func (r *resolver) otherTypes(f *fileScope) {
	r.namedTypes(f, func(t *syntax.Type) bool {
		return t.Form != syntax.NamedType || t.Alias.Text != "" || scalarTypes[t.Name.Text] == nil
	})
}

func (r *resolver) namedTypes(f *fileScope, wanted func(*syntax.Type) bool) {
	for i, d := range f.tree.Decls {
		tree, ok := d.(*syntax.TypeDecl)
		if !ok || f.bound[i] == nil || tree.Base == nil || !wanted(tree.Base) {
			continue
		}
		nt := f.bound[i].(*NamedType)
		base := r.typ(f, tree.Base)
		switch {
		case base.Named != nil:
			r.report(f.place(tree.Base.Span), "type-over-type",
				fmt.Sprintf("%q is straight over %q, which is a named type already", nt.Name, base.Named.Name),
				fmt.Sprintf("write what %q is over", base.Named.Name),
				source.Note{Place: base.Named.Place, Message: "it is declared here"})
			base = invalidType
		case base.Kind == KindEnum || base.Kind == KindUnion || base.Kind == KindMessage:
			r.report(f.place(tree.Base.Span), "type-over-type",
				fmt.Sprintf("a type is over a scalar, a list or a map, not over %s", base.Described()),
				fmt.Sprintf("use %q itself", base.Short()))
			base = invalidType
		}
		nt.Type = *base
		nt.Type.Named = nt
	}
}

// typeBounds resolves the bounds of named types, which constants may be in.
func (r *resolver) typeBounds(f *fileScope) {
	for i, d := range f.tree.Decls {
		if tree, ok := d.(*syntax.TypeDecl); ok && f.bound[i] != nil {
			nt := f.bound[i].(*NamedType)
			nt.Bounds = r.bounds(f, tree.Where, &nt.Type, nil, strconv.Quote(nt.Name))
		}
	}
}

func (r *resolver) union(f *fileScope, tree *syntax.Union, u *Union) {
	unique, retired := r.unique(f, "alternative", u.Name, tree.Retired)
	u.Retired = retired
	for i := range tree.Alternatives {
		t := &tree.Alternatives[i]
		number, ok := unique.add(t.Number, t.Name, 1)
		if !ok {
			r.typ(f, t.Type)
			continue
		}
		u.Alternatives = append(u.Alternatives, &Alternative{Union: u, Number: number, Name: t.Name.Text,
			Type: r.typ(f, t.Type), Doc: t.Doc.Text(f.tree.Source),
			Place: f.place(t.Name.Span), Deprecated: t.Marks.DeprecatedWhy(), JSON: r.jsonName(f, t.Marks)})
	}
	jsonNames(r, "alternative", u.Name, u.Alternatives,
		func(a *Alternative) (string, string, source.Place) { return a.Name, a.JSONName(), a.Place })
	slices.SortFunc(u.Alternatives, func(a, b *Alternative) int { return a.Number - b.Number })
	if len(tree.Alternatives) == 0 {
		r.report(u.Place, "empty-union", fmt.Sprintf("%q has no alternatives: no value could be written", u.Name),
			"add one, such as: #1 foot FootPassage")
	}
}

// breakTypeCircles refuses named types that are made of themselves, without a message or union in between: not every
// language can say that. They are invalid then, so that whoever walks through types comes to an end.
func (r *resolver) breakTypeCircles() {
	var types []*NamedType
	for _, s := range r.scopes {
		types = append(types, s.module.Types...)
	}
	slices.SortFunc(types, func(a, b *NamedType) int { return strings.Compare(a.FullName(), b.FullName()) })
	const (
		open = iota + 1
		done
	)
	state := map[*NamedType]int{}
	var visit func(t *NamedType)
	var through func(t *Type, from *NamedType)
	through = func(t *Type, from *NamedType) {
		switch {
		case t == nil:
		case t.Named != nil && state[t.Named] == open:
			r.report(from.Place, "type-circle", fmt.Sprintf("%q is made of itself", t.Named.Name),
				"put a message in between, with a field of this type")
			from.Type = *invalidType
			from.Type.Named = from
		case t.Named != nil:
			if state[t.Named] == 0 {
				visit(t.Named)
			}
		default:
			through(t.Elem, from)
		}
	}
	visit = func(t *NamedType) {
		state[t] = open
		through(t.Type.Elem, t)
		state[t] = done
	}
	for _, t := range types {
		if state[t] == 0 {
			visit(t)
		}
	}
}
