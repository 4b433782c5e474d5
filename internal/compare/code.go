package compare

import (
	"fmt"
	"strconv"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs/golang"
	"faithfulcourier/internal/stubs/typescript"
)

// codeRule says what a kind of fact does to code in one language: it returns
// the verdict, with lines that no longer compile when that is a break, and a
// sentence when it is not plain.
type codeRule func(f *Fact) (Verdict, []string, string)

// always is a rule of what breaks, with the lines that prove it.
func always(lines func(*Fact) []string) codeRule {
	return func(f *Fact) (Verdict, []string, string) { return Breaks, lines(f), "" }
}

// when is always, where something is so.
func when(breaks func(*Fact) bool, lines func(*Fact) []string) codeRule {
	return func(f *Fact) (Verdict, []string, string) {
		if !breaks(f) {
			return Holds, nil, ""
		}
		return Breaks, lines(f), ""
	}
}

// codeTable is the table for code: by language, by kind. A kind that is not
// in it holds.
var codeTable = map[string]map[Kind]codeRule{
	"python": pythonTable,
	"go": {
		CredentialRenamed: credentialMoved,
		CredentialMoved:   credentialMoved,
		TypeGone:          always(goUse),
		TypeChanged:       goBase,
		UnionGone:         always(goUse),
		AlternativeGone:   always(goAlternative),
		AlternativeRenamed: when(func(f *Fact) bool {
			return golang.AlternativeName(f.alternative.old) != golang.AlternativeName(f.alternative.new)
		}, goAlternative),
		AlternativeType: func(f *Fact) (Verdict, []string, string) {
			o, n := f.alternative.old, f.alternative.new
			if goSame(o.Type, n.Type) {
				return Holds, nil, ""
			}
			return Breaks, append(goAlternative(f), fmt.Sprintf("var v %s = m.Value", golang.TypeName(o.Type)), fmt.Sprintf("// m.Value is %s now", golang.TypeName(n.Type))), ""
		},
		ModuleGone:    always(goUse),
		MessageGone:   always(goUse),
		ErrorGone:     always(goUse),
		EnumGone:      always(goUse),
		ConstGone:     always(goUse),
		ConstChanged:  goConst,
		FieldAdded:    goFieldAdded,
		FieldGone:     always(goField),
		FieldRenamed:  when(func(f *Fact) bool { return golang.FieldName(f.field.old) != golang.FieldName(f.field.new) }, goField),
		FieldType:     goFieldType,
		FieldPresence: goPresence,
		FieldDefault:  defaultMoved,
		MemberGone:    always(goMember),
		MemberRenamed: when(func(f *Fact) bool { return golang.MemberName(f.member.old) != golang.MemberName(f.member.new) }, goMember),
	},
	"typescript": {
		CredentialRenamed: credentialMoved,
		CredentialMoved:   credentialMoved,
		TypeGone:          always(tsUse),
		UnionGone:         always(tsUse),
		TypeChanged: func(f *Fact) (Verdict, []string, string) {
			o, n := f.oldAny.(*schema.NamedType), f.newAny.(*schema.NamedType)
			old, new := typescript.TypeName(bare(o)), typescript.TypeName(bare(n))
			if typescript.Shape(bare(o)) == typescript.Shape(bare(n)) {
				return Holds, nil, ""
			}
			return Breaks, []string{fmt.Sprintf("declare const made: %s;", o.Name), fmt.Sprintf("const value: %s = made;", old), fmt.Sprintf("// %s is over %s now", o.Name, new)}, ""
		},
		AlternativeGone:    func(f *Fact) (Verdict, []string, string) { return Breaks, tsAlternative(f.alternative.old), "" },
		AlternativeRenamed: func(f *Fact) (Verdict, []string, string) { return Breaks, tsAlternative(f.alternative.old), "" },
		AlternativeType: func(f *Fact) (Verdict, []string, string) {
			o, n := f.alternative.old, f.alternative.new
			if typescript.Shape(o.Type) == typescript.Shape(n.Type) {
				return Holds, nil, ""
			}
			return Breaks, append(tsAlternative(o), fmt.Sprintf("// its value is %s now", typescript.TypeName(n.Type))), ""
		},
		ModuleGone:   always(tsUse),
		MessageGone:  always(tsUse),
		ErrorGone:    always(tsUse),
		EnumGone:     always(tsUse),
		ConstGone:    always(tsUse),
		ConstChanged: tsConst,
		FieldAdded: func(f *Fact) (Verdict, []string, string) {
			if f.field.new.Presence == schema.Required {
				return Breaks, tsMake(f.field.new.Message, f.field.new), ""
			}
			return Holds, nil, ""
		},
		FieldGone:    always(tsField),
		FieldRenamed: when(func(f *Fact) bool { return typescript.FieldName(f.field.old) != typescript.FieldName(f.field.new) }, tsField),
		FieldType: func(f *Fact) (Verdict, []string, string) {
			o, n := f.field.old, f.field.new
			if typescript.Shape(o.Type) == typescript.Shape(n.Type) {
				return Holds, nil, ""
			}
			if n.Type.Named != nil && typescript.TypeName(bare(n.Type.Named)) == typescript.TypeName(o.Type) {
				// It still reads as what it is over; whoever makes it has to say which it is.
				return Breaks, []string{
					fmt.Sprintf("declare const others: Omit<%sInit, %q>;", o.Message.Name, typescript.FieldName(o)),
					fmt.Sprintf("declare const v: %s;", typescript.TypeName(o.Type)),
					fmt.Sprintf("%s.make({ ...others, %s: v });", typescript.ToolsName(&o.Message.Decl), typescript.FieldName(n)),
					fmt.Sprintf("// it takes %s now", typescript.TypeName(n.Type)),
				}, ""
			}
			return Breaks, []string{
				fmt.Sprintf("declare const m: %s;", o.Message.Name),
				fmt.Sprintf("const v: %s = m.%s;", tsFieldType(o), typescript.FieldName(o)),
				fmt.Sprintf("// m.%s is %s now", typescript.FieldName(n), tsFieldType(n)),
			}, ""
		},
		FieldPresence: tsPresence,
		FieldDefault:  defaultMoved,
		MemberGone:    always(tsMember),
		MemberRenamed: always(tsMember),
	},
}

// goneByName are the kinds of facts that leave no declaration under the name that
// programs use.
var goneByName = map[Kind]Kind{
	ModuleRenamed:  ModuleGone,
	MessageRenamed: MessageGone, MessageMoved: MessageGone,
	ErrorRenamed: ErrorGone, ErrorMoved: ErrorGone,
	EnumRenamed: EnumGone, EnumMoved: EnumGone,
	TypeRenamed: TypeGone, TypeMoved: TypeGone,
	UnionRenamed: UnionGone, UnionMoved: UnionGone,
	ConstRenamed: ConstGone, ConstMoved: ConstGone,
	ServiceRenamed: ServiceGone, ServiceMoved: ServiceGone,
}

// credentialMoved tells of programs that show a credential under a name that no
// call knows any more.
func credentialMoved(f *Fact) (Verdict, []string, string) {
	return Shifts, nil, fmt.Sprintf("code compiles, and shows the credential under a name that no call asks for any more: it is %s now", f.New)
}

// judgeCode says what a fact does to code in a language: to users of types, to
// callers and to implementers apart; nothing is said of what holds.
func judgeCode(language string, f *Fact) (effects []*Effect) {
	kind := f.Kind
	if gone, ok := goneByName[kind]; ok {
		kind = gone // to programs, what has another name is gone
	}
	calls := callTable[language][kind]
	for _, concerned := range []struct {
		who, what string
		rule      codeRule
	}{
		{"users", "code that uses it", codeTable[language][kind]},
		{"callers", "code that calls it", calls.callers},
		{"implementers", "code that implements it", calls.implementers},
	} {
		if concerned.rule == nil {
			continue
		}
		verdict, lines, sentence := concerned.rule(f)
		if verdict == Holds {
			continue
		}
		e := &Effect{Form: language, Position: Code, Who: concerned.who, NewReads: true, Verdict: verdict, Sentence: sentence}
		if verdict == Breaks {
			e.Sentence = concerned.what + map[bool]string{false: " no longer compiles", true: " no longer passes a type checker"}[language == "python"]
			e.Witness = &Witness{Code: lines}
		}
		effects = append(effects, e)
	}
	return effects
}

func defaultMoved(f *Fact) (Verdict, []string, string) {
	return Shifts, nil, fmt.Sprintf("code that leaves it out compiles, and means %s instead of %s", f.New, f.Old)
}

// Go.

func goName(d *schema.Decl) string { return golang.PackageName(d.Module) + "." + d.Name }

func goUse(f *Fact) []string {
	switch d := f.oldAny.(type) {
	case *schema.Message:
		return []string{fmt.Sprintf("var _ %s", goName(&d.Decl))}
	case *schema.Enum:
		return []string{fmt.Sprintf("var _ %s", goName(&d.Decl))}
	case *schema.NamedType:
		return []string{fmt.Sprintf("var _ %s", goName(&d.Decl))}
	case *schema.Union:
		return []string{fmt.Sprintf("var _ %s", goName(&d.Decl))}
	case *schema.Const:
		return []string{fmt.Sprintf("_ = %s.%s", golang.PackageName(d.Module), golang.ConstName(d))}
	case *schema.Service:
		return []string{fmt.Sprintf("_ = %s.New%sClient", golang.PackageName(d.Module), d.Name)}
	case *schema.Module:
		return []string{fmt.Sprintf("import _ \".../%s\"", golang.Folder(d))}
	}
	return nil
}

// goBase judges what a named type is over: code converts to it and from it, which
// between numbers goes on, and writes literals, which must fit.
func goBase(f *Fact) (Verdict, []string, string) {
	o, n := f.oldAny.(*schema.NamedType), f.newAny.(*schema.NamedType)
	if goSame(bare(o), bare(n)) {
		return Holds, nil, ""
	}
	new := golang.TypeName(bare(n))
	if literal := goLostLiteral(o.Type.Kind, n.Type.Kind); literal != "" {
		return Breaks, []string{fmt.Sprintf("var _ %s = %s", goName(&o.Decl), literal), fmt.Sprintf("// %s is over %s now", o.Name, new)}, ""
	}
	if isNumber(o.Type.Kind) && isNumber(n.Type.Kind) {
		return Shifts, nil, fmt.Sprintf("code that converts compiles, and a %s is over %s now", o.Name, new)
	}
	old := golang.TypeName(bare(o))
	return Breaks, []string{
		fmt.Sprintf("var v %s", old),
		fmt.Sprintf("var m %s = %s(v)", goName(&o.Decl), goName(&o.Decl)),
		fmt.Sprintf("v = %s(m)", parenthesised(old)),
		fmt.Sprintf("// %s is over %s now", o.Name, new),
	}, ""
}

func isNumber(k schema.Kind) bool {
	return k.IsInteger() || k == schema.KindFloat32 || k == schema.KindFloat64
}

// goLostLiteral is a literal of one kind that is none of another, or "".
func goLostLiteral(o, n schema.Kind) string {
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

// goSame tells whether a value of either type may stand where the other one is asked for:
// they are one type, as those are that an alias names; or only one of them is defined,
// over what the other one is.
func goSame(o, n *schema.Type) bool {
	a, b := golang.Shape(o), golang.Shape(n)
	if a == b {
		return true
	}
	composite := o.Kind == schema.KindList || o.Kind == schema.KindMap || o.Kind == schema.KindBytes
	return composite && o.Kind == n.Kind && (o.Named == nil) != (n.Named == nil) && golang.Shape(bareType(o)) == golang.Shape(bareType(n))
}

// goSameField is goSame for fields, some of which are pointers.
func goSameField(o, n *schema.Field) bool {
	pointer := func(f *schema.Field) bool { return strings.HasPrefix(golang.FieldTypeName(f), "*") }
	if pointer(o) || pointer(n) {
		return pointer(o) == pointer(n) && golang.Shape(o.Type) == golang.Shape(n.Type)
	}
	return goSame(o.Type, n.Type)
}

// parenthesised is a type as a conversion has it.
func parenthesised(t string) string { return "(" + t + ")" }

func goAlternative(f *Fact) []string {
	a := f.alternative.old
	return []string{fmt.Sprintf("var m %s.%s", golang.PackageName(a.Union.Module), golang.AlternativeName(a))}
}

func goConst(f *Fact) (Verdict, []string, string) {
	o, n := f.oldAny.(*schema.Const), f.newAny.(*schema.Const)
	if o.Type.Kind == n.Type.Kind {
		return Shifts, nil, "code compiles, and has another value"
	}
	return Breaks, []string{fmt.Sprintf("var v %s = %s.%s", golang.TypeName(o.Type), golang.PackageName(o.Module), golang.ConstName(o))}, ""
}

func goFieldAdded(f *Fact) (Verdict, []string, string) {
	n := f.field.new
	if n.Presence != schema.Required {
		return Holds, nil, ""
	}
	return Shifts, nil, fmt.Sprintf("code compiles, and writes %s as its zero value until it is set", golang.FieldName(n))
}

func goField(f *Fact) []string {
	o := f.field.old
	return []string{fmt.Sprintf("var m %s", goName(&o.Message.Decl)), fmt.Sprintf("_ = m.%s", golang.FieldName(o))}
}

func goFieldType(f *Fact) (Verdict, []string, string) {
	o, n := f.field.old, f.field.new
	if goSame(o.Type, n.Type) && goSameField(o, n) {
		return Holds, nil, ""
	}
	return Breaks, goTyped(o, n), ""
}

// goTyped reads a field into a variable of the type that it had.
func goTyped(o, n *schema.Field) []string {
	return []string{
		fmt.Sprintf("var m %s", goName(&o.Message.Decl)),
		fmt.Sprintf("var v %s = m.%s", golang.FieldTypeName(o), golang.FieldName(o)),
		fmt.Sprintf("// m.%s is %s now", golang.FieldName(n), golang.FieldTypeName(n)),
	}
}

func goPresence(f *Fact) (Verdict, []string, string) {
	o, n := f.field.old, f.field.new
	if golang.FieldTypeName(o) != golang.FieldTypeName(n) && golang.TypeName(o.Type) == golang.TypeName(n.Type) {
		return Breaks, goTyped(o, n), ""
	}
	if o.Presence == schema.Defaulted {
		return Breaks, []string{fmt.Sprintf("var m %s", goName(&o.Message.Decl)), fmt.Sprintf("_ = m.%sOrDefault()", golang.FieldName(o))}, ""
	}
	return Holds, nil, ""
}

func goMember(f *Fact) []string {
	m := f.member.old
	return []string{fmt.Sprintf("_ = %s.%s", golang.PackageName(m.Enum.Module), golang.MemberName(m))}
}

// TypeScript.

func tsUse(f *Fact) []string {
	switch d := f.oldAny.(type) {
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
	case *schema.Module:
		return []string{fmt.Sprintf("import \".../%s/types.js\";", typescript.Folder(d))}
	}
	return nil
}

// tsAlternative makes a value of an alternative as it was.
func tsAlternative(a *schema.Alternative) []string {
	return []string{
		fmt.Sprintf("declare const value: %s;", typescript.TypeName(a.Type)),
		fmt.Sprintf("const way: %s = { kind: %q, value };", a.Union.Name, a.Name),
	}
}

func tsConst(f *Fact) (Verdict, []string, string) {
	o, n := f.oldAny.(*schema.Const), f.newAny.(*schema.Const)
	if typescript.TypeName(o.Type) == typescript.TypeName(n.Type) {
		return Shifts, nil, "code compiles, and has another value"
	}
	return Breaks, []string{fmt.Sprintf("const v: %s = %s;", typescript.TypeName(o.Type), o.Name)}, ""
}

func tsFieldType(f *schema.Field) string {
	t := typescript.TypeName(f.Type)
	if f.Presence == schema.Optional {
		t += " | undefined"
	}
	return t
}

func tsField(f *Fact) []string {
	o := f.field.old
	return []string{fmt.Sprintf("declare const m: %s;", o.Message.Name), fmt.Sprintf("m.%s;", typescript.FieldName(o))}
}

// tsMake makes a message without a field.
func tsMake(m *schema.Message, without *schema.Field) []string {
	return []string{
		fmt.Sprintf("declare const others: Omit<%sInit, %q>;", m.Name, typescript.FieldName(without)),
		fmt.Sprintf("%s.make({ ...others });", typescript.ToolsName(&m.Decl)),
		fmt.Sprintf("// %s is missing", typescript.FieldName(without)),
	}
}

func tsPresence(f *Fact) (Verdict, []string, string) {
	o, n := f.field.old, f.field.new
	switch {
	case n.Presence == schema.Required:
		return Breaks, tsMake(n.Message, n), ""
	case n.Presence == schema.Optional:
		return Breaks, []string{
			fmt.Sprintf("declare const m: %s;", o.Message.Name),
			fmt.Sprintf("const v: %s = m.%s;", tsFieldType(o), typescript.FieldName(o)),
			fmt.Sprintf("// m.%s may be undefined now", typescript.FieldName(n)),
		}, ""
	}
	return Holds, nil, ""
}

func tsMember(f *Fact) []string {
	m := f.member.old
	return []string{fmt.Sprintf("const v: %s = %q;", m.Enum.Name, m.Name)}
}
