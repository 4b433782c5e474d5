package advice

import (
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"

	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

// switches are the rules that declarations switch off for themselves, by comments.
type switches struct {
	files   map[*source.File][]switched
	unknown []source.Finding // comments that name no rule
}

// switched is a declaration, from where its name is, and the rules that are off in it.
type switched struct {
	from  uint32
	rules []string
}

var switchOff = regexp.MustCompile(`^\s*//\s*advice off: *([a-z-]+)`)

// newSwitches reads the comments before each declaration. Most projects have none.
func newSwitches(d *schema.Definitions) *switches {
	s := &switches{files: map[*source.File][]switched{}}
	any := map[*source.File]bool{}
	for _, m := range d.Modules {
		for _, decl := range m.Declarations() {
			file := decl.Head().Place.File
			if _, seen := any[file]; !seen && file != nil {
				any[file] = strings.Contains(file.Text, "advice off:")
			}
			if any[file] {
				from := decl.Head().Place.Span.Start
				s.files[file] = append(s.files[file], switched{from, s.before(file, from)})
			}
		}
	}
	for _, list := range s.files {
		sort.Slice(list, func(i, j int) bool { return list[i].from < list[j].from })
	}
	return s
}

// before reads the comments in the lines that lead to a place.
func (s *switches) before(file *source.File, at uint32) (rules []string) {
	for line := file.Position(at).Line - 1; line > 0; line-- {
		text := strings.TrimSpace(file.Line(line))
		if !strings.HasPrefix(text, "//") {
			return rules
		}
		m := switchOff.FindStringSubmatch(text)
		switch {
		case m == nil:
		case slices.Contains(Names(), m[1]):
			rules = append(rules, m[1])
		default:
			fix := "the rules are: " + strings.Join(Names(), ", ")
			if near := source.Nearest(m[1], Names()); near != "" {
				fix = source.DidYouMean(near)
			}
			s.unknown = append(s.unknown, source.Finding{Name: "no-such-rule", Severity: source.Advice,
				Place:   source.Place{File: file, Span: source.Span{Start: at, End: at + 1}},
				Message: fmt.Sprintf("a comment before this switches off the advice %q, which there is not", m[1]), Fix: fix})
		}
	}
	return rules
}

// off tells whether a rule is off at a place.
func (s *switches) off(place source.Place, rule string) bool {
	list := s.files[place.File]
	i := sort.Search(len(list), func(i int) bool { return list[i].from > place.Span.Start })
	return i > 0 && slices.Contains(list[i-1].rules, rule)
}
