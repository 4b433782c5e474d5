package web

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
)

// Credential is what a caller may have to show.
type Credential struct {
	Name string // full: module and credential
	Kind string // "header", "query" or "cookie" for a key, "bearer" or "basic"
	Key  string // of a key: the name of the header, parameter or cookie
}

// Is tells whether name, with or without its module, is the credential's.
func (c *Credential) Is(name string) bool {
	return c.Name == name || strings.HasSuffix(c.Name, "."+name) && !strings.Contains(name, ".")
}

// Credentials are the values that a request came with, by full name; of basic
// credentials "user:password".
type Credentials map[string]string

// Value returns the value of a credential by its name, with or without its
// module.
func (c Credentials) Value(name string) (value string, ok bool) {
	for full, v := range c {
		if credential := (Credential{Name: full}); credential.Is(name) {
			return v, true
		}
	}
	return "", false
}

// MissingCredential is the error of a call for which the client has none of the
// credentials that would do. Nothing was sent.
type MissingCredential struct {
	Call  string
	Needs string   // such as "crew | door"
	Given []string // the names of those that the client has
}

func (e *MissingCredential) Error() string {
	given := "none"
	if len(e.Given) > 0 {
		given = `"` + strings.Join(e.Given, `", "`) + `"`
	}
	return fmt.Sprintf("%s needs %s; the credentials that the client was given: %s", e.Call, e.Needs, given)
}

func needsText(needs [][]*Credential) string {
	var alternatives []string
	for _, all := range needs {
		var names []string
		for _, c := range all {
			names = append(names, c.Name[strings.LastIndexByte(c.Name, '.')+1:])
		}
		if len(names) == 0 {
			names = []string{"nothing"}
		}
		alternatives = append(alternatives, strings.Join(names, " + "))
	}
	return strings.Join(alternatives, " | ")
}

// found reads all credentials of a call that a request has, and tells whether
// those of one alternative are complete.
func found(call *Call, r *http.Request, query func() url.Values) (Credentials, bool) {
	credentials, enough := Credentials{}, len(call.Needs) == 0
	for _, all := range call.Needs {
		complete := true
		for _, c := range all {
			if value, ok := c.from(r, query); ok {
				credentials[c.Name] = value
			} else {
				complete = false
			}
		}
		enough = enough || complete
	}
	return credentials, enough
}

func (c *Credential) from(r *http.Request, query func() url.Values) (string, bool) {
	switch c.Kind {
	case "header":
		value := r.Header.Get(c.Key)
		return value, value != ""
	case "query":
		value := query().Get(c.Key)
		return value, value != ""
	case "cookie":
		cookie, err := r.Cookie(c.Key)
		return valueOf(cookie), err == nil && cookie.Value != ""
	case "basic":
		user, password, ok := r.BasicAuth()
		return user + ":" + password, ok
	}
	scheme, token, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	token = strings.TrimSpace(token)
	return token, strings.EqualFold(scheme, "Bearer") && token != ""
}

func valueOf(c *http.Cookie) string {
	if c == nil {
		return ""
	}
	return c.Value
}

// challenges are what WWW-Authenticate says (RFC 9110, section 11.6.1).
func challenges(call *Call) []string {
	var list []string
	add := func(challenge string) {
		for _, known := range list {
			if known == challenge {
				return
			}
		}
		list = append(list, challenge)
	}
	for _, all := range call.Needs {
		for _, c := range all {
			switch c.Kind {
			case "bearer":
				add("Bearer")
			case "basic":
				add(`Basic realm="` + call.Name + `", charset="UTF-8"`)
			default:
				add(fmt.Sprintf("Key in=%q, name=%q", c.Kind, c.Key))
			}
		}
	}
	return list
}

// source is where a client has the value of a credential from.
type source struct {
	value string
	ask   func(ctx context.Context) (string, error) // nil for the value
}

// get returns the value of a credential, and does not wait beyond the call's time.
func (s *source) get(ctx context.Context) (string, error) {
	if s.ask == nil {
		return s.value, nil
	}
	type result struct {
		value string
		err   error
	}
	came := make(chan result, 1)
	go func() {
		value, err := s.ask(ctx)
		came <- result{value, err}
	}()
	select {
	case got := <-came:
		return got.value, got.err
	case <-ctx.Done():
		return "", ctx.Err()
	}
}

// present puts the first alternative that the client can fill into a request.
func (c *Client) present(ctx context.Context, call *Call, r *http.Request, p *Parameters) error {
	if len(call.Needs) == 0 {
		return nil
	}
	for _, all := range call.Needs {
		sources := make([]*source, len(all))
		complete := true
		for i, credential := range all {
			sources[i] = c.sourceOf(credential)
			complete = complete && sources[i] != nil
		}
		if !complete {
			continue
		}
		for i, credential := range all {
			value, err := sources[i].get(ctx)
			if err == nil && credential.Kind != "query" && credential.Kind != "basic" &&
				strings.ContainsFunc(value, func(c rune) bool { return c < ' ' || c == 0x7f }) {
				err = errors.New("its value has control characters in it, which no header can contain") // and is not shown
			}
			if err != nil {
				return fmt.Errorf("credential %s: %w", credential.Name, err)
			}
			credential.put(value, r, p)
		}
		return nil
	}
	given := slices.Sorted(maps.Keys(c.credentials))
	return &MissingCredential{Call: call.Name, Needs: needsText(call.Needs), Given: given}
}

func (c *Client) sourceOf(credential *Credential) *source {
	if s, ok := c.credentials[credential.Name]; ok {
		return &s
	}
	for name, s := range c.credentials {
		if credential.Is(name) {
			return &s
		}
	}
	return nil
}

func (c *Credential) put(value string, r *http.Request, p *Parameters) {
	switch c.Kind {
	case "header":
		r.Header.Set(c.Key, value)
	case "query":
		p.Query(c.Key, value)
	case "cookie":
		p.cookies = append(p.cookies, cookie{c.Key, value})
	case "basic":
		r.Header.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(value)))
	default:
		r.Header.Set("Authorization", "Bearer "+value)
	}
}
