package remote

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"faithfulcourier/internal/stubs/golang/support/web"
	"faithfulcourier/internal/stubs/golang/support/wire"
	"faithfulcourier/internal/syntax"
)

// stand-ins for credentials: no credential looks like this, and nothing in it is
// changed on its way into a header, cookie or query.
const standIn = "credential-of-"

// Curl writes requests in JSON (one; several where the request is a stream; none
// for "()") as a command line for curl. Credentials are environment variables,
// whose names are returned: their values never appear.
func (k *Caller) Curl(ctx context.Context, requests [][]byte) (command string, variables []string, err error) {
	if k.call.RequestStream && k.call.ResponseStream {
		return "", nil, errors.New("the call streams both ways, over a WebSocket: curl can't make it")
	}
	k.options.Credentials = map[string]string{}
	if len(k.web.Needs) > 0 { // any alternative will do; the first is what people think of first
		for _, c := range k.web.Needs[0] {
			k.options.Credentials[c.Name] = standIn + variable(c.Name)
			variables = append(variables, variable(c.Name))
		}
	}
	k.binary = false
	k.dial()
	var taken *http.Request
	var body []byte
	errTaken := errors.New("taken")
	k.intake = func(r *http.Request, _ func(*http.Request) (*http.Response, error)) (*http.Response, error) {
		taken = r
		if r.Body != nil && !k.call.RequestStream {
			body, _ = io.ReadAll(r.Body) // from memory
		}
		return nil, errTaken
	}
	defer func() { k.intake = nil }()
	switch {
	case k.call.RequestStream:
		body, err = k.sequence(requests)
		if err == nil {
			sender := web.NewSender[raw](ctx, k.client, k.web)
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

func variable(name string) string {
	return strings.ToUpper(syntax.SnakeCase(name[strings.LastIndexByte(name, '.')+1:]))
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
	if r.Method != http.MethodGet && !(r.Method == http.MethodPost && body != nil) {
		parts[0] += " -X " + r.Method
	}
	u := *r.URL
	var shown []string
	for part := range strings.SplitSeq(u.RawQuery, "&") {
		name, value, _ := strings.Cut(part, "=")
		if v, ok := strings.CutPrefix(value, standIn); ok {
			parts = append(parts, fmt.Sprintf(`--url-query "%s=$%s"`, name, v))
		} else if part != "" {
			shown = append(shown, part)
		}
	}
	u.RawQuery = strings.Join(shown, "&")
	parts[0] += " " + quoted(u.String())
	var names []string
	for name := range r.Header {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		for _, v := range r.Header[name] {
			parts = append(parts, header(name, v))
		}
	}
	if body != nil {
		parts = append(parts, "--data-binary "+quoted(string(body)))
	}
	return strings.Join(parts, " \\\n  ")
}

func header(name, v string) string {
	if encoded, ok := strings.CutPrefix(v, "Basic "); ok {
		if plain, err := base64.StdEncoding.DecodeString(encoded); err == nil && strings.HasPrefix(string(plain), standIn) {
			return fmt.Sprintf(`-u "$%s"`, strings.TrimPrefix(string(plain), standIn))
		}
	}
	before, variable, isCredential := strings.Cut(v, standIn)
	switch {
	case !isCredential:
		return "-H " + quoted(name+": "+v)
	default:
		variable, after, more := strings.Cut(variable, ";")
		if more {
			after = ";" + after
		}
		escape := strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`, "`", "\\`")
		return fmt.Sprintf(`-H "%s: %s$%s%s"`, name, escape.Replace(before), variable, strings.ReplaceAll(escape.Replace(after), standIn, "$"))
	}
}

// quoted is a word of a shell, POSIX or bash: bash alone knows control characters.
func quoted(s string) string {
	if strings.ContainsFunc(s, func(r rune) bool { return r < ' ' }) {
		var b strings.Builder
		b.WriteString("$'")
		for _, r := range s {
			switch {
			case r == '\n':
				b.WriteString(`\n`)
			case r < ' ':
				fmt.Fprintf(&b, `\x%02x`, r)
			case r == '\'' || r == '\\':
				b.WriteByte('\\')
				b.WriteRune(r)
			default:
				b.WriteRune(r)
			}
		}
		return b.String() + "'"
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
