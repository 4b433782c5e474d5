package python

import (
	"fmt"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/syntax"
)

// Compatible is what changes do to programs in the documented style, as mypy --strict checks them.
func (Language) Compatible() stubs.CodeRules {
	return stubs.CodeRules{Fails: "no longer passes a type checker", Users: userRules, Callers: callerRules,
		Implementers: implementerRules}
}

// userRules are those for users of types.
var userRules = map[change.Kind]stubs.CodeRule{
	change.CredentialRenamed: stubs.CredentialMoved,
	change.CredentialMoved:   stubs.CredentialMoved,
	change.ModuleGone:        goneRule,
	change.MessageGone:       goneRule,
	change.ErrorGone:         goneRule,
	change.EnumGone:          goneRule,
	change.TypeGone:          goneRule,
	change.UnionGone:         goneRule,
	change.ConstGone:         goneRule,
	change.ConstChanged:      constRule,
	change.TypeChanged: func(f *change.Change) (verdict.Verdict, []string, string) {
		o, n := f.OldDecl.(*schema.NamedType), f.NewDecl.(*schema.NamedType)
		old, new := TypeName(o.Bare()), TypeName(n.Bare())
		if old == new {
			return verdict.Compatible, nil, ""
		}
		if o.Type.Kind == schema.KindAny { // a name for it is called by nobody
			return verdict.Breaking, []string{"given: " + old, fmt.Sprintf("made: %s = given", o.Name),
				fmt.Sprintf("# %s is over %s now", o.Name, new)}, ""
		}
		return verdict.Breaking, []string{"given: " + old, fmt.Sprintf("made = %s(given)", o.Name), "other: " + o.Name,
			fmt.Sprintf("taken: %s = other", old), fmt.Sprintf("# %s is over %s now", o.Name, new)}, ""
	},
	change.FieldAdded: func(f *change.Change) (verdict.Verdict, []string, string) {
		if f.Field.New.Presence != schema.Required {
			return verdict.Compatible, nil, ""
		}
		return verdict.Breaking, makeLines(f.Field.New.Message, f.Field.New), ""
	},
	change.FieldGone:    stubs.Always(fieldLines),
	change.FieldRenamed: stubs.When(fieldRenamed, fieldLines),
	change.FieldPlace:   stubs.RawMoved(func(f *change.Change) []string { return typedLines(f.Field.Old, f.Field.New) }),
	change.FieldType: func(f *change.Change) (verdict.Verdict, []string, string) {
		o, n := f.Field.Old, f.Field.New
		if o.IsRaw() && n.IsRaw() || TypeName(o.Type) == TypeName(n.Type) {
			return verdict.Compatible, nil, ""
		}
		return verdict.Breaking, typedLines(o, n), ""
	},
	change.FieldPresence:   presenceRule,
	change.FieldDefault:    stubs.DefaultMoved,
	change.MemberGone:      stubs.Always(memberLines),
	change.MemberRenamed:   stubs.When(memberRenamed, memberLines),
	change.AlternativeGone: stubs.Always(alternativeLines),
	change.AlternativeRenamed: stubs.When(func(f *change.Change) bool {
		return AlternativeName(f.Alternative.Old) != AlternativeName(f.Alternative.New)
	}, alternativeLines),
	change.AlternativeType: func(f *change.Change) (verdict.Verdict, []string, string) {
		o, n := f.Alternative.Old, f.Alternative.New
		if TypeName(o.Type) == TypeName(n.Type) {
			return verdict.Compatible, nil, ""
		}
		name := AlternativeName(o)
		return verdict.Breaking, []string{"way: " + name, fmt.Sprintf("taken: %s = way.value", TypeName(o.Type)),
			"given: " + TypeName(o.Type), "way.value = given", fmt.Sprintf("# way.value is %s now", TypeName(n.Type))}, ""
	},
}

// callerRules are those for who calls.
var callerRules = map[change.Kind]stubs.CodeRule{
	change.ServiceGone: goneRule,
	change.CallGone:    stubs.Always(callLines),
	change.CallMoved:   stubs.Always(callLines),
	change.CallRenamed: stubs.When(func(c *change.Change) bool { return CallName(c.Call.Old) != CallName(c.Call.New) },
		callLines),
	change.CallStream:  stubs.Always(callLines),
	change.CallRequest: stubs.Always(callLines),
	change.CallHead:    stubs.Always(callLines),
	change.CallAnswer:  stubs.When(func(f *change.Change) bool { return f.Call.Old.Response != nil }, callLines),
}

// implementerRules are those for who implements services.
var implementerRules = map[change.Kind]stubs.CodeRule{
	change.ServiceGone: stubs.Always(func(f *change.Change) []string {
		return []string{"from … import serve_" + syntax.SnakeCase(f.OldDecl.(*schema.Service).Name)}
	}),
	change.CallRenamed: func(f *change.Change) (verdict.Verdict, []string, string) {
		if CallName(f.Call.Old) == CallName(f.Call.New) {
			return verdict.Compatible, nil, ""
		}
		return verdict.Altering, nil, fmt.Sprintf("code passes a type checker, and no longer serves the call: %s "+
			"answers 501 until it is written", CallName(f.Call.New))
	},
	change.CallStream:  stubs.Always(serveLines),
	change.CallRequest: stubs.Always(serveLines),
	change.CallHead:    stubs.Always(serveLines),
	change.CallAnswer:  stubs.Always(serveLines),
}

func goneRule(f *change.Change) (verdict.Verdict, []string, string) {
	if f.Modules.Old != nil {
		return verdict.Breaking, []string{fmt.Sprintf("import …%s", f.Modules.Old.Name)}, ""
	}
	switch d := f.OldDecl.(type) {
	case *schema.Service:
		return verdict.Breaking, []string{fmt.Sprintf("from … import %sClient", d.Name)}, ""
	default:
		return verdict.Breaking, []string{fmt.Sprintf("from … import %s", d.Head().Name)}, ""
	}
}

func constRule(f *change.Change) (verdict.Verdict, []string, string) {
	o, n := f.OldDecl.(*schema.Const), f.NewDecl.(*schema.Const)
	old, new := TypeName(o.Type), TypeName(n.Type)
	if old == new || old == "float" && new == "int" { // an int is a float to type checkers
		return verdict.Altering, nil, "code goes on, and has another value"
	}
	return verdict.Breaking, []string{fmt.Sprintf("value: %s = %s", old, o.Name)}, ""
}

func readType(f *schema.Field) string {
	if f.IsRaw() {
		return "Body"
	}
	t := TypeName(f.Type)
	if f.Presence == schema.Optional {
		t += " | None"
	}
	return t
}

func fieldLines(f *change.Change) []string {
	o := f.Field.Old
	return []string{"m: " + o.Message.Name, "m." + FieldName(o)}
}

// typedLines moves a field into and out of a variable of the type that it had.
func typedLines(o, n *schema.Field) []string {
	return []string{
		"m: " + o.Message.Name,
		fmt.Sprintf("taken: %s = m.%s", readType(o), FieldName(o)),
		"given: " + readType(o),
		fmt.Sprintf("m.%s = given", FieldName(o)),
		fmt.Sprintf("# m.%s is %s now", FieldName(n), readType(n)),
	}
}

// makeLines makes a message without a field.
func makeLines(m *schema.Message, without *schema.Field) []string {
	var lines []string
	arguments := ""
	for _, f := range m.Fields {
		if f == without || f.Presence != schema.Required {
			continue
		}
		name := FieldName(f)
		lines = append(lines, fmt.Sprintf("%s: %s", name, TypeName(f.Type)))
		if arguments != "" {
			arguments += ", "
		}
		arguments += name + "=" + name
	}
	return append(lines, fmt.Sprintf("%s(%s)", m.Name, arguments), fmt.Sprintf("# %s is missing", FieldName(without)))
}

func presenceRule(f *change.Change) (verdict.Verdict, []string, string) {
	o, n := f.Field.Old, f.Field.New
	switch {
	case readType(o) != readType(n) && TypeName(o.Type) == TypeName(n.Type):
		return verdict.Breaking, typedLines(o, n), ""
	case n.Presence == schema.Required:
		return verdict.Breaking, makeLines(n.Message, n), ""
	}
	return verdict.Compatible, nil, ""
}

func memberLines(f *change.Change) []string {
	m := f.Member.Old
	return []string{fmt.Sprintf("%s.%s", m.Enum.Name, MemberName(m))}
}

func alternativeLines(f *change.Change) []string {
	return []string{fmt.Sprintf("from … import %s", AlternativeName(f.Alternative.Old))}
}

// callLines calls a call as it was.
func callLines(f *change.Change) []string {
	c := f.Call.Old
	lines := []string{fmt.Sprintf("client: %sClient", c.Service.Name)}
	argument := ""
	if c.Head != nil {
		lines, argument = append(lines, "head: "+c.Head.Name), "head, "
	}
	switch {
	case c.RequestStream:
		lines = append(lines, fmt.Sprintf("elements: list[%s]", c.Request.Name))
		argument += "elements"
	case c.Request != nil:
		lines = append(lines, "request: "+c.Request.Name)
		argument = "request"
	}
	call := fmt.Sprintf("client.%s(%s)", CallName(c), argument)
	switch {
	case c.ResponseStream:
		return append(lines, fmt.Sprintf("for element in %s:", call),
			fmt.Sprintf("    answer: %s = element", c.Response.Name))
	case c.Response != nil:
		call = fmt.Sprintf("answer: %s = %s", c.Response.Name, call)
	}
	return append(lines, call)
}

// serveLines serves a call as it was.
func serveLines(f *change.Change) []string {
	c := f.Call.Old
	parameter, coroutine, answer := "", "async ", "None"
	if c.Head != nil {
		parameter = ", head: " + c.Head.Name
	}
	switch {
	case c.RequestStream:
		parameter += fmt.Sprintf(", elements: Elements[%s]", c.Request.Name)
	case c.Request != nil:
		parameter = ", request: " + c.Request.Name
	}
	switch {
	case c.ResponseStream:
		coroutine, answer = "", fmt.Sprintf("AsyncIterator[%s]", c.Response.Name)
	case c.Response != nil:
		answer = c.Response.Name
	}
	return []string{
		fmt.Sprintf("class Desk(%s):", c.Service.Name),
		fmt.Sprintf("    %sdef %s(self%s, context: Context) -> %s:", coroutine, CallName(c), parameter, answer),
		"        raise NotImplementedError",
	}
}

func fieldRenamed(c *change.Change) bool { return FieldName(c.Field.Old) != FieldName(c.Field.New) }

func memberRenamed(c *change.Change) bool {
	return MemberName(c.Member.Old) != MemberName(c.Member.New)
}
