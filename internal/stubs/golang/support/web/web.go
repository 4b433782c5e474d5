// Package web carries calls over HTTP: requests and answers as CBOR or JSON,
// errors as problem details (RFC 9457). The clients and servers next to it
// call it; other code uses its options and its errors.
package web

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strconv"
	"strings"

	"faithfulcourier/internal/stubs/golang/support/wire"
)

// The media types of payloads, of streams and of problems.
const (
	CBOR = "application/cbor"
	JSON = "application/json"

	CBORSeq = "application/cbor-seq"
	JSONSeq = "application/json-seq"

	problemJSON = "application/problem+json"
)

// Call is what both sides know of one call.
type Call struct {
	Name       string // full: module, service and call
	Method     string
	Path       string // below the base; "{field}" is the place of a segment
	Status     int    // of success where that is not 200, or 204 without an answer
	Safe       bool
	Idempotent bool
	Needs      [][]*Credential // one of these, of it all
	Fails      []Failure

	Travel       *Travel // of a request that is not all in the body; or nil
	AnswerTravel *Travel // likewise of an answer

	RequestStream, AnswerStream bool

	Compressible bool // whether answers may be compressed
}

// redirects tells calls whose success sends the client elsewhere (RFC 9110, section 15.4).
func (c *Call) redirects() bool { return isRedirect(c.Status) }

func isRedirect(status int) bool {
	switch status {
	case http.StatusMovedPermanently, http.StatusFound, http.StatusSeeOther, http.StatusTemporaryRedirect,
		http.StatusPermanentRedirect:
		return true
	}
	return false
}

// succeeds tells whether an answer's status is one of success.
func (c *Call) succeeds(status int) bool {
	if c.redirects() {
		return isRedirect(status)
	}
	return status >= 200 && status <= 299
}

// Failure is one error that a call declares.
type Failure struct {
	Name string // full
	New  func() DeclaredError
}

// DeclaredError is what every generated error is.
type DeclaredError interface {
	error
	wire.Message
	ErrorName() string // full: module and error
	ErrorStatus() int  // the HTTP status
}

// Problem is an error that the call does not declare, as problem details. The
// names of Faithful's own are in Name. Where an answer had none, as those of proxies, Detail
// is how its body begins.
type Problem struct {
	Type       string           `json:"type"`
	Title      string           `json:"title"`
	Status     int              `json:"status"`
	Detail     string           `json:"detail,omitempty"`
	Instance   string           `json:"instance,omitempty"`
	Violations []wire.Violation `json:"errors,omitempty"`
	Fields     json.RawMessage  `json:"error,omitempty"` // of a declared error
}

// Name is what follows "/-/errors/" in the type, such as "invalid-request".
func (p *Problem) Name() string {
	if _, name, ok := strings.Cut(p.Type, "/-/errors/"); ok {
		return name
	}
	return p.Type
}

func (p *Problem) Error() string {
	s := fmt.Sprintf("%d %s", p.Status, p.Title)
	if p.Detail != "" {
		s += ": " + p.Detail
	}
	for _, v := range p.Violations {
		s += "; " + v.Pointer + " " + v.Detail
	}
	return s
}

// Unreachable is the error of a call that got no answer: no connection, a
// connection that broke, or a time-out.
type Unreachable struct {
	Call string
	Err  error
}

// Reason tells why there is no answer: "refused" where there was no connection, "lost" where
// it broke, "timed out" or "cancelled".
func (e *Unreachable) Reason() string {
	var dialled *net.OpError
	switch {
	case errors.Is(e.Err, context.Canceled):
		return "cancelled"
	case errors.Is(e.Err, context.DeadlineExceeded) || isTimeout(e.Err):
		return "timed out"
	case errors.As(e.Err, &dialled) && dialled.Op == "dial":
		return "refused"
	}
	return "lost"
}

func (e *Unreachable) Error() string {
	return e.Call + ": no answer, " + e.Reason() + ": " + e.Err.Error()
}

// Unwrap returns what went wrong.
func (e *Unreachable) Unwrap() error { return e.Err }

// BadAnswer is the error of a call whose answer could not be understood.
type BadAnswer struct {
	Call   string
	Status int
	Err    error
}

func (e *BadAnswer) Error() string {
	return fmt.Sprintf("%s: the answer with status %d was not understood: %v", e.Call, e.Status, e.Err)
}

// Unwrap returns what went wrong.
func (e *BadAnswer) Unwrap() error { return e.Err }

// Definitions is what a server says of itself.
type Definitions struct {
	Name    string
	Version string
	Digest  string
	Modules []Module
	Errors  []ErrorPage
	Manual  string // for /-/manual, as generate packs it; "" for none
}

// Module is the canonical text of one module.
type Module struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// ErrorPage documents one error.
type ErrorPage struct {
	Name   string `json:"name"`
	Status int    `json:"status"`
	Doc    string `json:"documentation"`
}

// The errors that every server may answer with.
var commonErrors = []ErrorPage{
	{"invalid-request", 400, "The request could not be read, or violates its definition. The member " +
		"errors lists every violation with a JSON Pointer."},
	{"unauthenticated", 401, "The call needs credentials that the request did not show, or that are not good; " +
		"WWW-Authenticate names them."},
	{"forbidden", 403, "The credentials are good, and not enough for this."},
	{"unknown-call", 404, "No call has this path."},
	{"wrong-method", 405, "The path is right and the method is not; Allow names the right one."},
	{"not-acceptable", 406, "Accept names neither application/cbor nor application/json."},
	{"too-large", 413, "The request is larger than this server takes, or has more elements."},
	{"unsupported-form", 415, "The body is neither application/cbor nor application/json, or is encoded."},
	{"range-not-satisfiable", 416, "The range that was asked for is not a part of the body; Content-Range says how long " +
		"that is."},
	{"internal", 500, "The server failed. Its log says why."},
	{"not-implemented", 501, "The call is defined, but this server does not implement it."},
	{"overloaded", 503, "The server has too much to do; Retry-After says when to try again."},
	{"too-slow", 503, "The call took longer than the client or the server allows."},
	{"unavailable", 503, "The server is shutting down; Retry-After says when to try again."},
}

func commonProblem(base, name, detail string) *Problem {
	for _, e := range commonErrors {
		if e.Name == name {
			return &Problem{Type: base + "/-/errors/" + name, Title: strings.ReplaceAll(name, "-", " "), Status: e.Status,
				Detail: detail}
		}
	}
	panic("no such error: " + name)
}

// single is a header's one value. Those of every call are kept; their capacity is
// used up, so that whoever adds to one gets a list of their own.
func single(value string) []string {
	switch value {
	case CBOR:
		return cborType
	case JSON:
		return jsonType
	}
	return []string{value}
}

var cborType, jsonType = []string{CBOR}, []string{JSON}

// mediaType returns a media type in lower case, without parameters.
func mediaType(header string) string {
	if header == CBOR || header == JSON {
		return header
	}
	t, _, _ := strings.Cut(header, ";")
	return strings.ToLower(strings.TrimSpace(t))
}

// preferred chooses the media type of an answer by Accept (RFC 9110, section
// 12.5.1): of the one for CBOR and the one for JSON that of higher quality; of
// two alike that in the encoding of the request, or JSON. It returns "" when
// neither is acceptable.
func preferred(accept []string, request, cborType, jsonType string) string {
	fallback := jsonType
	if isCBOR(request) {
		fallback = cborType
	}
	switch {
	case len(accept) == 0 || len(accept) == 1 && accept[0] == fallback:
		return fallback
	case len(accept) == 1 && accept[0] == cborType:
		return cborType
	}
	cbor, json := quality(accept, cborType), quality(accept, jsonType)
	switch {
	case cbor == 0 && json == 0:
		return ""
	case cbor > json:
		return cborType
	case json > cbor:
		return jsonType
	}
	return fallback
}

// isCBOR tells the types of CBOR from those of JSON.
func isCBOR(mediaType string) bool { return mediaType == CBOR || mediaType == CBORSeq }

func quality(accept []string, want string) float64 {
	best, bestRank := 0.0, -1
	for _, header := range accept {
		for part := range strings.SplitSeq(header, ",") {
			pattern, parameters, _ := strings.Cut(part, ";")
			rank := -1
			switch strings.ToLower(strings.TrimSpace(pattern)) {
			case want:
				rank = 2
			case "application/*":
				rank = 1
			case "*/*":
				rank = 0
			}
			if rank <= bestRank {
				continue
			}
			q := 1.0
			for parameter := range strings.SplitSeq(parameters, ";") {
				if value, ok := strings.CutPrefix(strings.ToLower(strings.TrimSpace(parameter)), "q="); ok {
					if parsed, err := strconv.ParseFloat(value, 64); err == nil {
						q = parsed
					}
				}
			}
			best, bestRank = q, rank
		}
	}
	return best
}

func decode(encoding string, data []byte, m wire.Message, items int) error {
	if encoding == CBOR {
		return wire.UnmarshalWithin(data, m, items)
	}
	return wire.UnmarshalTextWithin(data, m, items)
}

func encode(encoding string, m wire.Message) ([]byte, error) {
	if encoding == CBOR {
		return wire.MarshalBinary(m)
	}
	return wire.MarshalText(m)
}
