package web

import (
	"cmp"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"faithfulcourier/internal/stubs/golang/support/wire"
)

// Refusal is the error with which a handler or middleware refuses a request for a reason of
// its own: violations that only it can find, or any problem (RFC 9457) with a status of 4xx or
// 5xx, such as 429. Its texts are for the caller, who gets them as a *Problem.
type Refusal struct {
	// Violations are answered as those that the definitions name: with 400, and without Status,
	// Type and Title.
	Violations []wire.Violation

	Status     int           // 400 to 599
	Type       string        // a URI that tells which problem it is; "" where the status says enough
	Title      string        // what is always the same about it; "" is what the status is called
	Detail     string        // what is the matter this time
	Instance   string        // a URI of this occurrence
	RetryAfter time.Duration // when to try again, if at all
}

func (r *Refusal) Error() string {
	if len(r.Violations) > 0 {
		return (&Problem{Status: http.StatusBadRequest, Title: "refused", Violations: r.Violations}).Error()
	}
	return (&Problem{Status: r.Status, Title: r.title(), Detail: r.Detail}).Error()
}

func (r *Refusal) title() string {
	return cmp.Or(r.Title, statusText(r.Status))
}

// statusText is what a status is called (RFC 9110, section 15).
func statusText(status int) string {
	if status >= 500 {
		return cmp.Or(http.StatusText(status), "Server error")
	}
	return cmp.Or(http.StatusText(status), "Client error")
}

// problem is what the caller gets. A refusal that makes none is an error of the server's author.
func (r *Refusal) problem(base string) (*Problem, map[string]string, error) {
	switch {
	case len(r.Violations) > 0 && (r.Status != 0 && r.Status != http.StatusBadRequest || r.Type != "" || r.Title != ""):
		return nil, nil, fmt.Errorf("a refusal with violations has the status 400, and no type or title of its own: %w", r)
	case len(r.Violations) > 0:
		return violated(base, r.Violations), nil, nil
	case r.Status < 400 || r.Status > 599:
		return nil, nil, fmt.Errorf("a refusal has a status of 400 to 599, not %d: %w", r.Status, r)
	case strings.Contains(r.Type, "/-/errors/"):
		return nil, nil, fmt.Errorf("the type %q of a refusal means an error of the definitions: %w", r.Type, r)
	}
	p := &Problem{Type: r.Type, Title: r.title(), Status: r.Status, Detail: r.Detail, Instance: r.Instance}
	if p.Type == "" {
		p.Type = blank
	}
	headers := map[string]string{}
	if r.RetryAfter > 0 {
		headers["Retry-After"] = strconv.Itoa(seconds(r.RetryAfter))
	}
	return p, headers, nil
}

// blank is the type of a problem of which its status says enough (RFC 9457, section 4.2.1).
const blank = "about:blank"

// violated is the problem of a request with violations.
func violated(base string, violations []wire.Violation) *Problem {
	p := commonProblem(base, "invalid-request", fmt.Sprintf("%d violations", len(violations)))
	if len(violations) == 1 {
		p.Detail = "1 violation"
	}
	p.Violations = violations
	return p
}
