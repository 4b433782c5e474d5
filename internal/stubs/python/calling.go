package python

import (
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/value"
)

// Calling writes a program that makes one call.
func (Language) Calling(c *schema.Call, sent stubs.Sent, options stubs.Options) string {
	p := &program{gen: packageOf(options), types: options.TypesAt, own: imports{}, names: map[string]*schema.Decl{}}
	if options.Types {
		p.types = p.gen
	}
	body := stubs.NewCode("    ")
	p.call(body, c, sent)
	head := stubs.NewCode("    ")
	for _, name := range slices.Sorted(slices.Values(p.plain)) {
		head.P("import %s", name)
	}
	p.standard.write(head)
	if len(p.plain)+len(p.standard) > 0 {
		head.P("")
	}
	p.own.write(head)
	head.P("")
	return strings.TrimLeft(string(head.Bytes())+string(body.Bytes()), "\n")
}

// program is one that makes a call, while it is written.
type program struct {
	gen, types string   // dotted names: of the stubs, of their types
	plain      []string // modules of the standard library that are imported whole
	standard   imports
	own        imports
	names      map[string]*schema.Decl // whose each name is
}

// std imports a module of the standard library.
func (p *program) std(name string) string {
	if !slices.Contains(p.plain, name) {
		p.plain = append(p.plain, name)
	}
	return name
}

func (p *program) from(module, name string) string {
	if p.standard == nil {
		p.standard = imports{}
	}
	p.standard.add(module, name)
	return name
}

// wire imports what all stubs share.
func (p *program) wire(name string) string {
	p.own.add(p.types+".faithful.wire", name)
	return name
}

// name imports what is declared, under a name of its own where another module has the same.
func (p *program) name(d *schema.Decl, name string) string {
	if other, taken := p.names[name]; taken && other.Module != d.Module {
		alias := strings.Join(Parts(d.Module), "_") + "_" + name
		p.own.add(module(p.types, d.Module), name+" as "+alias)
		return alias
	}
	p.names[name] = d
	p.own.add(module(p.types, d.Module), name)
	return name
}

func (p *program) call(c *stubs.Code, call *schema.Call, sent stubs.Sent) {
	class := call.Service.Name + "Client"
	p.own.add(module(p.gen, call.Service.Module), class)
	arguments := []string{quote(sent.Base)}
	var credentials []string
	for _, k := range conversation.FirstNeeded(call) {
		credentials = append(credentials, quote(k.FullName())+": "+p.std("os")+".environ["+quote(sent.Variable(k.Name))+"]")
	}
	if len(credentials) > 0 {
		arguments = append(arguments, stubs.Rows("{", []string{quote("credentials") + ": " +
			stubs.Rows("{", credentials, "}")}, "}"))
	}
	c.P("%s", stubs.Call("client = "+class, arguments...))
	var given []string
	if sent.Head != nil {
		given = append(given, p.message(sent.Head, nil))
	}
	if sent.Request != nil {
		request := p.message(sent.Request, conversation.Raw(call))
		if call.RequestStream {
			request = stubs.Rows("[", []string{request}, "]")
		}
		given = append(given, request)
	}
	made := stubs.Call("client."+CallName(call), given...)
	answered := conversation.AnswerRaw(call)
	switch {
	case call.ResponseStream:
		block(c, "with "+made+" as elements:", func() {
			block(c, "for element in elements:", func() { c.P("print(element)") })
		})
	case call.Response == nil:
		c.P("%s", made)
	case answered != nil:
		c.P("answer = %s", made)
		block(c, "with open("+quote(answered.Name)+", \"wb\") as file:", func() {
			block(c, "for chunk in answer."+FieldName(answered)+":", func() { c.P("file.write(chunk)") })
		})
	default:
		c.P("answer = %s", made)
		c.P("print(answer)")
	}
	c.P("client.close()")
}

// message writes a message; raw is its field that is a body, which comes from a file, or nil.
func (p *program) message(m *value.Message, raw *schema.Field) string {
	var arguments []string
	for f, v := range stubs.Given(m) {
		text := "None"
		if v != value.Value(value.Cleared{}) {
			text = p.value(f.Type, v)
		}
		arguments = append(arguments, FieldName(f)+"="+text)
	}
	if raw != nil {
		arguments = append(arguments, FieldName(raw)+"="+p.wire("Body")+"(open("+quote(raw.Name)+", \"rb\").read(), "+
			quote(conversation.SampleType(raw.In.Name))+")")
	}
	return p.name(&m.Type.Decl, m.Type.Name) + stubs.Rows("(", arguments, ")")
}

func (p *program) value(t *schema.Type, v value.Value) string {
	text := p.plainValue(t, v)
	if t.Named != nil && isDistinct(t) {
		return p.name(&t.Named.Decl, t.Named.Name) + stubs.Brackets("(", []string{text}, ")")
	}
	return text
}

// plainValue writes a value as what its type is over.
func (p *program) plainValue(t *schema.Type, v value.Value) string {
	switch v := v.(type) {
	case value.List:
		items := make([]string, len(v))
		for i, item := range v {
			items[i] = p.value(t.Elem, item)
		}
		return stubs.Rows("[", items, "]")
	case *value.Map:
		var items []string
		for _, e := range v.Entries {
			items = append(items, p.value(t.Key, e.Key)+": "+p.value(t.Elem, e.Value))
		}
		return stubs.Rows("{", items, "}")
	case *value.Message:
		return p.message(v, nil)
	case *value.Union:
		a := t.Union.ByNumber(v.Number)
		return p.name(&t.Union.Decl, AlternativeName(a)) + stubs.Brackets("(", []string{p.value(a.Type, v.Value)}, ")")
	case value.Enum:
		class := p.name(&t.Enum.Decl, t.Enum.Name)
		if m := t.Enum.ByNumber(v.Number); m != nil {
			return class + "." + MemberName(m)
		}
		return class + "(" + quote("#"+strconv.Itoa(v.Number)) + ")"
	case schema.Any:
		return p.any(v)
	case bool:
		if v {
			return "True"
		}
		return "False"
	case string:
		return quote(v)
	case []byte:
		return bytesLiteral(v)
	case float32:
		return floatOf(float64(v))
	case float64:
		return floatOf(v)
	case schema.UUID:
		return p.from("uuid", "UUID") + "(" + quote(v.String()) + ")"
	case schema.Instant:
		return p.wire("Instant") + ".parse(" + quote(v.String()) + ")"
	case schema.Duration:
		return p.wire("Duration") + ".parse(" + quote(v.String()) + ")"
	case schema.Decimal:
		return p.from("decimal", "Decimal") + "(" + quote(v.String()) + ")"
	case schema.Date:
		day := time.Unix(int64(v)*86400, 0).UTC()
		return p.from("datetime", "date") + day.Format("(2006, 1, 2)")
	}
	return schema.LiteralText(v)
}

// floatOf writes a number that is none of Python's literals, too.
func floatOf(v float64) string {
	switch {
	case math.IsNaN(v):
		return `float("nan")`
	case math.IsInf(v, 1):
		return `float("inf")`
	case math.IsInf(v, -1):
		return `float("-inf")`
	}
	return pythonFloat(v)
}

func (p *program) any(v schema.Any) string {
	switch v := v.Value.(type) {
	case nil:
		return "None"
	case []schema.Any:
		var items []string
		for _, item := range v {
			items = append(items, p.any(item))
		}
		return stubs.Rows("[", items, "]")
	case []schema.AnyEntry:
		var items []string
		for _, e := range v {
			items = append(items, quote(e.Key)+": "+p.any(e.Value))
		}
		return stubs.Rows("{", items, "}")
	default:
		return p.plainValue(nil, v)
	}
}
