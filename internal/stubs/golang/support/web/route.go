package web

import (
	"context"
	"iter"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"faithfulcourier/internal/stubs/golang/support/wire"
)

// Route is one call with what serves it. Of Serve, Send, Receive and Converse
// one is set, by what the call streams.
type Route struct {
	Call        *Call
	Implemented bool
	NewRequest  func() Message // of the request, or an element of it; nil for "()"
	NewHead     func() Message // of what comes before a stream of requests; nil for nothing
	Answers     bool           // whether the answer is a message, not "()"

	Serve    func(ctx context.Context, request Message) (Message, error)
	Send     func(ctx context.Context, request Message, send Send) error
	Receive  func(ctx context.Context, head Message, elements Elements) (Message, error)
	Converse func(ctx context.Context, head Message, elements Elements, send Send) error

	// Upgrade serves calls that stream both ways.
	Upgrade func(m *Served, w http.ResponseWriter, r *http.Request, route *Route)

	caching caching
}

// newElement is an empty element of a request that is a stream.
func (r *Route) newElement() wire.Message { return r.NewRequest().(wire.Message) }

// Send sends one element of a stream.
type Send func(element wire.Message) error

// Elements are those of a stream, as they come; the last may be an error.
type Elements = iter.Seq2[wire.Message, error]

// Typed gives elements their type.
func Typed[T any](elements Elements) iter.Seq2[*T, error] {
	return func(yield func(*T, error) bool) {
		for element, err := range elements {
			var typed *T
			if err == nil {
				typed = any(element).(*T)
			}
			if !yield(typed, err) {
				return
			}
		}
	}
}

// table finds the route of a request.
type table struct {
	exact    map[string][]*Route // by path, of those without fields
	patterns []pattern
}

type pattern struct {
	segments []string // "{name}" for a field
	route    *Route
}

func newTable(routes []*Route) table {
	t := table{exact: map[string][]*Route{}}
	for _, r := range routes {
		r.caching = newCaching(r.Call)
		if strings.Contains(r.Call.Path, "{") {
			t.patterns = append(t.patterns, pattern{strings.Split(r.Call.Path[1:], "/"), r})
		} else {
			t.exact[r.Call.Path] = append(t.exact[r.Call.Path], r)
		}
	}
	// The more specific first: a literal is more than a field.
	slices.SortStableFunc(t.patterns, func(a, b pattern) int { return a.fields() - b.fields() })
	return t
}

func (p pattern) fields() int {
	n := 0
	for _, s := range p.segments {
		if s[0] == '{' {
			n++
		}
	}
	return n
}

// find returns the route of a path, as it was sent, and a method; the values of
// the path's fields; and, where only the method is wrong, those that are right.
func (t *table) find(method, path string) (route *Route, values map[string]string, allow []string) {
	if method == http.MethodHead {
		method = http.MethodGet // all of it but the body
	}
	for _, r := range t.exact[path] {
		if r.Call.Method == method {
			return r, nil, nil
		}
		allow = append(allow, r.Call.Method)
	}
	if len(t.patterns) == 0 {
		return nil, nil, allow
	}
	segments := strings.Split(strings.TrimPrefix(path, "/"), "/")
	for i, s := range segments {
		if plain, err := url.PathUnescape(s); err == nil {
			segments[i] = plain
		}
	}
	for _, p := range t.patterns {
		values, ok := p.match(segments)
		switch {
		case !ok:
		case p.route.Call.Method == method:
			return p.route, values, nil
		case !slices.Contains(allow, p.route.Call.Method):
			allow = append(allow, p.route.Call.Method)
		}
	}
	return nil, nil, allow
}

func (p pattern) match(segments []string) (map[string]string, bool) {
	if len(segments) != len(p.segments) {
		return nil, false
	}
	values := map[string]string{}
	for i, s := range p.segments {
		if s[0] == '{' {
			values[s[1:len(s)-1]] = segments[i]
		} else if s != segments[i] {
			return nil, false
		}
	}
	return values, true
}
