package golang

import (
	"fmt"
	"go/format"
	"math"
	"slices"
	"strconv"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/value"
)

// Calling writes a program that makes one call.
func (Language) Calling(c *schema.Call, sent stubs.Sent, options stubs.Options) string {
	root := strings.Trim(options.Package, "/")
	types := root
	if !options.Types {
		types = strings.Trim(options.TypesAt, "/")
	}
	g := &generator{Code: stubs.NewCode("\t"), module: &schema.Module{Name: "main"}, root: root, types: types,
		imports: map[string]string{}, beside: reached(c.Service.Module)}
	g.P("")
	g.In("func main() {", func() { g.calling(c, sent) }, "}")
	head := stubs.NewCode("\t")
	g.head(head, "main")
	source := append(head.Bytes(), g.Bytes()...)
	if formatted, err := format.Source(source); err == nil {
		source = formatted // else its reader will see what is wrong
	}
	return strings.TrimSpace(string(source)) + "\n"
}

// reached are a module and all that it uses, by whatever way.
func reached(m *schema.Module) []*schema.Module {
	list := []*schema.Module{m}
	for i := 0; i < len(list); i++ {
		for _, used := range list[i].Uses() {
			if !slices.Contains(list, used) {
				list = append(list, used)
			}
		}
	}
	return list
}

// calling writes the statements that make a client and a call, and print what comes back.
func (g *generator) calling(c *schema.Call, sent stubs.Sent) {
	service := g.use(Folder(c.Service.Module), importName(c.Service.Module, g.beside))
	arguments := []string{strconv.Quote(sent.Base)}
	for _, k := range conversation.FirstNeeded(c) {
		arguments = append(arguments, fmt.Sprintf("%s.WithCredential(%q, %s.Getenv(%q))", g.web(), k.FullName(), g.std("os"),
			sent.Variable(k.Name)))
	}
	made := strings.Join(arguments, ", ")
	if len(made) > 80 {
		made = "\n" + strings.Join(arguments, ",\n") + ",\n"
	}
	g.P("client := %s.New%sClient(%s)", service, c.Service.Name, made)
	raw := ""
	if f := conversation.Raw(c); f != nil {
		raw = FieldName(f)
		g.P("r, err := %s.Open(%q)", g.std("os"), f.Name)
		g.fatal()
	}
	context := g.std("context") + ".Background()"
	head := ""
	if sent.Head != nil {
		head = ", " + g.made(sent.Head, "", "")
	}
	call := "client." + CallName(c)
	request := ""
	if sent.Request != nil {
		request = g.made(sent.Request, raw, "r")
	}
	show := func(what string) { g.P("%s.Printf(\"%%+v\\n\", %s)", g.std("fmt"), what) }
	switch {
	case conversation.BothWays(c):
		g.P("talk, err := %s(%s%s)", call, context, head)
		g.fatal()
		g.P("defer talk.Close()")
		g.failing("err := talk.Send(" + request + ")")
		g.failing("err := talk.Finish()")
		g.In("for element, err := range talk.All() {", func() { g.fatal(); show("element") }, "}")
	case c.RequestStream:
		g.P("sender := %s(%s%s)", call, context, head)
		g.failing("err := sender.Send(" + request + ")")
		if c.Response == nil {
			g.failing("err := sender.Finish()")
			return
		}
		g.P("answer, err := sender.Finish()")
		g.fatal()
		show("answer")
	default:
		if request != "" {
			request = ", " + request
		}
		call = fmt.Sprintf("%s(%s%s)", call, context, request)
		answered := conversation.AnswerRaw(c)
		switch {
		case c.ResponseStream:
			g.In("for element, err := range "+call+" {", func() { g.fatal(); show("element") }, "}")
		case c.Response == nil:
			g.failing("err := " + call)
		case answered != nil:
			g.P("answer, err := %s", call)
			g.fatal()
			g.P("defer answer.%s.Close()", FieldName(answered))
			g.failing(fmt.Sprintf("_, err := %s.Copy(%s.Stdout, answer.%s)", g.std("io"), g.std("os"), FieldName(answered)))
		default:
			g.P("answer, err := %s", call)
			g.fatal()
			show("answer")
		}
	}
}

// fatal ends the program where err says why.
func (g *generator) fatal() {
	g.In("if err != nil {", func() { g.P("%s.Fatal(err)", g.std("log")) }, "}")
}

// failing ends the program where a statement says why.
func (g *generator) failing(statement string) {
	g.In("if "+statement+"; err != nil {", func() { g.P("%s.Fatal(err)", g.std("log")) }, "}")
}

// made writes a message that is made and pointed to; raw is its field that is a body, which comes from a file.
func (g *generator) made(m *value.Message, raw, file string) string {
	text := "&" + g.name(&m.Type.Decl) + g.fieldsOf(m)
	if raw == "" {
		return text
	}
	body := fmt.Sprintf("%s: %s.Body{Reader: %s, MediaType: %q},", raw, g.wire(), file,
		conversation.SampleType(m.Type.Raw().In.Name))
	if rest, ok := strings.CutSuffix(text, "{}"); ok {
		return rest + "{" + strings.TrimSuffix(body, ",") + "}"
	}
	return strings.TrimSuffix(text, "}") + "\t" + body + "\n}"
}

// fieldsOf writes the fields of a message in braces, a line each.
func (g *generator) fieldsOf(m *value.Message) string {
	var b strings.Builder
	for f, v := range stubs.Given(m) {
		fmt.Fprintf(&b, "\t%s: %s,\n", FieldName(f), g.fieldValue(f, v))
	}
	if b.Len() == 0 {
		return "{}"
	}
	return "{\n" + b.String() + "}"
}

func (g *generator) fieldValue(f *schema.Field, v value.Value) string {
	switch {
	case f.Changes != nil && v == value.Value(value.Cleared{}):
		return fmt.Sprintf("%s.Clear[%s]()", g.wire(), g.typ(f.Type))
	case f.Changes != nil && f.Type.Kind == schema.KindUnion: // whose type is not that of its alternative
		return fmt.Sprintf("%s.Set[%s](%s)", g.wire(), g.typ(f.Type), g.valueOf(f.Type, v))
	case f.Changes != nil:
		return fmt.Sprintf("%s.Set(%s)", g.wire(), g.typedValue(f.Type, v))
	case f.Presence == schema.Required || nilable(f.Type):
		return g.valueOf(f.Type, v)
	case f.Type.Kind == schema.KindMessage:
		return "&" + g.valueOf(f.Type, v)
	}
	return fmt.Sprintf("%s.Pointer(%s)", g.wire(), g.typedValue(f.Type, v))
}

// typedValue is valueOf where nothing else tells the type.
func (g *generator) typedValue(t *schema.Type, v value.Value) string {
	text := g.valueOf(t, v)
	switch k := t.Kind; {
	case k == schema.KindList || k == schema.KindMap || k == schema.KindMessage || k == schema.KindUnion ||
		k == schema.KindEnum || k == schema.KindAny:
		return text
	case isDefined(t), k.IsInteger(), k == schema.KindFloat32, k == schema.KindFloat64:
		return fmt.Sprintf("%s(%s)", g.typ(t), text)
	case k == schema.KindDuration && !strings.Contains(text, "time."):
		return fmt.Sprintf("%s.Duration(%s)", g.std("time"), text)
	}
	return text
}

// valueOf writes a value where its type is known.
func (g *generator) valueOf(t *schema.Type, v value.Value) string {
	switch v := v.(type) {
	case value.List:
		items := make([]string, len(v))
		for i, item := range v {
			items[i] = g.inside(t.Elem, item)
		}
		return g.typ(t) + braced(items)
	case *value.Map:
		var items []string
		for _, e := range v.Entries {
			items = append(items, g.keyOf(t.Key, e.Key)+": "+g.inside(t.Elem, e.Value))
		}
		return g.typ(t) + braced(items)
	case *value.Message:
		return g.name(&v.Type.Decl) + g.fieldsOf(v)
	case *value.Union:
		a := t.Union.ByNumber(v.Number)
		d := t.Union.Decl
		d.Name = AlternativeName(a)
		return fmt.Sprintf("%s{Value: %s}", g.name(&d), g.valueOf(a.Type, v.Value))
	case value.Enum:
		return g.keyOf(t, v)
	case schema.Any:
		return g.anyOf(v)
	case schema.UUID, []byte:
		if isDefined(t) {
			return fmt.Sprintf("%s(%s)", g.typ(t), g.literal(v))
		}
	case float32:
		return g.float(float64(v), 32)
	case float64:
		return g.float(v, 64)
	case schema.Duration:
		if text := g.literal(v); text == "0" || strings.Contains(text, "time.") {
			return text
		}
	}
	return g.literal(v)
}

// inside is a value in a list or map, whose type need not be said again.
func (g *generator) inside(t *schema.Type, v value.Value) string {
	if m, is := v.(*value.Message); is {
		return g.fieldsOf(m)
	}
	return g.valueOf(t, v)
}

// keyOf writes a key, or a member.
func (g *generator) keyOf(t *schema.Type, v value.Value) string {
	e, is := v.(value.Enum)
	if !is {
		return g.literal(v)
	}
	if m := t.Enum.ByNumber(e.Number); m != nil {
		return g.member(m)
	}
	return fmt.Sprintf("%s(%q)", g.name(&t.Enum.Decl), "#"+strconv.Itoa(e.Number))
}

func braced(items []string) string {
	short := "{" + strings.Join(items, ", ") + "}"
	if len(short) < 60 && !strings.Contains(short, "\n") {
		return short
	}
	return "{\n" + strings.Join(items, ",\n") + ",\n}"
}

// float writes a number that is none of Go's literals, too.
func (g *generator) float(v float64, bits int) string {
	switch {
	case math.IsNaN(v):
		return g.std("math") + ".NaN()"
	case math.IsInf(v, 0):
		return fmt.Sprintf("%s.Inf(%d)", g.std("math"), int(math.Copysign(1, v)))
	}
	return strconv.FormatFloat(v, 'g', -1, bits)
}

func (g *generator) anyOf(v schema.Any) string { return g.wire() + ".MustAny(" + g.plainAny(v) + ")" }

// plainAny writes what AnyOf takes.
func (g *generator) plainAny(v schema.Any) string {
	switch v := v.Value.(type) {
	case nil:
		return "nil"
	case string:
		return strconv.Quote(v)
	case float64:
		text := strconv.FormatFloat(v, 'g', -1, 64)
		if !strings.ContainsAny(text, ".e") {
			text += ".0"
		}
		return text
	case uint64:
		return fmt.Sprintf("uint64(%d)", v)
	case []schema.Any:
		var items []string
		for _, item := range v {
			items = append(items, g.plainAny(item))
		}
		return "[]any" + braced(items)
	case []schema.AnyEntry:
		var items []string
		for _, e := range v {
			items = append(items, strconv.Quote(e.Key)+": "+g.plainAny(e.Value))
		}
		return "map[string]any" + braced(items)
	default:
		return fmt.Sprint(v)
	}
}
