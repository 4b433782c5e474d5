package typescript

import (
	"fmt"
	"slices"

	"faithfulcourier/internal/compare/change"
	"faithfulcourier/internal/compare/verdict"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
)

// Compatible is what changes do to programs in the documented style, as the
// compiler checks them with all that is strict.
func (Language) Compatible() stubs.CodeRules {
	return stubs.CodeRules{Fails: "no longer compiles", Users: userRules, Callers: callerRules,
		Implementers: implementerRules}
}

// userRules are those for users of types.
var userRules = map[change.Kind]stubs.CodeRule{
	change.CredentialGone:    stubs.Always(credentialLines),
	change.CredentialRenamed: stubs.Always(credentialLines),
	change.CredentialMoved:   stubs.Always(credentialLines),
	change.TypeGone:          stubs.Always(useLines),
	change.UnionGone:         stubs.Always(useLines),
	change.TypeChanged: func(f *change.Change) (verdict.Verdict, []string, string) {
		o, n := f.OldDecl.(*schema.NamedType), f.NewDecl.(*schema.NamedType)
		old, new := TypeName(o.Bare()), TypeName(n.Bare())
		if Shape(o.Bare()) == Shape(n.Bare()) {
			return verdict.Compatible, nil, ""
		}
		return verdict.Breaking, []string{fmt.Sprintf("declare const made: %s;", o.Name),
			fmt.Sprintf("const value: %s = made;", old), fmt.Sprintf("// %s is over %s now", o.Name, new)}, ""
	},
	change.AlternativeGone: func(f *change.Change) (verdict.Verdict, []string, string) {
		return verdict.Breaking, alternativeLines(f.Alternative.Old), ""
	},
	change.AlternativeRenamed: func(f *change.Change) (verdict.Verdict, []string, string) {
		return verdict.Breaking, alternativeLines(f.Alternative.Old), ""
	},
	change.AlternativeType: func(f *change.Change) (verdict.Verdict, []string, string) {
		o, n := f.Alternative.Old, f.Alternative.New
		if Shape(o.Type) == Shape(n.Type) {
			return verdict.Compatible, nil, ""
		}
		return verdict.Breaking, append(alternativeLines(o), fmt.Sprintf("// its value is %s now", TypeName(n.Type))), ""
	},
	change.ModuleGone:   stubs.Always(useLines),
	change.MessageGone:  stubs.Always(useLines),
	change.ErrorGone:    stubs.Always(useLines),
	change.EnumGone:     stubs.Always(useLines),
	change.ConstGone:    stubs.Always(useLines),
	change.ConstChanged: constRule,
	change.FieldAdded: func(f *change.Change) (verdict.Verdict, []string, string) {
		if f.Field.New.Presence == schema.Required {
			return verdict.Breaking, makeLines(f.Field.New.Message, f.Field.New), ""
		}
		return verdict.Compatible, nil, ""
	},
	change.FieldGone:    stubs.Always(fieldLines),
	change.FieldRenamed: stubs.When(fieldRenamed, fieldLines),
	change.FieldPlace: stubs.RawMoved(func(f *change.Change) []string {
		return readLines(f.Field.Old, f.Field.New)
	}),
	change.FieldType: func(f *change.Change) (verdict.Verdict, []string, string) {
		o, n := f.Field.Old, f.Field.New
		if o.IsRaw() && n.IsRaw() || Shape(o.Type) == Shape(n.Type) || plainName(n.Type) == TypeName(o.Type) {
			return verdict.Compatible, nil, ""
		}
		return verdict.Breaking, readLines(o, n), ""
	},
	change.FieldPresence: presenceRule,
	change.FieldDefault:  stubs.DefaultMoved,
	change.MemberGone:    stubs.Always(memberLines),
	change.MemberRenamed: stubs.Always(memberLines),
}

// readLines reads a field as it was.
func readLines(o, n *schema.Field) []string {
	return []string{
		fmt.Sprintf("declare const m: %s;", o.Message.Name),
		fmt.Sprintf("const v: %s = m.%s;", readType(o), FieldName(o)),
		fmt.Sprintf("// m.%s is %s now", FieldName(n), readType(n)),
	}
}

// callerRules are those for who calls.
var callerRules = map[change.Kind]stubs.CodeRule{
	change.ServiceGone: stubs.Always(useLines),
	change.CallGone:    stubs.Always(callLines),
	change.CallMoved:   stubs.Always(callLines),
	change.CallStream:  stubs.Always(callLines),
	change.CallRenamed: stubs.When(func(c *change.Change) bool { return CallName(c.Call.Old) != CallName(c.Call.New) },
		callLines),
	change.CallRequest: stubs.When(func(f *change.Change) bool {
		o, n := f.Call.Old.Request, f.Call.New.Request
		return o == nil || n == nil || !takes(n, o)
	}, callLines),
	change.CallHead: stubs.When(func(f *change.Change) bool {
		o, n := f.Call.Old.Head, f.Call.New.Head
		return o == nil || n == nil || !takes(n, o)
	}, callLines),
	change.CallAnswer: stubs.When(func(f *change.Change) bool {
		o, n := f.Call.Old.Response, f.Call.New.Response
		return o == nil || n == nil || !holdsAll(n, o)
	}, callLines),
}

// implementerRules are those for who implements services.
var implementerRules = map[change.Kind]stubs.CodeRule{
	change.ServiceGone: stubs.Always(func(f *change.Change) []string {
		return []string{fmt.Sprintf("import { serve%s } from \".../server.js\";", f.OldDecl.(*schema.Service).Name)}
	}),
	change.CallGone:   stubs.Always(serveLines),
	change.CallMoved:  stubs.Always(serveLines),
	change.CallStream: stubs.Always(serveLines),
	change.CallRenamed: stubs.When(func(c *change.Change) bool { return CallName(c.Call.Old) != CallName(c.Call.New) },
		serveLines),
	change.CallRequest: stubs.When(func(f *change.Change) bool {
		o, n := f.Call.Old.Request, f.Call.New.Request
		// Who takes no request takes none of any kind; else one must go for the other.
		return o != nil && (n == nil || !goesFor(n, o) && !goesFor(o, n))
	}, serveLines),
	change.CallHead: stubs.When(func(f *change.Change) bool {
		o, n := f.Call.Old.Head, f.Call.New.Head
		return o == nil || n == nil || !goesFor(n, o) && !goesFor(o, n)
	}, serveLines),
	change.CallAnswer: stubs.When(func(f *change.Change) bool {
		o, n := f.Call.Old.Response, f.Call.New.Response
		return o == nil || n == nil || !takes(n, o)
	}, serveLines),
}

func useLines(f *change.Change) []string {
	if f.Modules.Old != nil {
		return []string{fmt.Sprintf("import \".../%s/types.js\";", Folder(f.Modules.Old))}
	}
	switch d := f.OldDecl.(type) {
	case *schema.Message:
		kind := "type "
		if d.IsError() {
			kind = ""
		}
		return []string{fmt.Sprintf("import { %s%s } from \".../types.js\";", kind, d.Name)}
	case *schema.NamedType:
		return []string{fmt.Sprintf("import { type %s } from \".../types.js\";", d.Name)}
	case *schema.Union:
		return []string{fmt.Sprintf("import { type %s } from \".../types.js\";", d.Name)}
	case *schema.Enum:
		return []string{fmt.Sprintf("import { type %s } from \".../types.js\";", d.Name)}
	case *schema.Const:
		return []string{fmt.Sprintf("import { %s } from \".../types.js\";", d.Name)}
	case *schema.Service:
		return []string{fmt.Sprintf("import { %sClient } from \".../client.js\";", d.Name)}
	}
	return nil
}

// credentialLines name a credential as it was: by its full name, where it has its own still.
func credentialLines(f *change.Change) []string {
	name := f.OldDecl.Head().Name
	if f.Kind == change.CredentialMoved {
		name = f.OldDecl.Head().FullName()
	}
	return []string{"import type { CredentialName } from \".../faithful/about.js\";",
		fmt.Sprintf("export const name: CredentialName = %q;", name)}
}

// alternativeLines makes a value of an alternative as it was.
func alternativeLines(a *schema.Alternative) []string {
	return []string{
		fmt.Sprintf("declare const value: %s;", TypeName(a.Type)),
		fmt.Sprintf("const way: %s = { kind: %q, value };", a.Union.Name, a.Name),
	}
}

func constRule(f *change.Change) (verdict.Verdict, []string, string) {
	o, n := f.OldDecl.(*schema.Const), f.NewDecl.(*schema.Const)
	if TypeName(o.Type) == TypeName(n.Type) {
		return verdict.Altering, nil, "code compiles, and has another value"
	}
	return verdict.Breaking, []string{fmt.Sprintf("const v: %s = %s;", TypeName(o.Type), o.Name)}, ""
}

func readType(f *schema.Field) string {
	t := TypeName(f.Type)
	if f.IsRaw() {
		return "Body"
	}
	if f.Presence == schema.Optional {
		t += " | undefined"
	}
	return t
}

func fieldLines(f *change.Change) []string {
	o := f.Field.Old
	return []string{fmt.Sprintf("declare const m: %s;", o.Message.Name), fmt.Sprintf("m.%s;", FieldName(o))}
}

// makeLines makes a message without a field.
func makeLines(m *schema.Message, without *schema.Field) []string {
	return []string{
		fmt.Sprintf("declare const others: Omit<%sInit, %q>;", m.Name, FieldName(without)),
		fmt.Sprintf("%s.make({ ...others });", ToolsName(&m.Decl)),
		fmt.Sprintf("// %s is missing", FieldName(without)),
	}
}

func presenceRule(f *change.Change) (verdict.Verdict, []string, string) {
	o, n := f.Field.Old, f.Field.New
	switch {
	case n.Presence == schema.Required:
		return verdict.Breaking, makeLines(n.Message, n), ""
	case n.Presence == schema.Optional:
		return verdict.Breaking, []string{
			fmt.Sprintf("declare const m: %s;", o.Message.Name),
			fmt.Sprintf("const v: %s = m.%s;", readType(o), FieldName(o)),
			fmt.Sprintf("// m.%s may be undefined now", FieldName(n)),
		}, ""
	}
	return verdict.Compatible, nil, ""
}

func memberLines(f *change.Change) []string {
	m := f.Member.Old
	return []string{fmt.Sprintf("const v: %s = %q;", m.Enum.Name, m.Name)}
}

// holdsAll tells whether a message holds all that another did, in the same way: types
// are compared by what they hold.
func holdsAll(n, o *schema.Message) bool {
	return !slices.ContainsFunc(o.Fields, func(a *schema.Field) bool {
		b := n.ByName(a.Name)
		return b == nil || !sameField(a, b)
	})
}

// takes tells whether another message goes where one is made: it has all that is
// required there, and nothing of another type.
func takes(n, o *schema.Message) bool {
	return !slices.ContainsFunc(n.Fields, func(b *schema.Field) bool {
		a := o.ByName(b.Name)
		return a == nil && b.Presence == schema.Required || a != nil && !sameField(a, b)
	})
}

// goesFor tells whether a message goes where another one is expected: what that has for certain
// is there, and nothing is of another type.
func goesFor(n, o *schema.Message) bool {
	return !slices.ContainsFunc(o.Fields, func(a *schema.Field) bool {
		b := n.ByName(a.Name)
		if b == nil {
			return a.Presence != schema.Optional
		}
		return TypeName(a.Type) != TypeName(b.Type) || b.Presence == schema.Optional && a.Presence != schema.Optional
	})
}

func sameField(a, b *schema.Field) bool {
	return a.Presence == b.Presence && TypeName(a.Type) == TypeName(b.Type)
}

// callLines calls a call as it was.
func callLines(f *change.Change) []string {
	c := f.Call.Old
	lines := []string{fmt.Sprintf("declare const client: %sClient;", c.Service.Name)}
	argument := ""
	switch {
	case c.Head != nil:
		lines = append(lines, fmt.Sprintf("declare const head: %s;", c.Head.Name),
			fmt.Sprintf("declare const elements: Iterable<%s>;", c.Request.Name))
		argument = "head, elements"
	case c.RequestStream:
		lines = append(lines, fmt.Sprintf("declare const elements: Iterable<%s>;", c.Request.Name))
		argument = "elements"
	case c.Request != nil:
		lines = append(lines, fmt.Sprintf("declare const request: %s;", c.Request.Name))
		argument = "request"
	}
	answer := "Promise<void>"
	switch {
	case c.ResponseStream:
		answer = fmt.Sprintf("AsyncIterable<%s>", c.Response.Name)
	case c.Response != nil:
		answer = fmt.Sprintf("Promise<%s>", c.Response.Name)
	}
	return append(lines, fmt.Sprintf("const answer: %s = client.%s(%s);", answer, CallName(c), argument))
}

// serveLines serves a call as it was.
func serveLines(f *change.Change) []string {
	c := f.Call.Old
	parameter, generator, answer := "", "", "Promise<void>"
	switch {
	case c.Head != nil:
		parameter = fmt.Sprintf("head: %s, elements: AsyncIterable<%s>", c.Head.Name, c.Request.Name)
	case c.RequestStream:
		parameter = fmt.Sprintf("elements: AsyncIterable<%s>", c.Request.Name)
	case c.Request != nil:
		parameter = "request: " + c.Request.Name
	}
	switch {
	case c.ResponseStream:
		generator, answer = "*", fmt.Sprintf("AsyncGenerator<%s>", c.Response.Name)
	case c.Response != nil:
		answer = fmt.Sprintf("Promise<%s>", c.Response.Name)
	}
	return []string{
		fmt.Sprintf("const calls: %sCalls = {", c.Service.Name),
		fmt.Sprintf("  async %s%s(%s): %s {", generator, CallName(c), parameter, answer),
		"    throw new Error();",
		"  },",
		"};",
	}
}

func fieldRenamed(c *change.Change) bool { return FieldName(c.Field.Old) != FieldName(c.Field.New) }
