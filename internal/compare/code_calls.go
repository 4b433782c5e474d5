package compare

import (
	"fmt"
	"slices"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs/golang"
	"faithfulcourier/internal/stubs/python"
	"faithfulcourier/internal/stubs/typescript"
	"faithfulcourier/internal/syntax"
)

// callRule says what a kind of fact about calls does to the code of those who call,
// and of those who implement.
type callRule struct{ callers, implementers codeRule }

// callTable is the table for code about calls and services.
var callTable = map[string]map[Kind]callRule{
	"go": {
		ServiceGone: {always(goUse), always(func(f *Fact) []string {
			s := f.oldAny.(*schema.Service)
			return []string{fmt.Sprintf("_ = %s.Serve%s", golang.PackageName(s.Module), s.Name)}
		})},
		CallGone:    {always(goCaller), always(goImplementer)},
		CallMoved:   {always(goCaller), always(goImplementer)},
		CallStream:  {always(goCaller), always(goImplementer)},
		CallRequest: {always(goCaller), always(goImplementer)},
		CallAnswer:  {always(goCaller), always(goImplementer)},
		CallRenamed: {unlessAlike(golang.CallName, goCaller), unlessAlike(golang.CallName, goImplementer)},
	},
	"typescript": {
		ServiceGone: {always(tsUse), always(func(f *Fact) []string {
			return []string{fmt.Sprintf("import { serve%s } from \".../server.js\";", f.oldAny.(*schema.Service).Name)}
		})},
		CallGone:    {always(tsCaller), always(tsImplementer)},
		CallMoved:   {always(tsCaller), always(tsImplementer)},
		CallStream:  {always(tsCaller), always(tsImplementer)},
		CallRenamed: {unlessAlike(typescript.CallName, tsCaller), unlessAlike(typescript.CallName, tsImplementer)},
		CallRequest: {
			when(func(f *Fact) bool {
				o, n := f.call.old.Request, f.call.new.Request
				return o == nil || n == nil || !tsTakes(n, o) || !tsShares(n, o)
			}, tsCaller),
			when(func(f *Fact) bool {
				o, n := f.call.old.Request, f.call.new.Request
				// Who takes no request takes none of any kind; else one must go for the other.
				return o != nil && (n == nil || !tsHolds(n, o) && !tsHolds(o, n))
			}, tsImplementer),
		},
		CallAnswer: {
			when(func(f *Fact) bool {
				o, n := f.call.old.Response, f.call.new.Response
				return o == nil || n == nil || !tsHolds(n, o)
			}, tsCaller),
			when(func(f *Fact) bool {
				o, n := f.call.old.Response, f.call.new.Response
				return o == nil || n == nil || !tsTakes(n, o)
			}, tsImplementer),
		},
	},
	"python": {
		ServiceGone: {pyGone, always(func(f *Fact) []string {
			return []string{"from … import serve_" + syntax.SnakeCase(f.oldAny.(*schema.Service).Name)}
		})},
		// A method that the class above has not is no mistake.
		CallGone:  {callers: always(pyCaller)},
		CallMoved: {callers: always(pyCaller)},
		CallRenamed: {unlessAlike(python.CallName, pyCaller), func(f *Fact) (Verdict, []string, string) {
			if python.CallName(f.call.old) == python.CallName(f.call.new) {
				return Holds, nil, ""
			}
			return Shifts, nil, fmt.Sprintf("code passes a type checker, and no longer serves the call: %s answers 501 until it is written", python.CallName(f.call.new))
		}},
		CallStream:  {always(pyCaller), always(pyImplementer)},
		CallRequest: {always(pyCaller), always(pyImplementer)},
		// Where there was no answer, callers go on.
		CallAnswer: {when(func(f *Fact) bool { return f.call.old.Response != nil }, pyCaller), always(pyImplementer)},
	},
}

// unlessAlike is always, unless a language spells both names of a call alike.
func unlessAlike(name func(*schema.Call) string, lines func(*Fact) []string) codeRule {
	return when(func(f *Fact) bool { return name(f.call.old) != name(f.call.new) }, lines)
}

// Go.

// goCaller calls a call as it was.
func goCaller(f *Fact) []string {
	c := f.call.old
	name := golang.CallName(c)
	lines := []string{fmt.Sprintf("var client *%s.%sClient", golang.PackageName(c.Service.Module), c.Service.Name)}
	request := func() string { return goName(&c.Request.Decl) }
	switch {
	case c.RequestStream && c.ResponseStream:
		return append(lines, fmt.Sprintf("talk, _ := client.%s(ctx)", name), fmt.Sprintf("_ = talk.Send(&%s{})", request()))
	case c.RequestStream:
		lines = append(lines, fmt.Sprintf("_ = client.%s(ctx).Send(&%s{})", name, request()))
		if c.Response != nil {
			lines = append(lines, fmt.Sprintf("answer, _ := client.%s(ctx).Finish()", name), fmt.Sprintf("var _ *%s = answer", goName(&c.Response.Decl)))
		}
		return lines
	}
	in, out := "ctx context.Context", "error"
	if c.Request != nil {
		in += ", request *" + request()
	}
	switch {
	case c.ResponseStream:
		out = fmt.Sprintf("iter.Seq2[*%s, error]", goName(&c.Response.Decl))
	case c.Response != nil:
		out = fmt.Sprintf("(*%s, error)", goName(&c.Response.Decl))
	}
	return append(lines, fmt.Sprintf("var _ func(%s) %s = client.%s", in, out, name))
}

// goImplementer serves a call as it was.
func goImplementer(f *Fact) []string {
	c := f.call.old
	in, out := "ctx context.Context", "error"
	switch {
	case c.RequestStream:
		in += fmt.Sprintf(", elements iter.Seq2[*%s, error]", goName(&c.Request.Decl))
	case c.Request != nil:
		in += ", request *" + goName(&c.Request.Decl)
	}
	switch {
	case c.ResponseStream:
		in += fmt.Sprintf(", send func(*%s) error", goName(&c.Response.Decl))
	case c.Response != nil:
		out = fmt.Sprintf("(*%s, error)", goName(&c.Response.Decl))
	}
	return []string{
		fmt.Sprintf("var serve func(%s) %s", in, out),
		fmt.Sprintf("_ = %s.%sCalls{%s: serve}", golang.PackageName(c.Service.Module), c.Service.Name, golang.CallName(c)),
	}
}

// TypeScript.

// tsHolds tells whether a message holds all that another did, in the same way: types
// are compared by what they hold.
func tsHolds(n, o *schema.Message) bool {
	return !slices.ContainsFunc(o.Fields, func(a *schema.Field) bool {
		b := n.ByName(a.Name)
		return b == nil || !tsSame(a, b)
	})
}

// tsTakes tells whether another message goes where one is made: it has all that is
// required there, and nothing of another type.
func tsTakes(n, o *schema.Message) bool {
	return !slices.ContainsFunc(n.Fields, func(b *schema.Field) bool {
		a := o.ByName(b.Name)
		return a == nil && b.Presence == schema.Required || a != nil && !tsSame(a, b)
	})
}

// tsShares tells whether two messages have a field in common, without which an
// argument is refused where nothing is required.
func tsShares(n, o *schema.Message) bool {
	return len(n.Fields) == 0 || len(o.Fields) == 0 || slices.ContainsFunc(n.Fields, func(b *schema.Field) bool { return o.ByName(b.Name) != nil })
}

func tsSame(a, b *schema.Field) bool {
	return a.Presence == b.Presence && typescript.TypeName(a.Type) == typescript.TypeName(b.Type)
}

// tsCaller calls a call as it was.
func tsCaller(f *Fact) []string {
	c := f.call.old
	lines := []string{fmt.Sprintf("declare const client: %sClient;", c.Service.Name)}
	argument := ""
	switch {
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
	return append(lines, fmt.Sprintf("const answer: %s = client.%s(%s);", answer, typescript.CallName(c), argument))
}

// tsImplementer serves a call as it was.
func tsImplementer(f *Fact) []string {
	c := f.call.old
	parameter, generator, answer := "", "", "Promise<void>"
	switch {
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
		fmt.Sprintf("  async %s%s(%s): %s {", generator, typescript.CallName(c), parameter, answer),
		"    throw new Error();",
		"  },",
		"};",
	}
}

// Python.

// pyCaller calls a call as it was.
func pyCaller(f *Fact) []string {
	c := f.call.old
	lines := []string{fmt.Sprintf("client: %sClient", c.Service.Name)}
	argument := ""
	switch {
	case c.RequestStream:
		lines = append(lines, fmt.Sprintf("elements: list[%s]", c.Request.Name))
		argument = "elements"
	case c.Request != nil:
		lines = append(lines, "request: "+c.Request.Name)
		argument = "request"
	}
	call := fmt.Sprintf("client.%s(%s)", python.CallName(c), argument)
	switch {
	case c.ResponseStream:
		return append(lines, fmt.Sprintf("for element in %s:", call), fmt.Sprintf("    answer: %s = element", c.Response.Name))
	case c.Response != nil:
		call = fmt.Sprintf("answer: %s = %s", c.Response.Name, call)
	}
	return append(lines, call)
}

// pyImplementer serves a call as it was.
func pyImplementer(f *Fact) []string {
	c := f.call.old
	parameter, coroutine, answer := "", "async ", "None"
	switch {
	case c.RequestStream:
		parameter = fmt.Sprintf(", elements: Elements[%s]", c.Request.Name)
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
		fmt.Sprintf("    %sdef %s(self%s, context: Context) -> %s:", coroutine, python.CallName(c), parameter, answer),
		"        raise NotImplementedError",
	}
}
