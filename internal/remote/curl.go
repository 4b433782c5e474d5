package remote

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"io"
	"net/http"
	"slices"
	"strings"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/shell"
	"faithfulcourier/internal/stubs/golang/support/web"
	"faithfulcourier/internal/stubs/golang/support/wire"
)

// Curl writes requests in JSON (one; several where the request is a stream; none
// for "()") as a command line for curl. Credentials are environment variables,
// whose names are returned: their values never appear.
func (k *Caller) Curl(ctx context.Context, requests [][]byte) (command string, variables []string, err error) {
	if k.call.RequestStream && k.call.ResponseStream {
		return "", nil, errors.New("the call streams both ways, over a WebSocket: curl can't make it")
	}
	k.options.Credentials = map[string]string{}
	// Stands in for credentials, before the variable's name: nobody can know it, and nothing
	// in it is changed on its way into a header, cookie or query.
	k.standIn = rand.Text()
	if len(k.web.Needs) > 0 { // any alternative will do; the first is what people think of first
		for _, c := range k.web.Needs[0] {
			k.options.Credentials[c.Name] = k.standIn + conversation.Variable(c.Name)
			variables = append(variables, conversation.Variable(c.Name))
		}
	}
	k.binary = false
	k.dial()
	var taken *http.Request
	var body []byte
	errTaken := errors.New("taken")
	k.intake = func(r *http.Request, _ func(*http.Request) (*http.Response, error)) (*http.Response, error) {
		taken = r
		if r.Body != nil && !k.call.RequestStream && k.options.Raw == nil {
			body, _ = io.ReadAll(r.Body) // from memory
		}
		return nil, errTaken
	}
	defer func() { k.intake = nil }()
	switch {
	case k.call.RequestStream:
		var head web.Message
		if head, err = k.head(); err == nil {
			body, err = k.sequence(requests)
		}
		if err == nil {
			sender := web.NewSender[raw](ctx, k.client, k.web, head)
			err = sender.Finish()
			sender.Abort()
		}
	case k.call.ResponseStream:
		var request []byte
		if len(requests) > 0 {
			request = requests[0]
		}
		for _, one := range k.Elements(ctx, request) {
			err = one
		}
	default:
		var request []byte
		if len(requests) > 0 {
			request = requests[0]
		}
		_, err = k.Do(ctx, request)
	}
	if taken == nil {
		return "", nil, err
	}
	return k.line(taken, body), variables, nil
}

// sequence is the body of a request that is a stream (RFC 7464).
func (k *Caller) sequence(requests [][]byte) ([]byte, error) {
	var body []byte
	for _, r := range requests {
		if refused := k.Check(r); refused != nil && !k.options.Unchecked {
			return nil, refused
		}
		element, err := wire.AppendElement([]byte{0x1e}, true, &raw{json: bytes.TrimSpace(r)})
		if err != nil {
			return nil, err
		}
		body = append(append(body, element...), '\n')
	}
	return append(wire.AppendEnd(append(body, 0x1e), true), '\n'), nil
}

// line is one command line, a part a line.
func (k *Caller) line(r *http.Request, body []byte) string {
	parts := []string{"curl -sS"}
	if k.call.ResponseStream {
		parts[0] += "N" // elements as they come
	}
	if r.Method != http.MethodGet && !(r.Method == http.MethodPost && (body != nil || k.options.Raw != nil)) {
		parts[0] += " -X " + r.Method
	}
	u := *r.URL
	var shown []string
	for part := range strings.SplitSeq(u.RawQuery, "&") {
		if strings.Contains(part, k.standIn) {
			parts = append(parts, "--url-query "+k.word(part))
		} else if part != "" {
			shown = append(shown, part)
		}
	}
	u.RawQuery = strings.Join(shown, "&")
	parts[0] += " " + shell.Quoted(u.String())
	var names []string
	for name := range r.Header {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		for _, v := range r.Header[name] {
			parts = append(parts, k.header(name, v))
		}
	}
	switch {
	case k.options.Raw != nil:
		parts = append(parts, "--data-binary "+shell.Quoted("@"+k.options.RawFile))
	case body != nil:
		parts = append(parts, "--data-binary "+shell.Quoted(string(body)))
	}
	return strings.Join(parts, " \\\n  ")
}

func (k *Caller) header(name, v string) string {
	if encoded, ok := strings.CutPrefix(v, "Basic "); ok {
		if plain, err := base64.StdEncoding.DecodeString(encoded); err == nil && strings.HasPrefix(string(plain), k.standIn) {
			return "-u " + k.word(string(plain))
		}
	}
	return "-H " + k.word(name+": "+v)
}

// word is a word of a shell in which the environment fills in credentials. What means
// anything to a shell stands in single quotes, whoever chose it.
func (k *Caller) word(text string) string {
	literal, variable := shell.Quoted, func(name string) string { return `"$` + name + `"` }
	around := ""
	if !strings.ContainsAny(text, "\"$`\\!") && strings.HasPrefix(shell.Quoted(text), "'") {
		literal, variable = func(s string) string { return s }, func(name string) string { return "$" + name }
		around = `"`
	}
	var b strings.Builder
	for i, part := range strings.Split(text, k.standIn) {
		if i > 0 {
			end := strings.IndexFunc(part, func(r rune) bool { return !isVariable(r) })
			if end < 0 {
				end = len(part)
			}
			b.WriteString(variable(part[:end]))
			part = part[end:]
		}
		if part != "" {
			b.WriteString(literal(part))
		}
	}
	if !strings.Contains(text, k.standIn) {
		return shell.Quoted(text)
	}
	return around + b.String() + around
}

// isVariable tells the characters of names of variables.
func isVariable(r rune) bool { return r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_' }
