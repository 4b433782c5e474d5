package web

import (
	"net/http"
	"slices"
	"strings"
)

// isTag tells entity-tags (RFC 9110, section 8.8.3).
func isTag(text string) bool {
	opaque, ok := strings.CutPrefix(strings.TrimPrefix(text, "W/"), `"`)
	opaque, closed := strings.CutSuffix(opaque, `"`)
	return ok && closed && !strings.ContainsFunc(opaque, func(c rune) bool { return c <= ' ' || c == '"' || c == 0x7f })
}

// The encodings of an answer have tags of their own: what tells them apart comes before
// the closing quote.
var encodingSuffixes = []string{".cbor", ".json"}

// tagged is an entity-tag for an answer of an encoding, compressed or not.
func tagged(tag, encoding string, compressed bool) string {
	tag = strings.TrimSuffix(tag, `"`) + "." + strings.TrimPrefix(encoding, "application/")
	if compressed {
		tag += ".gz"
	}
	return tag + `"`
}

// tags are the entity-tags of a list, each with what was before it in the list's text.
func tags(list string) (found []string) {
	for list != "" {
		begin := strings.IndexByte(list, '"')
		if begin < 0 {
			break
		}
		end := strings.IndexByte(list[begin+1:], '"')
		if end < 0 {
			break
		}
		end += begin + 2
		found = append(found, list[:end])
		list = list[end:]
	}
	return found
}

// withoutEncodings takes from the entity-tags of If-Match and If-None-Match what tagged
// has added.
func withoutEncodings(list string) string {
	var b strings.Builder
	for _, tag := range tags(list) {
		list = list[len(tag):]
		plain := strings.TrimSuffix(tag, `"`)
		for _, suffix := range encodingSuffixes {
			if cut, ok := strings.CutSuffix(strings.TrimSuffix(plain, ".gz"), suffix); ok {
				plain = cut
				break
			}
		}
		b.WriteString(plain + `"`)
	}
	return b.String() + list
}

// matches tells whether If-None-Match names the tag of an answer, weakly (RFC 9110,
// sections 8.8.3.2 and 13.1.2).
func matches(header []string, tag string) bool {
	if tag == "" {
		return false
	}
	opaque := strings.TrimPrefix(tag, "W/")
	for _, list := range header {
		if strings.TrimSpace(list) == "*" {
			return true
		}
		for _, one := range tags(list) {
			if one[strings.IndexByte(one, '"'):] == opaque {
				return true
			}
		}
	}
	return false
}

// unmodified tells whether an answer is the one that the client has already.
func (x *exchange) unmodified(status int, tag string) bool {
	asks := x.r.Method == http.MethodGet || x.r.Method == http.MethodHead
	return asks && status >= 200 && status <= 299 && matches(x.r.Header.Values("If-None-Match"), tag)
}

// caching is what a call's answers say to whoever keeps answers.
type caching struct {
	vary    []string // one value: the headers of requests that answers depend on
	gzipped []string // likewise, where answers may be compressed
	none    []string // Cache-Control where nothing is to be kept
	checked []string // and where what is kept has to be asked for each time
}

var noStore, noCache = []string{"no-store"}, []string{"no-cache"}

func newCaching(call *Call) caching {
	c := caching{none: noStore, checked: noCache}
	var vary []string
	if call.AnswerTravel.raw() == nil {
		vary = append(vary, "Accept")
	}
	add := func(header string) {
		header = http.CanonicalHeaderKey(header)
		if !slices.Contains(vary, header) && header != "If-Match" && header != "If-None-Match" {
			vary = append(vary, header)
		}
	}
	needs := false
	for _, all := range call.Needs {
		for _, credential := range all {
			needs = true
			switch credential.Kind {
			case "header":
				add(credential.Key)
			case "cookie":
				add("Cookie")
			case "bearer", "basic":
				add("Authorization")
			}
		}
	}
	for _, p := range call.Travel.placed() {
		switch p.In {
		case "header":
			add(p.Parameter)
		case "cookie":
			add("Cookie")
		}
	}
	if needs || call.Travel.inCookies() {
		c.none, c.checked = []string{"private, no-store"}, []string{"private, no-cache"}
	}
	c.vary = []string{strings.Join(vary, ", ")}
	c.gzipped = c.vary
	if call.Compressible {
		c.gzipped = []string{strings.Join(append(vary, "Accept-Encoding"), ", ")}
	}
	return c
}

// keep says in the header of an answer what may be kept of it, unless the handler does.
func (c *caching) keep(header http.Header, plain bool) {
	vary := c.gzipped
	if plain {
		vary = c.vary
	}
	switch {
	case vary[0] == "":
	case header["Vary"] == nil:
		header["Vary"] = vary
	default:
		header.Add("Vary", vary[0])
	}
	header["Cache-Control"] = c.none
}

// NotModified is the error of a call whose answer is the one that the caller has already,
// by the entity-tag in the field of its request that travels in If-None-Match. For middleware and tries it is a
// success.
type NotModified struct {
	Call string
	ETag string // of the answer, as in the field of it that travels in ETag
}

func (e *NotModified) Error() string { return e.Call + ": not modified since " + e.ETag }
