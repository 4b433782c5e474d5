package compare

import (
	"cmp"
	"fmt"
	"strings"

	"faithfulcourier/internal/schema"
)

// mend says how to get the same end without breaking.
func mend(f *Fact) string {
	switch f.Kind {
	case FieldAdded:
		n := f.field.new
		return fmt.Sprintf("make it optional, or give it a default: #%d %s %s?", n.Number, n.Name, n.Type.Local(n.Message.Module))
	case FieldGone:
		o := f.field.old
		if o.Presence == schema.Required {
			return fmt.Sprintf("first make it optional (#%d %s %s?), and remove it when no reader needs it any more; then keep its number: retired #%d %q",
				o.Number, o.Name, o.Type.Local(o.Message.Module), o.Number, o.Name)
		}
		return fmt.Sprintf("keep it as long as code uses it: %s", FieldText(o))
	case FieldRenamed:
		o, n := f.field.old, f.field.new
		return keepName(f.Old, FieldText(n), o.JSONName(), n.JSONName())
	case FieldRenumbered:
		return fmt.Sprintf("give it back its number: #%d %s", f.field.old.Number, f.field.old.Name)
	case FieldType:
		o, n := f.field.old, f.field.new
		return fmt.Sprintf("keep it as it is (%s), and add the new one beside it: #%d %s_2 %s?", FieldText(o), free(n.Message), n.Name, n.Type.Local(n.Message.Module))
	case FieldPresence:
		return fmt.Sprintf("leave it as it was: %s", FieldText(f.field.old))
	case MemberGone:
		return fmt.Sprintf("keep the member: %s", memberText(f.member.old))
	case FieldPlace:
		o := f.field.old
		if o.In == nil {
			return "leave it where it travels; where another place matters, add a field beside it"
		}
		return fmt.Sprintf("leave it where it travels: %s", f.Old)
	case TypeBounds:
		return fmt.Sprintf("leave its bounds as they were (%s), or only loosen them; for stricter ones declare another type beside it", orNone(f.Old))
	case TypeChanged:
		return fmt.Sprintf("leave it over %s, and declare another type beside it", f.Old)
	case TypeGone, UnionGone:
		return "keep it as long as code uses it"
	case AlternativeGone:
		return fmt.Sprintf("keep the alternative: %s", f.Old)
	case AlternativeAdded:
		return "let the servers know the alternative first, and use it in requests when all do"
	case AlternativeRenamed:
		return keepName(f.Old, alternativeText(f.alternative.new), f.alternative.old.JSONName(), f.alternative.new.JSONName())
	case AlternativeRenumbered:
		return fmt.Sprintf("give it back its number: %s", alternativeText(f.alternative.old))
	case AlternativeType:
		return fmt.Sprintf("keep it as it is (%s), and add another alternative beside it", alternativeText(f.alternative.old))
	case MemberAdded:
		return "let the servers know the member first, and use it in requests when all do"
	case MemberRenamed:
		return keepName(f.Old, memberText(f.member.new), f.member.old.JSONName(), f.member.new.JSONName())
	case FieldBounds:
		if f.Old == "" {
			return fmt.Sprintf("let servers check nothing new of old requests: leave %s without bounds, and tell clients in its documentation what is best", f.field.old.Name)
		}
		return fmt.Sprintf("leave its bounds as they were: %s, or only loosen them", f.Old)
	case CallHTTP, CallStream, CallRequest, CallAnswer:
		o, n := f.call.old, f.call.new
		path := httpText(n)
		if travels(o) == travels(n) && o.Path() == n.Path() {
			path = "" // two calls can't have one path
		}
		return fmt.Sprintf("keep it as it is (%s), and declare another call beside it: %s", callLine(o, "", httpText(o)), callLine(n, "_2", path))
	case CallNeeds:
		local := strings.NewReplacer(f.call.new.Service.Module.Name+".", "")
		return fmt.Sprintf("take the old credentials beside the new ones until no client shows them: needs %s | %s", local.Replace(cmp.Or(f.Old, "nothing")), local.Replace(cmp.Or(f.New, "nothing")))
	case CredentialChanged:
		c := f.newAny.(*schema.Credential)
		return fmt.Sprintf("keep it (%s), declare another one beside it, and take either until no client shows the old one: needs %s | %s_2", f.Old, c.Name, c.Name)
	case FieldJSON, MemberJSON, AlternativeJSON:
		return fmt.Sprintf("keep its name in JSON: json %q", f.Old)
	case MemberRenumbered:
		return fmt.Sprintf("give it back its number: %s", memberText(f.member.old))
	case CallGone:
		return "keep the call as long as it is called"
	case CallRenamed:
		if f.call.old.Path() != f.call.new.Path() {
			return fmt.Sprintf("keep the name %s, or keep its path: http POST %q", f.Old, f.call.old.Path())
		}
		return fmt.Sprintf("keep the name %s as long as code uses it", f.Old)
	case CallMoved:
		return fmt.Sprintf("leave it in service %s, as long as code uses it there", f.call.old.Service.FullName())
	case CallAdded:
		return "give it a path that no request of another call matches"
	case MessageMoved, EnumMoved, ErrorMoved, TypeMoved, UnionMoved, ConstMoved, ServiceMoved:
		return fmt.Sprintf("leave it in module %s", f.Where[:strings.LastIndexByte(f.Where, '.')])
	case MessageRenamed, EnumRenamed, ErrorRenamed, TypeRenamed, UnionRenamed, ConstRenamed, ServiceRenamed, ModuleRenamed:
		return fmt.Sprintf("keep the name %s", f.Old)
	case MessageGone, EnumGone, ErrorGone, ConstGone, ServiceGone, ModuleGone:
		return "keep it as long as code uses it"
	}
	return ""
}

// callLine is the line that declares a call.
func callLine(c *schema.Call, suffix, path string) string {
	side := func(m *schema.Message, stream bool) string {
		if m == nil {
			return ""
		}
		name := (&schema.Type{Kind: schema.KindMessage, Message: m}).Local(c.Service.Module)
		return map[bool]string{true: "stream "}[stream] + name
	}
	answer := cmp.Or(side(c.Response, c.ResponseStream), "()")
	return strings.TrimSpace(fmt.Sprintf("call %s%s(%s) -> %s %s", c.Name, suffix, side(c.Request, c.RequestStream), answer, path))
}

// keepName is the mend of another name, which matters to code, and to JSON unless
// the name there has stayed.
func keepName(name, now, jsonOld, jsonNew string) string {
	if jsonOld == jsonNew {
		return fmt.Sprintf("keep the name %s as long as code uses it", name)
	}
	return fmt.Sprintf("keep the name %s, or at least its name in JSON: %s json %q", name, now, jsonOld)
}

func orNone(bounds string) string {
	if bounds == "" {
		return "none"
	}
	return bounds
}

// free is a number that no field of a message has or had.
func free(m *schema.Message) int {
	n := 1
	for _, f := range m.Fields {
		n = max(n, f.Number+1)
	}
	for _, r := range m.Retired {
		n = max(n, r.Number+1)
	}
	return n
}
