package java

import (
	"fmt"
	"slices"
	"strings"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/syntax"
)

// Compatible is what changes do to programs in the documented style, as javac compiles them.
func (Language) Compatible() stubs.CodeRules {
	return stubs.CodeRules{Fails: "no longer compiles", Users: userRules, Callers: callerRules,
		Implementers: implementerRules}
}

// userRules are those for users of types.
var userRules = map[change.Kind]stubs.CodeRule{
	change.CredentialRenamed: stubs.CredentialMoved,
	change.CredentialMoved:   stubs.CredentialMoved,
	change.ModuleGone:        stubs.Always(useLines),
	change.MessageGone:       stubs.Always(useLines),
	change.ErrorGone:         stubs.Always(useLines),
	change.EnumGone:          stubs.Always(useLines),
	change.UnionGone:         stubs.Always(useLines),
	change.ConstGone:         stubs.Always(useLines),
	change.ConstChanged:      constRule,
	// Of the named types only records have a name in Java.
	change.TypeGone: stubs.When(func(c *change.Change) bool {
		return isRecord(&c.OldDecl.(*schema.NamedType).Type)
	}, useLines),
	change.TypeChanged: baseRule,
	change.FieldAdded:  fieldAddedRule,
	change.FieldGone:   stubs.Always(fieldLines),
	change.FieldRenamed: stubs.When(func(c *change.Change) bool {
		return FieldName(c.Field.Old) != FieldName(c.Field.New) || c.Field.Old.Message.Patch() != nil &&
			syntax.PascalCase(c.Field.Old.Name) != syntax.PascalCase(c.Field.New.Name)
	}, fieldLines),
	change.FieldType: func(c *change.Change) (verdict.Verdict, []string, string) {
		o, n := c.Field.Old, c.Field.New
		if o.IsRaw() && n.IsRaw() || TypeName(o.Type) == TypeName(n.Type) {
			return verdict.Compatible, nil, ""
		}
		return verdict.Breaking, typedLines(o, n), ""
	},
	change.FieldPlace:    stubs.RawMoved(func(c *change.Change) []string { return typedLines(c.Field.Old, c.Field.New) }),
	change.FieldPresence: presenceRule,
	change.FieldDefault:  stubs.DefaultMoved,
	change.MemberGone:    stubs.Always(memberLines),
	change.MemberRenamed: stubs.When(func(c *change.Change) bool {
		return MemberName(c.Member.Old) != MemberName(c.Member.New)
	}, memberLines),
	change.AlternativeGone: stubs.Always(alternativeLines),
	change.AlternativeRenamed: stubs.When(func(c *change.Change) bool {
		return AlternativeName(c.Alternative.Old) != AlternativeName(c.Alternative.New)
	}, alternativeLines),
	change.AlternativeType: func(c *change.Change) (verdict.Verdict, []string, string) {
		o, n := c.Alternative.Old, c.Alternative.New
		if TypeName(o.Type) == TypeName(n.Type) {
			return verdict.Compatible, nil, ""
		}
		name := o.Union.Name + "." + AlternativeName(o)
		return verdict.Breaking, []string{
			fmt.Sprintf("%s way = null;", name),
			fmt.Sprintf("%s value = way.value();", TypeName(o.Type)),
			fmt.Sprintf("way = new %s(value);", name),
			fmt.Sprintf("// its value is %s now", TypeName(n.Type)),
		}, ""
	},
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
	change.CallRenamed: stubs.When(callRenamed, callLines),
}

// implementerRules are those for who implements services, each method marked as one that overrides.
var implementerRules = map[change.Kind]stubs.CodeRule{
	change.ServiceGone: stubs.Always(func(c *change.Change) []string {
		return []string{fmt.Sprintf("class Desk extends %s {}", c.OldDecl.(*schema.Service).Name)}
	}),
	change.CallGone:    stubs.Always(serveLines),
	change.CallMoved:   stubs.Always(serveLines),
	change.CallStream:  stubs.Always(serveLines),
	change.CallRequest: stubs.Always(serveLines),
	change.CallHead:    stubs.Always(serveLines),
	change.CallAnswer:  stubs.Always(serveLines),
	change.CallRenamed: stubs.When(callRenamed, serveLines),
}

func callRenamed(c *change.Change) bool { return CallName(c.Call.Old) != CallName(c.Call.New) }

func useLines(c *change.Change) []string {
	if c.Modules.Old != nil {
		return []string{fmt.Sprintf("import ….%s.*;", Below(c.Modules.Old))}
	}
	switch d := c.OldDecl.(type) {
	case *schema.Const:
		return []string{fmt.Sprintf("var value = %s.%s;", constantsClass, ConstName(d))}
	case *schema.Service:
		return []string{fmt.Sprintf("%sClient client = null;", d.Name)}
	default:
		return []string{fmt.Sprintf("%s value = null;", d.Head().Name)}
	}
}

// widens tells whether Java assigns a primitive type to another one by itself (JLS, section 5.1.2).
func widens(from, to string) bool {
	order := []string{"int", "long", "float", "double"}
	i, j := slices.Index(order, from), slices.Index(order, to)
	return i >= 0 && j > i
}

func constRule(c *change.Change) (verdict.Verdict, []string, string) {
	o, n := c.OldDecl.(*schema.Const), c.NewDecl.(*schema.Const)
	old, new := TypeName(o.Type), TypeName(n.Type)
	if old == new || widens(new, old) {
		return verdict.Altering, nil, "code compiles, and has another value"
	}
	return verdict.Breaking, []string{fmt.Sprintf("%s value = %s.%s;", old, constantsClass, ConstName(o))}, ""
}

// baseRule judges what a named type is over: of a record, what it is made of and gives back; of others, what is in its
// place wherever it is used.
func baseRule(c *change.Change) (verdict.Verdict, []string, string) {
	o, n := c.OldDecl.(*schema.NamedType), c.NewDecl.(*schema.NamedType)
	old, new := TypeName(o.Bare()), TypeName(n.Bare())
	switch {
	case old == new && isRecord(&o.Type) == isRecord(&n.Type):
		return verdict.Compatible, nil, ""
	case isRecord(&o.Type):
		return verdict.Breaking, []string{
			fmt.Sprintf("%s made = null;", o.Name),
			fmt.Sprintf("%s value = made.value();", old),
			fmt.Sprintf("made = new %s(value);", o.Name),
			fmt.Sprintf("// %s is over %s now", o.Name, new),
		}, ""
	}
	now := fmt.Sprintf("// %s is %s now", o.Name, TypeName(&n.Type))
	for _, m := range o.Module.Messages {
		for _, f := range m.Fields {
			if f.Type.Named == o || slices.Contains(f.Type.Names(), schema.Declaration(o)) {
				return verdict.Breaking, append(typedLines(f, f)[:3], now), ""
			}
		}
	}
	return verdict.Breaking, []string{fmt.Sprintf("// where %s is used, %s was", o.Name, old), now}, ""
}

func fieldAddedRule(c *change.Change) (verdict.Verdict, []string, string) {
	n := c.Field.New
	switch {
	case stubs.RawAdded(c):
		return verdict.Breaking, []string{fmt.Sprintf("%s m = null;", n.Message.Name), "m.toJson();",
			fmt.Sprintf("// %s is a body that is sent as it is", FieldName(n))}, ""
	case n.Presence != schema.Required:
		return verdict.Compatible, nil, ""
	}
	return verdict.Altering, nil, fmt.Sprintf("code compiles, and build() throws an IllegalStateException until %s is set",
		FieldName(n))
}

// FieldTypeName is the Java type of what a field's accessor returns.
func FieldTypeName(f *schema.Field) string {
	switch {
	case f.IsRaw():
		return "Body"
	case f.Presence == schema.Optional:
		return "Optional<" + spell(f.Type, true) + ">"
	}
	return TypeName(f.Type)
}

func fieldLines(c *change.Change) []string {
	o := c.Field.Old
	return []string{fmt.Sprintf("%s m = null;", o.Message.Name), fmt.Sprintf("var value = m.%s();", FieldName(o))}
}

// typedLines reads a field into a variable of the type that it had, and sets it from there.
func typedLines(o, n *schema.Field) []string {
	given := "value"
	if o.Presence == schema.Optional {
		given = "value.get()"
	}
	return []string{
		fmt.Sprintf("%s m = null;", o.Message.Name),
		fmt.Sprintf("%s value = m.%s();", FieldTypeName(o), FieldName(o)),
		fmt.Sprintf("%s.builder().%s(%s);", o.Message.Name, FieldName(o), given),
		fmt.Sprintf("// %s() is %s now", FieldName(n), FieldTypeName(n)),
	}
}

func presenceRule(c *change.Change) (verdict.Verdict, []string, string) {
	o, n := c.Field.Old, c.Field.New
	switch {
	case TypeName(o.Type) != TypeName(n.Type): // said of the type
		return verdict.Compatible, nil, ""
	case FieldTypeName(o) != FieldTypeName(n):
		return verdict.Breaking, typedLines(o, n), ""
	case n.Presence == schema.Required:
		return verdict.Altering, nil,
			fmt.Sprintf("code compiles, and build() throws an IllegalStateException until %s is set",
				FieldName(n))
	}
	return verdict.Compatible, nil, ""
}

func memberLines(c *change.Change) []string {
	m := c.Member.Old
	return []string{fmt.Sprintf("%s value = %s.%s;", m.Enum.Name, m.Enum.Name, MemberName(m))}
}

func alternativeLines(c *change.Change) []string {
	a := c.Alternative.Old
	return []string{fmt.Sprintf("%s.%s way = null;", a.Union.Name, AlternativeName(a))}
}

// callLines calls a call as it was.
func callLines(c *change.Change) []string {
	call := c.Call.Old
	lines := []string{fmt.Sprintf("%sClient client = null;", call.Service.Name)}
	argument := ""
	if m := call.Placed(); m != nil {
		lines = append(lines, fmt.Sprintf("%s sent = null;", m.Name))
		argument = "sent"
	}
	answer := "Void"
	if call.Response != nil {
		answer = call.Response.Name
	}
	made := fmt.Sprintf("client.%s(%s)", CallName(call), argument)
	switch {
	case conversation.BothWays(call):
		return append(lines, fmt.Sprintf("Conversation<%s, %s> talk = %s;", call.Request.Name, answer, made))
	case call.RequestStream:
		return append(lines, fmt.Sprintf("Sender<%s, %s> sender = %s;", call.Request.Name, answer, made))
	case call.ResponseStream:
		return append(lines, fmt.Sprintf("AnswerStream<%s> stream = %s;", answer, made))
	case call.Response != nil:
		return append(lines, fmt.Sprintf("%s answer = %s;", answer, made))
	}
	return append(lines, fmt.Sprintf("CompletableFuture<Void> done = client.%sAsync(%s);", CallName(call), argument))
}

// serveLines serves a call as it was.
func serveLines(c *change.Change) []string {
	call := c.Call.Old
	var parameters []string
	if call.Head != nil {
		parameters = append(parameters, call.Head.Name+" head")
	}
	switch {
	case call.RequestStream:
		parameters = append(parameters, fmt.Sprintf("Elements<%s> elements", call.Request.Name))
	case call.Request != nil:
		parameters = append(parameters, call.Request.Name+" request")
	}
	result := "void"
	switch {
	case call.ResponseStream:
		parameters = append(parameters, fmt.Sprintf("Answers<%s> answers", call.Response.Name))
	case call.Response != nil:
		result = call.Response.Name
	}
	body := "}"
	if result != "void" {
		body = "  return null; }"
	}
	return []string{
		fmt.Sprintf("class Desk extends %s {", call.Service.Name),
		fmt.Sprintf("  @Override public %s %s(%s) {%s", result, CallName(call), strings.Join(append(parameters,
			"Context context"),
			", "), body),
		"}",
	}
}
