package conversation

import (
	"iter"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"faithfulcourier/internal/schema"
)

// Segments are the parts of a call's path, of its default path too.
func Segments(c *schema.Call) []schema.Segment {
	if c.HTTP != nil {
		return c.HTTP.Segments
	}
	var list []schema.Segment
	for part := range strings.SplitSeq(Path(c)[1:], "/") {
		list = append(list, schema.Segment{Literal: part})
	}
	return list
}

// Pattern is a call's path without the names of its fields: two paths with one pattern
// match the same requests.
func Pattern(c *schema.Call) string {
	var path strings.Builder
	for _, s := range Segments(c) {
		path.WriteString("/")
		if s.Field != nil {
			path.WriteString("{}") // which no literal is
		} else {
			path.WriteString(s.Literal)
		}
	}
	return path.String()
}

// Relation is how the paths of two calls that a request could both match stand to each
// other.
type Relation uint8

// The relations. Where neither path is more specific, they are equal, or each has a
// literal where the other one has a field.
const (
	Neither  Relation = iota
	Specific          // the path that was asked about is strictly more specific
	General           // the other one is
)

// Routes are calls by method and path.
type Routes struct{ methods map[string]*step }

// step is a part of the tree of all paths of one method.
type step struct {
	literals map[string]*step
	field    *step
	calls    []*schema.Call // whose paths end here
}

// NewRoutes returns the routes of some calls.
func NewRoutes(calls []*schema.Call) *Routes {
	r := &Routes{methods: map[string]*step{}}
	for _, c := range calls {
		r.Add(c)
	}
	return r
}

// Add adds a call.
func (r *Routes) Add(c *schema.Call) {
	at := r.methods[Method(c)]
	if at == nil {
		at = &step{}
		r.methods[Method(c)] = at
	}
	for _, s := range Segments(c) {
		at = at.next(s)
	}
	at.calls = append(at.calls, c)
}

// next finds or makes the step after this one.
func (at *step) next(s schema.Segment) *step {
	if s.Field != nil {
		if at.field == nil {
			at.field = &step{}
		}
		return at.field
	}
	if at.literals == nil {
		at.literals = map[string]*step{}
	}
	if at.literals[s.Literal] == nil {
		at.literals[s.Literal] = &step{}
	}
	return at.literals[s.Literal]
}

// Find returns the call that a request reaches: of those that match, the most specific
// one, a literal over a field, from the left. It returns nil for none. path is as it was
// sent, below the base.
func (r *Routes) Find(method, path string) *schema.Call {
	var segments []string
	for part := range strings.SplitSeq(strings.TrimPrefix(path, "/"), "/") {
		plain, err := url.PathUnescape(part)
		if err != nil {
			return nil
		}
		segments = append(segments, plain)
	}
	if method == http.MethodHead {
		method = http.MethodGet // all of it but the body
	}
	return r.methods[method].find(segments)
}

func (at *step) find(segments []string) *schema.Call {
	switch {
	case at == nil:
		return nil
	case len(segments) == 0 && len(at.calls) > 0:
		return at.calls[0]
	case len(segments) == 0:
		return nil
	}
	if c := at.literals[segments[0]].find(segments[1:]); c != nil || segments[0] == "" {
		return c
	}
	return at.field.find(segments[1:])
}

// Overlapping lists the calls that a request of a call could match as well, and how
// specific its path is next to theirs, in order of their paths.
func (r *Routes) Overlapping(c *schema.Call) iter.Seq2[*schema.Call, Relation] {
	return func(yield func(*schema.Call, Relation) bool) {
		r.methods[Method(c)].overlapping(Segments(c), false, false, yield)
	}
}

// overlapping goes on after the parts of a path that were compared: mine and theirs tell
// whose literal stood against a field so far. It returns false when yield did.
func (at *step) overlapping(rest []schema.Segment, mine, theirs bool, yield func(*schema.Call, Relation) bool) bool {
	switch {
	case at == nil:
		return true
	case len(rest) == 0:
		relation := Neither
		if mine != theirs {
			relation = map[bool]Relation{true: Specific, false: General}[mine]
		}
		for _, c := range at.calls {
			if !yield(c, relation) {
				return false
			}
		}
		return true
	case rest[0].Field == nil:
		return at.literals[rest[0].Literal].overlapping(rest[1:], mine, theirs, yield) &&
			at.field.overlapping(rest[1:], true, theirs, yield)
	}
	if !at.field.overlapping(rest[1:], mine, theirs, yield) {
		return false
	}
	for _, name := range slices.Sorted(maps.Keys(at.literals)) {
		if !at.literals[name].overlapping(rest[1:], mine, true, yield) {
			return false
		}
	}
	return true
}
