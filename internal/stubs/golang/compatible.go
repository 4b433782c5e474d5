package golang

import (
	"fmt"
	"strconv"
	"strings"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// Compatible is what changes do to programs in the documented style, as Go compiles them.
func (Language) Compatible() stubs.CodeRules {
	return stubs.CodeRules{Fails: "no longer compiles", Users: userRules, Callers: callerRules,
		Implementers: implementerRules}
}

// userRules are those for users of types.
var userRules = map[change.Kind]stubs.CodeRule{
	change.CredentialRenamed: stubs.CredentialMoved,
	change.CredentialMoved:   stubs.CredentialMoved,
	change.TypeGone:          stubs.Always(useLines),
	change.TypeChanged:       baseRule,
	change.UnionGone:         stubs.Always(useLines),
	change.AlternativeGone:   stubs.Always(alternativeLines),
	change.AlternativeRenamed: stubs.When(func(f *change.Change) bool {
		return AlternativeName(f.Alternative.Old) != AlternativeName(f.Alternative.New)
	}, alternativeLines),
	change.AlternativeType: func(f *change.Change) (verdict.Verdict, []string, string) {
		o, n := f.Alternative.Old, f.Alternative.New
		if sameType(o.Type, n.Type) {
			return verdict.Compatible, nil, ""
		}
		return verdict.Breaking, append(alternativeLines(f), fmt.Sprintf("var v %s = m.Value", TypeName(o.Type)),
			fmt.Sprintf("// m.Value is %s now", TypeName(n.Type))), ""
	},
	change.ModuleGone:   stubs.Always(useLines),
	change.MessageGone:  stubs.Always(useLines),
	change.ErrorGone:    stubs.Always(useLines),
	change.EnumGone:     stubs.Always(useLines),
	change.ConstGone:    stubs.Always(useLines),
	change.ConstChanged: constRule,
	change.FieldAdded:   fieldAddedRule,
	change.FieldGone:    stubs.Always(fieldLines),
	change.FieldRenamed: stubs.When(fieldRenamed, fieldLines),
	change.FieldType:    fieldTypeRule,
	change.FieldPlace: stubs.RawMoved(func(f *change.Change) []string {
		return typedLines(f.Field.Old, f.Field.New)
	}),
	change.FieldPresence: presenceRule,
	change.FieldDefault:  stubs.DefaultMoved,
	change.MemberGone:    stubs.Always(memberLines),
	change.MemberRenamed: stubs.When(memberRenamed, memberLines),
}

// callerRules are those for who calls.
var callerRules = map[change.Kind]stubs.CodeRule{
	change.ServiceGone: stubs.Always(useLines),
	change.CallGone:    stubs.Always(callLines),
	change.CallMoved:   stubs.Always(callLines),
	change.CallStream:  stubs.Always(callLines),
	change.CallRequest: stubs.Always(callLines),
	change.CallHead:    stubs.Always(callLines),
	change.CallAnswer:  stubs.Always(callLines),
	change.CallRenamed: stubs.When(func(c *change.Change) bool { return CallName(c.Call.Old) != CallName(c.Call.New) },
		callLines),
}

// implementerRules are those for who implements services.
var implementerRules = map[change.Kind]stubs.CodeRule{
	change.ServiceGone: stubs.Always(func(f *change.Change) []string {
		s := f.OldDecl.(*schema.Service)
		return []string{fmt.Sprintf("_ = %s.Serve%s", PackageName(s.Module), s.Name)}
	}),
	change.CallGone:    stubs.Always(serveLines),
	change.CallMoved:   stubs.Always(serveLines),
	change.CallStream:  stubs.Always(serveLines),
	change.CallRequest: stubs.Always(serveLines),
	change.CallHead:    stubs.Always(serveLines),
	change.CallAnswer:  stubs.Always(serveLines),
	change.CallRenamed: stubs.When(func(c *change.Change) bool { return CallName(c.Call.Old) != CallName(c.Call.New) },
		serveLines),
}

func qualified(d *schema.Decl) string { return PackageName(d.Module) + "." + d.Name }

func useLines(f *change.Change) []string {
	if f.Modules.Old != nil {
		return []string{fmt.Sprintf("import _ \".../%s\"", Folder(f.Modules.Old))}
	}
	switch d := f.OldDecl.(type) {
	case *schema.Message:
		return []string{fmt.Sprintf("var _ %s", qualified(&d.Decl))}
	case *schema.Enum:
		return []string{fmt.Sprintf("var _ %s", qualified(&d.Decl))}
	case *schema.NamedType:
		return []string{fmt.Sprintf("var _ %s", qualified(&d.Decl))}
	case *schema.Union:
		return []string{fmt.Sprintf("var _ %s", qualified(&d.Decl))}
	case *schema.Const:
		return []string{fmt.Sprintf("_ = %s.%s", PackageName(d.Module), ConstName(d))}
	case *schema.Service:
		return []string{fmt.Sprintf("_ = %s.New%sClient", PackageName(d.Module), d.Name)}
	}
	return nil
}

// baseRule judges what a named type is over: code converts to it and from it, which
// between numbers goes on, and writes literals, which must fit.
func baseRule(f *change.Change) (verdict.Verdict, []string, string) {
	o, n := f.OldDecl.(*schema.NamedType), f.NewDecl.(*schema.NamedType)
	if sameType(o.Bare(), n.Bare()) {
		return verdict.Compatible, nil, ""
	}
	new := TypeName(n.Bare())
	if literal := lostLiteral(o.Type.Kind, n.Type.Kind); literal != "" {
		return verdict.Breaking, []string{fmt.Sprintf("var _ %s = %s", qualified(&o.Decl), literal),
			fmt.Sprintf("// %s is over %s now", o.Name, new)}, ""
	}
	if isNumber(o.Type.Kind) && isNumber(n.Type.Kind) {
		return verdict.Altering, nil, fmt.Sprintf("code that converts compiles, and a %s is over %s now", o.Name, new)
	}
	old := TypeName(o.Bare())
	return verdict.Breaking, []string{
		fmt.Sprintf("var v %s", old),
		fmt.Sprintf("var m %s = %s(v)", qualified(&o.Decl), qualified(&o.Decl)),
		fmt.Sprintf("v = %s(m)", parenthesised(old)),
		fmt.Sprintf("// %s is over %s now", o.Name, new),
	}, ""
}

func isNumber(k schema.Kind) bool {
	return k.IsInteger() || k == schema.KindFloat32 || k == schema.KindFloat64
}

// lostLiteral is a literal of one kind that is none of another, or "".
func lostLiteral(o, n schema.Kind) string {
	switch {
	case o == schema.KindText && n != o:
		return `"a"`
	case o == schema.KindBytes && n != o:
		return "[]byte{}"
	case !isNumber(o) || !isNumber(n):
		return ""
	case !o.IsInteger() && n.IsInteger():
		return "0.5"
	case o == schema.KindFloat64 && n == schema.KindFloat32:
		return "1e300"
	case !o.IsInteger() || !n.IsInteger():
		return ""
	}
	low, high := o.Range()
	least, most := n.Range()
	switch {
	case high > most:
		return strconv.FormatUint(high, 10)
	case low < least:
		return strconv.FormatInt(low, 10)
	}
	return ""
}

// sameType tells whether a value of either type may stand where the other one is asked for:
// they are one type, as those are that an alias names; or only one of them is defined,
// over what the other one is.
func sameType(o, n *schema.Type) bool {
	a, b := Shape(o), Shape(n)
	if a == b {
		return true
	}
	composite := o.Kind == schema.KindList || o.Kind == schema.KindMap || o.Kind == schema.KindBytes
	return composite && o.Kind == n.Kind && (o.Named == nil) != (n.Named == nil) && Shape(o.Bare()) == Shape(n.Bare())
}

// sameFieldType is sameType for fields, some of which are pointers.
func sameFieldType(o, n *schema.Field) bool {
	pointer := func(f *schema.Field) bool { return strings.HasPrefix(FieldTypeName(f), "*") }
	if pointer(o) || pointer(n) {
		return pointer(o) == pointer(n) && Shape(o.Type) == Shape(n.Type)
	}
	return sameType(o.Type, n.Type)
}

// parenthesised is a type as a conversion has it.
func parenthesised(t string) string { return "(" + t + ")" }

func alternativeLines(f *change.Change) []string {
	a := f.Alternative.Old
	return []string{fmt.Sprintf("var m %s.%s", PackageName(a.Union.Module), AlternativeName(a))}
}

func constRule(f *change.Change) (verdict.Verdict, []string, string) {
	o, n := f.OldDecl.(*schema.Const), f.NewDecl.(*schema.Const)
	if o.Type.Kind == n.Type.Kind {
		return verdict.Altering, nil, "code compiles, and has another value"
	}
	return verdict.Breaking, []string{fmt.Sprintf("var v %s = %s.%s", TypeName(o.Type), PackageName(o.Module),
		ConstName(o))}, ""
}

func fieldAddedRule(f *change.Change) (verdict.Verdict, []string, string) {
	n := f.Field.New
	switch {
	case stubs.RawAdded(f):
		return verdict.Breaking, []string{fmt.Sprintf("var m %s", qualified(&n.Message.Decl)),
			"_, _ = m.MarshalJSON()", fmt.Sprintf("// m.%s is a body that is sent as it is", FieldName(n))}, ""
	case n.Presence != schema.Required:
		return verdict.Compatible, nil, ""
	}
	return verdict.Altering, nil, fmt.Sprintf("code compiles, and writes %s as its zero value until it is set",
		FieldName(n))
}

func fieldLines(f *change.Change) []string {
	o := f.Field.Old
	return []string{fmt.Sprintf("var m %s", qualified(&o.Message.Decl)), fmt.Sprintf("_ = m.%s", FieldName(o))}
}

func fieldTypeRule(f *change.Change) (verdict.Verdict, []string, string) {
	o, n := f.Field.Old, f.Field.New
	if o.IsRaw() && n.IsRaw() || sameType(o.Type, n.Type) && sameFieldType(o, n) {
		return verdict.Compatible, nil, ""
	}
	return verdict.Breaking, typedLines(o, n), ""
}

// typedLines reads a field into a variable of the type that it had.
func typedLines(o, n *schema.Field) []string {
	return []string{
		fmt.Sprintf("var m %s", qualified(&o.Message.Decl)),
		fmt.Sprintf("var v %s = m.%s", FieldTypeName(o), FieldName(o)),
		fmt.Sprintf("// m.%s is %s now", FieldName(n), FieldTypeName(n)),
	}
}

func presenceRule(f *change.Change) (verdict.Verdict, []string, string) {
	o, n := f.Field.Old, f.Field.New
	if FieldTypeName(o) != FieldTypeName(n) && TypeName(o.Type) == TypeName(n.Type) {
		return verdict.Breaking, typedLines(o, n), ""
	}
	if o.Presence == schema.Defaulted {
		return verdict.Breaking, []string{fmt.Sprintf("var m %s", qualified(&o.Message.Decl)),
			fmt.Sprintf("_ = m.%sOrDefault()", FieldName(o))}, ""
	}
	return verdict.Compatible, nil, ""
}

func memberLines(f *change.Change) []string {
	m := f.Member.Old
	return []string{fmt.Sprintf("_ = %s.%s", PackageName(m.Enum.Module), MemberName(m))}
}

// callLines calls a call as it was.
func callLines(f *change.Change) []string {
	c := f.Call.Old
	name := CallName(c)
	lines := []string{fmt.Sprintf("var client *%s.%sClient", PackageName(c.Service.Module), c.Service.Name)}
	request := func() string { return qualified(&c.Request.Decl) }
	begun := "ctx"
	if c.Head != nil {
		begun += ", &" + qualified(&c.Head.Decl) + "{}"
	}
	switch {
	case conversation.BothWays(c):
		return append(lines, fmt.Sprintf("talk, _ := client.%s(%s)", name, begun),
			fmt.Sprintf("_ = talk.Send(&%s{})", request()))
	case c.RequestStream:
		lines = append(lines, fmt.Sprintf("_ = client.%s(%s).Send(&%s{})", name, begun, request()))
		if c.Response != nil {
			lines = append(lines, fmt.Sprintf("answer, _ := client.%s(%s).Finish()", name, begun),
				fmt.Sprintf("var _ *%s = answer", qualified(&c.Response.Decl)))
		}
		return lines
	}
	arguments := "ctx"
	if c.Request != nil {
		arguments += ", &" + request() + "{}"
	}
	made := fmt.Sprintf("client.%s(%s)", name, arguments)
	switch {
	case c.ResponseStream:
		return append(lines, fmt.Sprintf("var _ iter.Seq2[*%s, error] = %s", qualified(&c.Response.Decl), made))
	case c.Response != nil:
		return append(lines, "answer, _ := "+made, fmt.Sprintf("var _ *%s = answer", qualified(&c.Response.Decl)))
	}
	return append(lines, "var _ error = "+made)
}

// serveLines serves a call as it was.
func serveLines(f *change.Change) []string {
	c := f.Call.Old
	in, out := "ctx context.Context", "error"
	if c.Head != nil {
		in += ", head *" + qualified(&c.Head.Decl)
	}
	switch {
	case c.RequestStream:
		in += fmt.Sprintf(", elements iter.Seq2[*%s, error]", qualified(&c.Request.Decl))
	case c.Request != nil:
		in += ", request *" + qualified(&c.Request.Decl)
	}
	switch {
	case c.ResponseStream:
		in += fmt.Sprintf(", send func(*%s) error", qualified(&c.Response.Decl))
	case c.Response != nil:
		out = fmt.Sprintf("(*%s, error)", qualified(&c.Response.Decl))
	}
	return []string{
		fmt.Sprintf("var serve func(%s) %s", in, out),
		fmt.Sprintf("_ = %s.%sCalls{%s: serve}", PackageName(c.Service.Module), c.Service.Name, CallName(c)),
	}
}

func fieldRenamed(c *change.Change) bool { return FieldName(c.Field.Old) != FieldName(c.Field.New) }

func memberRenamed(c *change.Change) bool {
	return MemberName(c.Member.Old) != MemberName(c.Member.New)
}
