package project

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"time"

	"faithfulcourier/internal/check"
	"faithfulcourier/internal/source"
)

// Access is how a running server is asked for its definitions.
type Access struct {
	Headers http.Header   // with credentials that travel there
	Query   url.Values    // credentials that travel there
	Timeout time.Duration // of all of it; 0 means 30 s
	Limit   int64         // of the answer in bytes; 0 means 16 MiB

	Transport http.RoundTripper // nil for that of net/http
}

// Served is what a running server says of its definitions, checked.
type Served struct {
	Name    string
	Version string
	Digest  string
	Files   []*source.File // one a module
}

// IsURL tells references to a running server.
func IsURL(ref string) bool {
	return strings.HasPrefix(ref, "http://") || strings.HasPrefix(ref, "https://")
}

// CheckURL refuses what is not the address of a server, or has a password in it: addresses are
// printed, and kept in faithful.lock.
func CheckURL(ref string) error {
	u, err := url.Parse(ref)
	switch {
	case strings.Contains(beforePath(ref), "@"):
		return fmt.Errorf("the address %s has a name or a password in it, which would be shown and stored: take it out, "+
			"and give it with --credential or --header", withoutUser(ref))
	case err != nil || u.Host == "":
		return fmt.Errorf("%s is not the address of a server; one is written as in http://127.0.0.1:8080/v1", ref)
	}
	return nil
}

// beforePath is what stands between the scheme of an address and its path.
func beforePath(ref string) string {
	_, rest, _ := strings.Cut(ref, "://")
	if i := strings.IndexAny(rest, "/?#"); i >= 0 {
		rest = rest[:i]
	}
	return rest
}

func withoutUser(ref string) string {
	authority := beforePath(ref)
	return strings.Replace(ref, authority, "…@"+authority[strings.LastIndexByte(authority, '@')+1:], 1)
}

// servedDocument is what GET {base}/-/definitions answers.
type servedDocument struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Digest  string `json:"digest"`
	Modules []struct {
		Name string `json:"name"`
		Text string `json:"text"`
	} `json:"modules"`
}

// Fetch asks the server at base for its definitions. What comes is believed in
// nothing: its size, its encoding, its names and its digest are looked at. Redirects
// are not followed, so that credentials go nowhere else.
func Fetch(ctx context.Context, base string, access Access) (*Served, error) {
	base, _, _ = strings.Cut(base, "#")
	if err := CheckURL(base); err != nil {
		return nil, err
	}
	u, err := url.Parse(strings.TrimRight(base, "/") + "/-/definitions")
	if err != nil {
		return nil, err
	}
	query := u.Query()
	for name, values := range access.Query {
		query[name] = values
	}
	u.RawQuery = query.Encode()
	timeout, limit := access.Timeout, access.Limit
	if timeout == 0 {
		timeout = 30 * time.Second
	}
	if limit == 0 {
		limit = 16 << 20
	}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if err != nil {
		return nil, err
	}
	request.Header.Set("Accept", "application/json, application/problem+json;q=0.9")
	for name, values := range access.Headers {
		request.Header[name] = values
	}
	client := http.Client{Transport: access.Transport,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	response, err := client.Do(request)
	if err != nil {
		return nil, unreachable(base, timeout, err)
	}
	defer response.Body.Close()
	body, err := io.ReadAll(io.LimitReader(response.Body, limit+1))
	if err != nil {
		return nil, unreachable(base, timeout, err)
	}
	if int64(len(body)) > limit {
		return nil, fmt.Errorf("the definitions of %s are larger than %d bytes", base, limit)
	}
	encoding, _, _ := mime.ParseMediaType(response.Header.Get("Content-Type"))
	if response.StatusCode != http.StatusOK {
		return nil, refusal(base, response, encoding, body)
	}
	if encoding != "application/json" {
		return nil, fmt.Errorf("%s answers at /-/definitions with %s, not with its definitions; is it a server of "+
			"Faithful Courier?", base, orNothing(encoding))
	}
	var document servedDocument
	if err := json.Unmarshal(body, &document); err != nil {
		return nil, fmt.Errorf("%s answers at /-/definitions with JSON that can't be read: %w", base, err)
	}
	return document.checked(base)
}

// unreachable says why a server did not answer, without the URL that was asked:
// credentials may be in it.
func unreachable(base string, timeout time.Duration, err error) error {
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		err = wrapped.Err
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("%s did not give its definitions within %v", base, timeout)
	}
	return fmt.Errorf("%s can't be reached: %w", base, err)
}

func refusal(base string, response *http.Response, encoding string, body []byte) error {
	var problem struct{ Title, Detail string }
	said := ""
	if encoding == "application/problem+json" && json.Unmarshal(body, &problem) == nil {
		said = ": " + printable(problem.Title)
		if problem.Detail != "" {
			said += ", " + printable(problem.Detail)
		}
	}
	message := fmt.Sprintf("%s does not give its definitions: it answers %s%s", base, response.Status, said)
	switch code := response.StatusCode; {
	case code == http.StatusUnauthorized || code == http.StatusForbidden:
		message += "; give it what it needs with --credential NAME=VALUE or --header 'NAME: VALUE'"
	case code/100 == 3:
		message += fmt.Sprintf("; it leads to %s: name that server if you trust it",
			printable(response.Header.Get("Location")))
	}
	return errors.New(message)
}

// printable takes away what could move a terminal's cursor, and shortens.
func printable(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r >= 0x7f && r < 0xa0 {
			return -1
		}
		return r
	}, s)
	if runes := []rune(s); len(runes) > 300 {
		s = string(runes[:300]) + "…"
	}
	return s
}

func orNothing(s string) string {
	if s == "" {
		return "something that has no type"
	}
	return printable(s)
}

// checked believes a document as far as it can be checked: its modules are named
// as modules are, and its digest is that of its texts.
func (d *servedDocument) checked(base string) (*Served, error) {
	s := &Served{Name: printable(d.Name), Version: printable(d.Version), Digest: d.Digest}
	moduleName := regexp.MustCompile(`^[a-z][a-z0-9_]*(\.[a-z][a-z0-9_]*)*$`)
	seen := map[string]bool{}
	for _, m := range d.Modules {
		if !moduleName.MatchString(m.Name) || len(m.Name) > 200 {
			return nil, fmt.Errorf("%s names a module %q, which no module can be called", base, printable(m.Name))
		}
		if seen[m.Name] {
			return nil, fmt.Errorf("%s gives the module %q twice", base, m.Name)
		}
		seen[m.Name] = true
		s.Files = append(s.Files, source.NewFile(base+"#"+m.Name, m.Text))
	}
	if len(s.Files) == 0 {
		return nil, fmt.Errorf("%s has no definitions", base)
	}
	defs, findings := check.Load(s.Files)
	for _, f := range findings {
		if f.Severity == source.Error {
			at := f.Place.File.Position(f.Place.Span.Start)
			return nil, fmt.Errorf("%s gives definitions with errors: %s:%d:%d: %s", base, f.Place.File.Name, at.Line,
				at.Column, printable(f.Message))
		}
	}
	if digest := defs.Digest(); digest != d.Digest {
		return nil, fmt.Errorf("%s says that the digest of its definitions is %s, and it is %s: something on the way "+
			"has changed them", base, orNothing(d.Digest), digest)
	}
	return s, nil
}
