package java

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/syntax"
	"faithfulcourier/internal/value"
)

// program begins a file of a user's, in a package of its own or in none.
func program(options stubs.Options, packageName, self string) *file {
	o := &output{options: options, root: options.Package, types: options.TypesAt}
	if options.Types {
		o.types = o.root
	}
	return &file{Code: stubs.NewCode("  "), output: o, packageName: packageName, self: self,
		top:    map[string]bool{self: true},
		nested: map[string]bool{}, imports: map[string]string{}}
}

// Calling writes a program that makes one call.
func (Language) Calling(c *schema.Call, sent stubs.Sent, options stubs.Options) string {
	self := syntax.PascalCase(c.Name) + "Once"
	f := program(options, "", self)
	f.In(fmt.Sprintf("public final class %s {", self), func() {
		f.In(fmt.Sprintf("public static void main(%s[] arguments) throws %s {", f.lang("String"), f.lang("Exception")),
			func() { f.calling(c, sent) }, "}")
	}, "}")
	return f.source()
}

// service writes the type of a service, by what its name begins or ends with.
func (f *file) service(s *schema.Service, affix string) string {
	return f.use(f.root + "." + Below(s.Module) + "." + s.Name + affix)
}

// clientOf writes what makes a client: its base, and more steps in its making.
func (f *file) clientOf(s *schema.Service, base string, steps []string) {
	client := f.service(s, "Client")
	chain := client + ".to(" + base + ")" + strings.Join(steps, "") + ".build();"
	if line := client + " client = " + chain; len(line) < stubs.Width-8 {
		f.P("%s", line)
		return
	}
	f.P("%s client =", client)
	f.Deeper(2, func() {
		f.P("%s.to(%s)", client, base)
		f.Deeper(2, func() {
			for _, step := range steps {
				f.P("%s", step)
			}
			f.P(".build();")
		})
	})
}

// calling writes the statements that make a client and a call, and print what comes back.
func (f *file) calling(c *schema.Call, sent stubs.Sent) {
	out := f.lang("System") + ".out"
	var steps []string
	for _, k := range conversation.FirstNeeded(c) {
		steps = append(steps, fmt.Sprintf(".credential(%s, %s.getenv(%s))", quote(k.FullName()), f.lang("System"),
			quote(sent.Variable(k.Name))))
	}
	f.clientOf(c.Service, quote(sent.Base), steps)
	argument := ""
	if sent.Head != nil {
		argument = "head"
		f.local(sent.Head, argument, "")
	}
	if sent.Request != nil {
		name := "request"
		if c.RequestStream {
			name = "element"
		} else {
			argument = name
		}
		content := ""
		if raw := conversation.Raw(c); raw != nil {
			content = fmt.Sprintf("%s.of(%s)", f.use("java.nio.file.Path"), quote(raw.Name))
		}
		f.local(sent.Request, name, content)
	}
	call := fmt.Sprintf("client.%s(%s)", CallName(c), argument)
	trying := func(typ, name string, body func()) {
		f.In(fmt.Sprintf("try (%s %s = %s) {", typ, name, call), body, "}")
	}
	switch {
	case conversation.BothWays(c):
		trying(fmt.Sprintf("%s<%s, %s>", f.web("Conversation"), f.side(c.Request), f.side(c.Response)), "talk", func() {
			f.P("talk.send(element);")
			f.P("talk.finish();")
			f.P("talk.forEachRemaining(%s::println);", out)
		})
	case c.RequestStream:
		trying(fmt.Sprintf("%s<%s, %s>", f.web("Sender"), f.side(c.Request), f.side(c.Response)), "sender", func() {
			f.P("sender.send(element);")
			if c.Response == nil {
				f.P("sender.finish();")
			} else {
				f.P("%s.println(sender.finish());", out)
			}
		})
	case c.ResponseStream:
		trying(fmt.Sprintf("%s<%s>", f.web("AnswerStream"), f.side(c.Response)), "answers",
			func() { f.P("answers.forEachRemaining(%s::println);", out) })
	case c.Response == nil:
		f.P("%s;", call)
	case conversation.AnswerRaw(c) != nil:
		f.In(fmt.Sprintf("try (%s answer = %s.%s()) {", f.wire("Body"), call, FieldName(conversation.AnswerRaw(c))),
			func() { f.P("answer.transferTo(%s);", out) }, "}")
	default:
		f.P("%s.println(%s);", out, call)
	}
}

// local writes a variable with a message; content is what its field has that is a body, if one is.
func (f *file) local(m *value.Message, name, content string) {
	steps := f.steps(m)
	if raw := m.Type.Raw(); raw != nil && content != "" {
		steps = append(steps, fmt.Sprintf(".%s(%s.of(%s, %s))", FieldName(raw), f.wire("Body"),
			quote(conversation.SampleType(raw.In.Name)), content))
	}
	typ := f.name(&m.Type.Decl)
	if text := fmt.Sprintf("%s %s = %s", typ, name, built(typ, steps)); !strings.Contains(text, "\n") &&
		len(text) < stubs.Width-8 {
		f.P("%s;", text)
		return
	}
	f.P("%s %s =", typ, name)
	f.Deeper(2, func() { f.lines(indented(typ, steps) + ";") })
}

// steps are what sets the fields of a message that is being built.
func (f *file) steps(m *value.Message) (steps []string) {
	for x, v := range stubs.Given(m) {
		switch {
		case x.Changes != nil && v == value.Value(value.Cleared{}):
			steps = append(steps, fmt.Sprintf(".clear%s()", syntax.PascalCase(x.Name)))
		case x.Changes != nil:
			steps = append(steps, fmt.Sprintf(".set%s(%s)", syntax.PascalCase(x.Name), f.valueOf(x.Type, v)))
		default:
			steps = append(steps, fmt.Sprintf(".%s(%s)", FieldName(x), f.valueOf(x.Type, v)))
		}
	}
	return steps
}

// built writes a message, in one line where it is short.
func built(typ string, steps []string) string {
	if len(steps) < 3 {
		text := typ + ".builder()" + strings.Join(steps, "") + ".build()"
		if len(text) < 70 && !strings.Contains(text, "\n") {
			return text
		}
	}
	return indented(typ, steps)
}

func indented(typ string, steps []string) string {
	var b strings.Builder
	b.WriteString(typ + ".builder()")
	for _, step := range append(steps, ".build()") {
		b.WriteString("\n    " + strings.ReplaceAll(step, "\n", "\n    "))
	}
	return b.String()
}

// valueOf writes a value of a type.
func (f *file) valueOf(t *schema.Type, v value.Value) string {
	switch v := v.(type) {
	case value.List:
		items := make([]string, len(v))
		for i, item := range v {
			items[i] = f.valueOf(t.Elem, item)
		}
		return listed(f.use("java.util.List")+".of(", items)
	case *value.Map:
		return f.mapOf(t, v)
	case *value.Message:
		return built(f.name(&v.Type.Decl), f.steps(v))
	case *value.Union:
		a := t.Union.ByNumber(v.Number)
		return listed(fmt.Sprintf("new %s.%s(", f.name(&t.Union.Decl), AlternativeName(a)), []string{f.valueOf(a.Type,
			v.Value)})
	case value.Enum:
		if m := t.Enum.ByNumber(v.Number); m != nil {
			return f.literal(t, m)
		}
		return fmt.Sprintf("%s.ofNumber(%d)", f.name(&t.Enum.Decl), v.Number)
	case schema.Any:
		return f.anyOf(v)
	case float32:
		return f.number(float64(v), t, "Float")
	case float64:
		return f.number(v, t, "Double")
	}
	return f.literal(t, v)
}

// number writes a number that none of Java's literals is, too.
func (f *file) number(v float64, t *schema.Type, class string) string {
	name := map[bool]string{true: "POSITIVE_INFINITY", false: "NEGATIVE_INFINITY"}[v > 0]
	switch {
	case math.IsNaN(v):
		name = "NaN"
	case !math.IsInf(v, 0):
		if class == "Float" {
			return f.literal(t, float32(v))
		}
		return f.literal(t, v)
	}
	return f.lang(class) + "." + name
}

// mapOf writes a map. Map.of takes ten entries at the most.
func (f *file) mapOf(t *schema.Type, m *value.Map) string {
	class := f.use("java.util.Map")
	var items []string
	if len(m.Entries) <= 10 {
		for _, e := range m.Entries {
			items = append(items, f.valueOf(t.Key, e.Key)+", "+f.valueOf(t.Elem, e.Value))
		}
		return listed(class+".of(", items)
	}
	for _, e := range m.Entries {
		items = append(items, listed(class+".entry(", []string{f.valueOf(t.Key, e.Key), f.valueOf(t.Elem, e.Value)}))
	}
	return listed(class+".ofEntries(", items)
}

// listed writes a call with its arguments, in one line where they are short.
func listed(open string, items []string) string {
	text := open + strings.Join(items, ", ") + ")"
	if len(text) < 70 && !strings.Contains(text, "\n") || len(items) == 0 {
		return text
	}
	return open + "\n    " + strings.ReplaceAll(strings.Join(items, ",\n"), "\n", "\n    ") + ")"
}

func (f *file) anyOf(v schema.Any) string {
	return listed(f.wire("Any")+".of(", []string{f.plainAny(v)})
}

// plainAny writes what Any.of takes.
func (f *file) plainAny(v schema.Any) string {
	var items []string
	switch v := v.Value.(type) {
	case nil:
		return "null"
	case string:
		return quote(v)
	case []byte:
		return bytesLiteral(v)
	case float64:
		return floatLiteral(v, 64)
	case uint64:
		if v <= math.MaxInt64 {
			return strconv.FormatUint(v, 10) + "L"
		}
		return fmt.Sprintf("new %s(%q)", f.use("java.math.BigInteger"), strconv.FormatUint(v, 10))
	case int64:
		return strconv.FormatInt(v, 10) + "L"
	case []schema.Any:
		for _, item := range v {
			items = append(items, f.anyOf(item))
		}
		return listed(f.use("java.util.List")+".of(", items)
	case []schema.AnyEntry:
		class := f.use("java.util.Map")
		for _, e := range v {
			items = append(items, listed(class+".entry(", []string{quote(e.Key), f.anyOf(e.Value)}))
		}
		return listed(class+".ofEntries(", items)
	default:
		return fmt.Sprint(v)
	}
}
