package typescript

import (
	"fmt"
	"math"
	"path"
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
	p := &program{into: "./" + path.Base(options.Into)}
	switch {
	case options.Types:
		p.types = p.into
	case options.TypesInPackage:
		p.types = options.TypesAt
	default:
		p.types = path.Join(p.into, options.TypesAt)
		if !strings.HasPrefix(p.types, ".") {
			p.types = "./" + p.types
		}
	}
	body := stubs.NewCode("  ")
	p.call(body, c, sent)
	head := stubs.NewCode("  ")
	if p.read || p.write {
		var names []string
		if p.read {
			names = append(names, "readFile")
		}
		if p.write {
			names = append(names, "writeFile")
		}
		head.P("import { %s } from \"node:fs/promises\";", strings.Join(names, ", "))
		head.P("")
	}
	if conversation.BothWays(c) {
		head.P("import { nodeSocket } from %s;", text(p.into+"/faithful/socket.js"))
	}
	if len(p.wire) > 0 {
		slices.Sort(p.wire)
		head.P("import { %s } from %s;", strings.Join(p.wire, ", "), text(p.types+"/faithful/wire.js"))
	}
	head.P("import { %sClient } from %s;", c.Service.Name, text(p.into+"/"+Folder(c.Service.Module)+"/client.js"))
	head.P("")
	return strings.TrimLeft(string(head.Bytes())+string(body.Bytes()), "\n")
}

// program is one that makes a call, while it is written.
type program struct {
	into, types string   // where the stubs are, and their types
	wire        []string // what is imported of what all stubs share
	read, write bool     // whether it reads or writes a file
}

func (p *program) shared(name string) string {
	if !slices.Contains(p.wire, name) {
		p.wire = append(p.wire, name)
	}
	return name
}

func (p *program) call(c *stubs.Code, call *schema.Call, sent stubs.Sent) {
	var options, credentials []string
	for _, k := range conversation.FirstNeeded(call) {
		credentials = append(credentials, fmt.Sprintf("%s: process.env[%s]", text(k.FullName()),
			text(sent.Variable(k.Name))))
	}
	if len(credentials) > 0 {
		options = append(options, "credentials: "+literal(credentials))
	}
	if conversation.BothWays(call) {
		options = append(options, "socket: nodeSocket")
	}
	arguments := []string{text(sent.Base)}
	if len(options) > 0 {
		arguments = append(arguments, literal(options))
	}
	c.P("const client = %s;", stubs.Call("new "+call.Service.Name+"Client", arguments...))
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
		c.In(fmt.Sprintf("for await (const element of %s) {", made), func() { c.P("console.log(element);") }, "}")
	case call.Response == nil:
		c.P("await %s;", made)
	case answered != nil:
		p.write = true
		c.P("const answer = await %s;", made)
		c.P("await writeFile(%s, await answer.%s.bytes());", text(answered.Name), FieldName(answered))
	default:
		c.P("const answer = await %s;", made)
		c.P("console.log(answer);")
	}
}

// literal writes members in braces, with a blank inside where they are on one line.
func literal(members []string) string {
	if len(members) == 0 {
		return "{}"
	}
	return stubs.Padded("{", members, "}")
}

// message writes what makes a message; raw is its field that is a body, which comes from a file, or nil.
func (p *program) message(m *value.Message, raw *schema.Field) string {
	var members []string
	for f, v := range stubs.Given(m) {
		text := "null"
		if v != value.Value(value.Cleared{}) {
			text = p.value(f.Type, v)
		}
		members = append(members, FieldName(f)+": "+text)
	}
	if raw != nil {
		p.read = true
		members = append(members, fmt.Sprintf("%s: new %s(new Uint8Array(await readFile(%s)), { mediaType: %s })",
			FieldName(raw), p.shared("Body"), text(raw.Name), text(conversation.SampleType(raw.In.Name))))
	}
	return literal(members)
}

// value writes what makes a value: plain ones where that is enough.
func (p *program) value(t *schema.Type, v value.Value) string {
	switch v := v.(type) {
	case value.List:
		items := make([]string, len(v))
		for i, item := range v {
			items[i] = p.value(t.Elem, item)
		}
		return stubs.Rows("[", items, "]")
	case *value.Map:
		return p.mapping(t, v)
	case *value.Message:
		return p.message(v, nil)
	case *value.Union:
		a := t.Union.ByNumber(v.Number)
		return literal([]string{"kind: " + text(a.Name), "value: " + p.value(a.Type, v.Value)})
	case value.Enum:
		if m := t.Enum.ByNumber(v.Number); m != nil {
			return text(m.Name)
		}
		return text("#" + strconv.Itoa(v.Number))
	case schema.Any:
		return p.any(v)
	case string:
		return text(v)
	case []byte:
		var numbers []string
		for _, b := range v {
			numbers = append(numbers, strconv.Itoa(int(b)))
		}
		return "new Uint8Array(" + stubs.Rows("[", numbers, "]") + ")"
	case float32:
		return number(float64(v))
	case float64:
		return number(v)
	case int64, uint64:
		if t.Kind == schema.KindInt64 || t.Kind == schema.KindUint64 {
			return fmt.Sprint(v) + "n"
		}
		return fmt.Sprint(v)
	case schema.UUID:
		return text(v.String())
	case schema.Decimal:
		return text(v.String())
	case schema.Instant:
		return p.shared("Instant") + ".parse(" + text(v.String()) + ")"
	case schema.Date:
		return p.shared("CalendarDate") + ".parse(" + text(v.String()) + ")"
	case schema.Duration:
		return p.shared("Duration") + ".parse(" + text(v.String()) + ")"
	}
	return fmt.Sprint(v)
}

// mapping writes a map: as an object where its keys are texts.
func (p *program) mapping(t *schema.Type, m *value.Map) string {
	var entries []string
	plain := t.Key.Kind == schema.KindText
	for _, e := range m.Entries {
		if key := p.value(t.Key, e.Key); plain {
			entries = append(entries, key+": "+p.value(t.Elem, e.Value))
		} else {
			entries = append(entries, stubs.Rows("[", []string{key, p.value(t.Elem, e.Value)}, "]"))
		}
	}
	if plain {
		return literal(entries)
	}
	if len(entries) == 0 {
		return "new Map()"
	}
	return "new Map(" + stubs.Rows("[", entries, "]") + ")"
}

// number writes a number that is none of JavaScript's literals, too.
func number(v float64) string {
	switch {
	case math.IsNaN(v):
		return "NaN"
	case math.IsInf(v, 0):
		return strings.TrimPrefix(fmt.Sprintf("%+v", v), "+") + "inity"
	}
	return strconv.FormatFloat(v, 'g', -1, 64)
}

func (p *program) any(v schema.Any) string {
	switch v := v.Value.(type) {
	case nil:
		return "null"
	case string:
		return text(v)
	case float64:
		return number(v)
	case int64, uint64:
		return fmt.Sprint(v) + "n"
	case []schema.Any:
		var items []string
		for _, item := range v {
			items = append(items, p.any(item))
		}
		return stubs.Rows("[", items, "]")
	case []schema.AnyEntry:
		var entries []string
		for _, e := range v {
			entries = append(entries, stubs.Rows("[", []string{text(e.Key), p.any(e.Value)}, "]"))
		}
		if len(entries) == 0 {
			return "new Map()"
		}
		return "new Map<string, " + p.anyType() + ">(" + stubs.Rows("[", entries, "]") + ")"
	default:
		return fmt.Sprint(v)
	}
}

// anyType imports the type of any: what the compiler makes of entries of several types is none that it takes.
func (p *program) anyType() string {
	p.shared("type Any")
	return "Any"
}
