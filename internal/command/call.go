package command

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"iter"
	"net/http"
	"os"
	"os/signal"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/remote"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/stubs/golang/support/web"
	"faithfulcourier/internal/value"
)

// calling is the command call with its options.
type calling struct {
	w           *World
	of          string
	body        string
	hasBody     bool
	headers     *several
	trust       *trust
	credentials *several
	timeout     time.Duration
	repeat      int
	replay      string

	raw, media string

	head    string
	hasHead bool

	binary, anyway, blank, verbatim, curl bool
}

var callCommand = &command{
	name:     "call",
	synopsis: "URL SERVICE.CALL [@FILE] [-d JSON] [options]",
	short:    "calls a running server, and shows what it answers",
	long: `Sends one request and prints the answer; status, size and time go to standard
error. Give the body with -d, as @FILE, or on standard input; it is checked before
it is sent. If the request is a stream, each JSON value is sent as it arrives, after
what --head says; elements of an answer are printed as they arrive. The definitions
are those of the project here, or else those of the server. --blank prints a body
to fill in, --curl the same request for curl.`,
	examples: [2]string{"faithful call http://127.0.0.1:8080 Bookings.sailings -d '{\"from\": \"Eiderwick\"}'",
		"faithful call http://127.0.0.1:8080 Quay.post @notice.json --credential door=env:DOOR_KEY"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		c := &calling{}
		flags.StringVar(&c.of, "of", "", "the definitions: `REF`; the draft in a project, else those of the server")
		flags.StringVar(&c.body, "body", "", "the request, or its elements: `JSON`, or @FILE")
		letter(flags, "d", "body")
		flags.StringVar(&c.head, "head", "", "what comes before a request that is a stream: `JSON`, or @FILE")
		c.headers = severalOf(flags, "header", "send this header, too: `'NAME: VALUE'`")
		c.credentials = severalOf(flags, "credential",
			"`NAME=VALUE`, or NAME=env:VARIABLE, or NAME=file:PATH; it is never printed")
		c.trust = trustOptions(flags)
		flags.DurationVar(&c.timeout, "timeout", time.Minute,
			"how long to wait; of a stream how long it may be silent (`TIME`, such as 5s)")
		flags.BoolVar(&c.binary, "binary", false, "send and ask for CBOR instead of JSON")
		flags.BoolVar(&c.anyway, "anyway", false, "send the request even if the definitions refuse it")
		flags.BoolVar(&c.blank, "blank", false, "print a request to fill in, and send nothing")
		flags.BoolVar(&c.verbatim, "verbatim", false, "print the body of the answer as it came")
		flags.StringVar(&c.raw, "raw", "", "send the content of `FILE` as the body, where the call takes one as it is; - is "+
			"standard input")
		flags.StringVar(&c.media, "media", "", "the media `TYPE` of --raw, such as image/png")
		flags.BoolVar(&c.curl, "curl", false, "print the request as a command line for curl, and send nothing")
		flags.IntVar(&c.repeat, "repeat", 1, "send it `N` times, and print how long it took")
		flags.StringVar(&c.replay, "replay", "", "send the calls recorded in `FILE` again, and compare the answers")
		return func(w *World, args []string) (int, error) {
			c.w = w
			flags.Visit(func(f *flag.Flag) {
				c.hasBody = c.hasBody || f.Name == "d" || f.Name == "body"
				c.hasHead = c.hasHead || f.Name == "head"
			})
			return c.run(w.Context, args)
		}
	},
}

func (c *calling) run(ctx context.Context, args []string) (int, error) {
	if len(args) == 0 {
		return trouble, usage("first the URL of the server, such as http://127.0.0.1:8080")
	}
	if !project.IsURL(args[0]) {
		return trouble, usage("%q is not the URL of a server; write, for example: http://%s", args[0],
			cmp.Or(strings.TrimLeft(args[0], ":/"), "127.0.0.1:8080"))
	}
	if err := project.CheckURL(args[0]); err != nil {
		return trouble, err
	}
	options := remote.Options{Base: args[0], Binary: c.binary, Unchecked: c.anyway, Timeout: c.timeout,
		Credentials: map[string]string{}}
	var err error
	if options.Headers, err = headersOf(*c.headers); err != nil {
		return trouble, err
	}
	if options.Transport, err = c.trust.transport(c.w); err != nil {
		return trouble, err
	}
	for _, given := range *c.credentials {
		name, value, err := credentialOf(c.w, given)
		if err != nil {
			return trouble, err
		}
		options.Credentials[name] = value
	}
	defs, status, err := c.definitions(ctx, args[0])
	if defs == nil {
		return status, err
	}
	for name := range options.Credentials {
		if err := knownCredential(defs, name); err != nil {
			return trouble, err
		}
	}
	if c.replay != "" {
		if len(args) > 1 {
			return trouble, usage("--replay takes calls and requests from its file")
		}
		return replayFile(ctx, c.w, defs, c.replay, options)
	}
	if len(args) < 2 || len(args) > 3 || len(args) == 3 && c.hasBody {
		return trouble, usage("the URL, the SERVICE.CALL, and where the request is: @FILE, -d, or standard input")
	}
	thing, err := named(defs, args[1], aCall)
	if err != nil {
		return trouble, err
	}
	call := thing.(*schema.Call)
	if c.blank {
		if call.Request == nil {
			return trouble, fmt.Errorf("the request of %q is (): there is nothing to fill in", call.FullName())
		}
		if call.Head != nil {
			fmt.Fprintf(c.w.Err, "first its head: --head '%s'\n", remote.Blank(call.Head))
		}
		fmt.Fprintf(c.w.Out, "%s\n", indented(remote.Blank(call.Request)))
		return fine, nil
	}
	if options.Head, err = c.headOf(call); err != nil {
		return trouble, err
	}
	raw, err := c.rawBody(call)
	if err != nil {
		return trouble, err
	}
	if raw != nil {
		defer raw.Close()
		options.Raw, options.RawFile = raw, c.raw
	}
	in, err := c.input(call, args[2:])
	if err != nil {
		return trouble, err
	}
	defer in.Close()
	k := remote.NewCaller(call, options)
	var request []byte
	if !call.RequestStream {
		if request, err = oneRequest(call, in); err != nil {
			return trouble, err
		}
	}
	// From here on Ctrl-C gives the call up, and the server sees that.
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	switch {
	case c.curl:
		return c.printCurl(ctx, k, call, request, in)
	case call.RequestStream:
		if c.repeat > 1 {
			return trouble, usage("--repeat goes with calls whose request is not a stream")
		}
		return c.stream(ctx, k, call, in)
	case c.repeat > 1:
		return c.many(ctx, k, call, request)
	case call.ResponseStream:
		for a, err := range k.Elements(ctx, request) {
			if err != nil {
				return c.failed(k, call, err)
			}
			if status := c.element(call, a); status != fine {
				return status, nil
			}
		}
		c.summary(k)
		return fine, nil
	}
	answer, err := k.Do(ctx, request)
	if err != nil {
		return c.failed(k, call, err)
	}
	return c.answered(k, call, answer), nil
}

// definitions are those that --of names, else those of the project here, else
// those of the server.
func (c *calling) definitions(ctx context.Context, base string) (*schema.Definitions, int, error) {
	ref := c.of
	if ref == "" {
		ref = "draft"
		if _, err := openProject(c.w.Dir); isNoProject(err) {
			ref = base
		}
	}
	access := accessFlags{headers: &several{}, credentials: &several{}, trust: c.trust}
	if project.IsURL(ref) {
		// Credentials of calls are not known yet; those of the pages are.
		access.headers = c.headers
		for _, given := range *c.credentials {
			if name, _, _ := strings.Cut(given, "="); access.declared(c.w, name) != nil {
				*access.credentials = append(*access.credentials, given)
			}
		}
	}
	own := *c.w
	own.Context = ctx
	defs, findings, err := loadReference(&own, ref, access)
	if err != nil {
		return nil, trouble, err
	}
	if source.Errors(findings) > 0 {
		status, err := mistakes(c.w, "text", findings)
		return nil, status, err
	}
	return defs, fine, nil
}

func knownCredential(defs *schema.Definitions, name string) error {
	if declaredCredential(defs, name) != nil {
		return nil
	}
	var names []string
	for _, m := range defs.Modules {
		for _, c := range m.Credentials {
			names = append(names, c.Name)
		}
	}
	if near := source.Nearest(name, names); near != "" {
		return fmt.Errorf("there is no credential %q; did you mean %q?", name, near)
	}
	return fmt.Errorf("there is no credential %q; there are: %s", name, strings.Join(names, ", "))
}

// input is where the request comes from. A call of "()" has none.
func (c *calling) input(call *schema.Call, args []string) (io.ReadCloser, error) {
	from := c.body
	switch {
	case c.raw != "" && !c.hasBody && len(args) == 0:
		return io.NopCloser(strings.NewReader("{}")), nil
	case call.Request == nil:
		if c.hasBody || len(args) > 0 {
			return nil, fmt.Errorf("the request of %q is (): it takes no body", call.FullName())
		}
		return io.NopCloser(strings.NewReader("")), nil
	case len(args) == 1:
		from = "@" + strings.TrimPrefix(args[0], "@")
	case !c.hasBody:
		if c.w.InTerminal && !call.RequestStream {
			return nil, usage("%q needs a request: give it with -d, as @FILE, or on standard input (faithful call URL %s "+
				"--blank prints one to fill in)", call.Name, call.Service.Name+"."+call.Name)
		}
		if c.w.InTerminal {
			fmt.Fprintln(c.w.Err, "Type one element a line, in JSON; Ctrl-D ends the request.")
		}
		return io.NopCloser(c.w.In), nil
	}
	if from == "@-" {
		return io.NopCloser(c.w.In), nil
	}
	path, isFile := strings.CutPrefix(from, "@")
	if !isFile {
		return io.NopCloser(strings.NewReader(from)), nil
	}
	return os.Open(c.w.path(path))
}

// headOf is what comes before a stream of requests, as --head says; nil where nothing does.
func (c *calling) headOf(call *schema.Call) ([]byte, error) {
	switch {
	case call.Head == nil && c.hasHead:
		return nil, fmt.Errorf("%q has no head: nothing comes before its request", call.FullName())
	case call.Head == nil:
		return nil, nil
	}
	text := []byte(c.head)
	if path, isFile := strings.CutPrefix(c.head, "@"); isFile {
		var err error
		if text, err = os.ReadFile(c.w.path(path)); err != nil {
			return nil, err
		}
	}
	if text = bytes.TrimSpace(text); len(text) == 0 {
		text = []byte("{}") // what needs no field may be left out
	}
	return withLists(call, text), nil
}

// rawBody is what --raw names: nil for nothing.
func (c *calling) rawBody(call *schema.Call) (*web.Body, error) {
	field := conversation.Raw(call)
	switch {
	case c.raw == "" && c.media != "":
		return nil, usage("--media goes with --raw FILE")
	case c.raw == "":
		return nil, nil
	case field == nil:
		return nil, fmt.Errorf("the request of %q has no raw body: give it with -d, in JSON", call.FullName())
	}
	body := &web.Body{Reader: c.w.In, MediaType: c.media}
	if c.raw != "-" {
		file, err := os.Open(c.w.path(c.raw))
		if err != nil {
			return nil, err
		}
		body.Reader = file
		if info, err := file.Stat(); err == nil && info.Mode().IsRegular() {
			body.Length = info.Size()
		}
	}
	if c.media == "" && strings.Contains(field.In.Name, "*") {
		return nil, usage("%q is %s: say which with --media TYPE", field.Name, field.In.Name)
	}
	return body, nil
}

// oneRequest reads a request that is not a stream.
func oneRequest(call *schema.Call, in io.Reader) ([]byte, error) {
	if call.Request == nil {
		return nil, nil
	}
	const largest = 64 << 20
	request, err := io.ReadAll(io.LimitReader(in, largest+1))
	if err != nil {
		return nil, err
	}
	if len(request) > largest {
		return nil, fmt.Errorf("the request is larger than %d bytes", largest)
	}
	request = bytes.TrimSpace(request)
	if len(request) == 0 {
		request = []byte("{}") // what needs no field may be left out
	}
	return withLists(call, request), nil
}

// withLists adds the lists in the query that a request leaves out: in a URL none is empty.
func withLists(call *schema.Call, request []byte) []byte {
	var given map[string]json.RawMessage
	if json.Unmarshal(request, &given) != nil || given == nil {
		return request // which is said where it is read
	}
	for _, p := range conversation.Outside(call) {
		f := p.Field
		_, named := given[f.JSONName()]
		_, numbered := given[fmt.Sprintf("#%d", f.Number)]
		if f.Type.Kind != schema.KindList || f.Presence != schema.Required || named || numbered {
			continue
		}
		comma := ","
		if len(given) == 0 {
			comma = ""
		}
		request = fmt.Appendf(request[:len(request)-1], "%s%q:[]}", comma, f.JSONName())
		given[f.JSONName()] = nil
	}
	return request
}

// answered prints an answer, and returns the status.
func (c *calling) answered(k *remote.Caller, call *schema.Call, a *remote.Answer) int {
	if a.Raw != nil {
		return c.poured(k, a)
	}
	c.summary(k)
	switch {
	case c.verbatim:
		c.w.Out.Write(k.Seen().Body) // a broken pipe has no one to tell
	case a.Refused != nil:
		return c.refusedAnswer(call, k.Seen().Body, a.Refused)
	case a.Message != nil:
		text, err := value.EncodeJSON(a.Message)
		if err != nil {
			return c.refusedAnswer(call, k.Seen().Body, err)
		}
		fmt.Fprintf(c.w.Out, "%s\n", indented(text))
	}
	return fine
}

// poured writes an answer whose body is one field as it is, and the others next to it.
func (c *calling) poured(k *remote.Caller, a *remote.Answer) int {
	defer a.Raw.Close()
	_, err := io.Copy(c.w.Out, a.Raw)
	c.summary(k)
	p := report.New(c.w.Err, c.w.Look)
	if text, encodeErr := value.EncodeJSON(a.Message); encodeErr == nil && string(text) != "{}" {
		p.Line("%s", report.VisibleJSON(text))
	}
	if err != nil {
		p.Line("%s the body is not whole: %v", p.In(report.Red, "lost"), err)
		return trouble
	}
	return fine
}

// refusedAnswer prints an answer that is not what the definitions say.
func (c *calling) refusedAnswer(call *schema.Call, body []byte, why error) int {
	p := report.New(c.w.Out, c.w.Look)
	p.Line("%s the answer is not a %q of these definitions:", p.In(report.Red, "refused"), call.Response.FullName())
	var e *value.Error
	if errors.As(why, &e) {
		printPayloadError(p, e)
	} else {
		p.Line("  %v", why)
	}
	printBody(p, body)
	return found
}

// printBody prints what came, as far as people can read it.
func printBody(p *report.Printer, body []byte) {
	shown := 2000
	more := ""
	if len(body) > shown {
		for shown > 1997 && !utf8.RuneStart(body[shown]) {
			shown-- // a character is not cut
		}
		more = fmt.Sprintf("… and %s more; --verbatim prints all", report.Plural(len(body)-shown, "byte"))
		body = body[:shown]
	}
	if len(body) == 0 {
		return
	}
	p.Line("")
	p.Line("%s", p.In(report.Faint, "what came:"))
	if strings.ContainsFunc(string(body), func(r rune) bool { return r == 0xfffd || r != '\r' && report.IsControl(r) }) {
		for len(body) > 0 {
			n := min(32, len(body))
			p.Line("  % x", body[:n])
			body = body[n:]
		}
	} else {
		p.Line("  %s", strings.ReplaceAll(strings.TrimSpace(string(body)), "\n", "\n  "))
	}
	if more != "" {
		p.Line("  %s", p.In(report.Faint, more))
	}
}

// element prints one element of an answer that is a stream.
func (c *calling) element(call *schema.Call, a *remote.Answer) int {
	if a.Refused != nil {
		return c.refusedAnswer(call, nil, a.Refused)
	}
	text, err := value.EncodeJSON(a.Message)
	if err != nil {
		return c.refusedAnswer(call, nil, err)
	}
	fmt.Fprintf(c.w.Out, "%s\n", report.VisibleJSON(text))
	return fine
}

// summary says in a line what came back: it is not a part of the answer, so it goes
// to standard error.
func (c *calling) summary(k *remote.Caller) {
	seen := k.Seen()
	p := report.New(c.w.Err, c.w.Look)
	style := report.Green
	if seen.Status >= 400 {
		style = report.Red
	}
	encoding := seen.Header.Get("Content-Type")
	if encoding == "" {
		encoding = "no body"
	}
	p.Line("%s  %s  %s  %s", p.In(style, statusText(seen.Status)), encoding, byteCount(seen.Size), took(seen.Whole))
}

func statusText(status int) string {
	return strings.TrimSpace(fmt.Sprintf("%d %s", status, http.StatusText(status)))
}

func took(d time.Duration) string {
	switch {
	case d < 10*time.Millisecond:
		return fmt.Sprintf("%.2f ms", float64(d)/1e6)
	case d < time.Second:
		return fmt.Sprintf("%.0f ms", float64(d)/1e6)
	}
	return fmt.Sprintf("%.2f s", d.Seconds())
}

func byteCount(n int64) string {
	if n < 10_000 {
		return report.Plural(int(n), "byte")
	}
	if n < 10_000_000 {
		return fmt.Sprintf("%.1f kB", float64(n)/1e3)
	}
	return fmt.Sprintf("%.1f MB", float64(n)/1e6)
}

// failed prints why a call failed, and returns the status.
func (c *calling) failed(k *remote.Caller, call *schema.Call, err error) (int, error) {
	p := report.New(c.w.Out, c.w.Look)
	var refusal *remote.Refusal
	var declared *remote.Declared
	var problem *web.Problem
	var bad *web.BadAnswer
	var missing *web.MissingCredential
	var unreachable *web.Unreachable
	var unchanged *web.NotModified
	switch {
	case errors.As(err, &unchanged):
		c.summary(k)
		p.Line("The answer is still the one with the tag %s.", report.Printable(unchanged.ETag))
		return fine, nil
	case errors.As(err, &refusal):
		printRefusal(p, call, refusal)
		return found, nil
	case errors.As(err, &missing):
		return trouble, fmt.Errorf("%q needs %q: give it with --credential %s=…, or NAME=env:VARIABLE", call.FullName(),
			missing.Needs, firstNeeded(call))
	case errors.As(err, &declared):
		c.summary(k)
		p.Line("%s, an error that %q declares:", p.In(report.Red, declared.Problem.Name()), call.Name)
		if text, err := value.EncodeJSON(declared.Message); err == nil {
			p.Line("  %s", strings.ReplaceAll(string(indented(text)), "\n", "\n  "))
		}
		return found, nil
	case errors.As(err, &problem):
		c.summary(k)
		printProblem(p, problem)
		if problem.Name() == "unauthenticated" {
			for _, challenge := range k.Seen().Header.Values("Www-Authenticate") {
				p.Line("  it asks for  %s", report.Printable(challenge))
			}
		}
		return found, nil
	case errors.As(err, &bad):
		c.summary(k)
		p.Line("%s a server of these definitions never gives this answer: %s", p.In(report.Red, "refused"),
			report.Printable(bad.Err.Error()))
		if location := k.Seen().Header.Get("Location"); location != "" && bad.Status/100 == 3 {
			p.Line("  it leads to  %s", report.Printable(location))
			p.Line("  Redirects are not followed, so that credentials go nowhere else.")
		}
		if !call.ResponseStream {
			printBody(p, k.Seen().Body)
		}
		return found, nil
	case errors.As(err, &unreachable):
		return trouble, c.noAnswer(unreachable)
	}
	return trouble, err
}

func (c *calling) noAnswer(e *web.Unreachable) error {
	text := e.Err.Error()
	switch {
	case errors.Is(e.Err, context.Canceled):
		return errors.New("interrupted")
	case errors.Is(e.Err, context.DeadlineExceeded):
		return fmt.Errorf("no answer within %v; --timeout waits longer", c.timeout)
	}
	// The URL is on the command line already, and credentials may be in the query.
	if i := strings.Index(text, `": `); i >= 0 {
		text = text[i+3:]
	}
	return fmt.Errorf("no answer: %s", text)
}

func firstNeeded(call *schema.Call) string {
	if len(call.Needs) > 0 && len(call.Needs[0]) > 0 {
		return call.Needs[0][0].Name
	}
	return "NAME"
}

// printRefusal says what the definitions have against a request.
func printRefusal(p *report.Printer, call *schema.Call, r *remote.Refusal) {
	what, hint := "a request", "Send it with --anyway, or print one to fill in with --blank."
	if r.Of == call.Head {
		what = "the head of a request"
		hint = "Give it with --head; --blank prints one to fill in, --anyway sends it as it is."
	}
	p.Line("%s this is not %s of %q; nothing was sent.", p.In(report.Red, "refused"), what, call.FullName())
	if r.Unreadable != nil {
		printPayloadError(p, r.Unreadable)
	}
	var rows [][]string
	for _, v := range r.Violations {
		rows = append(rows, []string{p.In(report.Bold, v.Pointer), v.Detail})
	}
	p.Table("  ", rows)
	p.Line("%s", p.In(report.Faint, hint))
}

// printProblem lays out problem details (RFC 9457).
func printProblem(p *report.Printer, problem *web.Problem) {
	title := problem.Name()
	if title == "about:blank" { // its title is what its status is called
		title = problem.Title
	}
	if problem.Detail != "" {
		title += ": " + problem.Detail
	}
	p.Line("%s %s", p.In(report.Red, "problem"), report.Printable(title))
	var rows [][]string
	for _, v := range problem.Violations {
		where := v.Pointer
		if v.In != "" {
			where += " in the " + v.In
		}
		if where == "" {
			where = "(the whole)"
		}
		rows = append(rows, []string{p.In(report.Bold, report.Printable(where)), report.Printable(v.Detail)})
	}
	p.Table("  ", rows)
	if problem.Instance != "" {
		p.Line("  instance  %s", report.Printable(problem.Instance))
	}
}

// stream makes a call whose request is a stream.
func (c *calling) stream(ctx context.Context, k *remote.Caller, call *schema.Call, in io.Reader) (int, error) {
	s, err := k.Open(ctx)
	if err != nil {
		return c.failed(k, call, err)
	}
	defer s.Close()
	received := make(chan outcome, 1)
	typing, stop := context.WithCancel(ctx)
	defer stop()
	if call.ResponseStream {
		go func() {
			o := c.receive(k, call, s)
			if o.status != fine || o.err != nil {
				stop() // nobody listens to what would be typed
			}
			received <- o
		}()
	}
	sent := 0
	for one := range typed(typing, in) {
		if one.err != nil {
			return trouble, one.err
		}
		err := s.Send(one.element)
		var refusal *remote.Refusal
		if errors.As(err, &refusal) && c.w.InTerminal && !c.hasBody {
			// Who types may type again.
			printRefusal(report.New(c.w.Err, c.w.Look), call, refusal)
			continue
		}
		if err != nil && call.ResponseStream && refusal == nil {
			break // what comes says why
		}
		if err != nil {
			if refusal != nil {
				fmt.Fprintf(c.w.Err, "Element %d is refused; the %s before it %s sent, and the call is given up.\n", sent+1,
					report.Plural(sent, "element"), map[bool]string{true: "was", false: "were"}[sent == 1])
			}
			return c.failed(k, call, err)
		}
		sent++
	}
	if ctx.Err() != nil {
		s.Close()
		return trouble, errors.New("interrupted")
	}
	if typing.Err() != nil {
		o := <-received
		return o.status, o.err
	}
	answer, err := s.Finish()
	if call.ResponseStream {
		o := <-received
		if o.err == nil && o.status == fine {
			fmt.Fprintf(report.Faintly(c.w.Err, c.w.Look.Colour), "sent %s, received %s\n", report.Plural(sent, "element"),
				report.Plural(o.count, "element"))
		}
		return o.status, o.err
	}
	if err != nil {
		return c.failed(k, call, err)
	}
	return c.answered(k, call, answer), nil
}

// input is one element that somebody typed, or why there are no more.
type input struct {
	element []byte
	err     error
}

// typed yields elements as they come. Whoever types may take their time, so they
// are waited for only as long as the call goes on.
func typed(ctx context.Context, in io.Reader) iter.Seq[input] {
	list := make(chan input)
	go func() {
		defer close(list)
		elements := value.NewJSONElements(in, 0)
		for {
			one, err := elements.Next()
			if one == nil && err == nil {
				return
			}
			select {
			case list <- input{bytes.Clone(one), err}:
			case <-ctx.Done():
				return
			}
			if err != nil {
				return
			}
		}
	}()
	return func(yield func(input) bool) {
		for {
			select {
			case one, more := <-list:
				if !more || !yield(one) {
					return
				}
			case <-ctx.Done():
				return
			}
		}
	}
}

type outcome struct {
	status, count int
	err           error
}

// receive prints what a call that streams both ways sends.
func (c *calling) receive(k *remote.Caller, call *schema.Call, s *remote.Sending) (o outcome) {
	for a, err := range s.Received() {
		if err != nil {
			o.status, o.err = c.failed(k, call, err)
			return o
		}
		if o.status = c.element(call, a); o.status != fine {
			return o
		}
		o.count++
	}
	return o
}

// many sends a request several times.
func (c *calling) many(ctx context.Context, k *remote.Caller, call *schema.Call, request []byte) (int, error) {
	var times []time.Duration
	begin := time.Now()
	for i := range c.repeat {
		var err error
		if call.ResponseStream {
			for _, elementErr := range k.Elements(ctx, request) {
				err = elementErr
			}
		} else {
			var a *remote.Answer
			if a, err = k.Do(ctx, request); err == nil && a.Refused != nil {
				return c.refusedAnswer(call, k.Seen().Body, a.Refused), nil
			}
		}
		if err != nil {
			fmt.Fprintf(c.w.Err, "Call %d of %d failed.\n", i+1, c.repeat)
			return c.failed(k, call, err)
		}
		times = append(times, k.Seen().Whole)
	}
	all := time.Since(begin)
	slices.Sort(times)
	at := func(share float64) string { return took(times[min(len(times)-1, int(share*float64(len(times))))]) }
	buffered(c.w, func(p *report.Printer) {
		p.Line("%s in %s, one after the other: %.0f a second", report.Plural(c.repeat, "call"), took(all),
			float64(c.repeat)/all.Seconds())
		p.Table("  ", [][]string{{"fastest", took(times[0])}, {"median", at(0.5)}, {"95 of 100", at(0.95)},
			{"slowest", took(times[len(times)-1])}})
	})
	return fine, nil
}

// printCurl prints a request for curl.
func (c *calling) printCurl(ctx context.Context, k *remote.Caller, call *schema.Call, request []byte,
	in io.Reader) (int, error) {
	requests := [][]byte{request}
	if call.RequestStream {
		requests = nil
		elements := value.NewJSONElements(in, 0)
		for {
			one, err := elements.Next()
			if err != nil {
				return trouble, err
			}
			if one == nil {
				break
			}
			requests = append(requests, bytes.Clone(one))
		}
	}
	line, variables, err := k.Curl(ctx, requests)
	if err != nil {
		return c.failed(k, call, err)
	}
	if len(variables) > 0 {
		fmt.Fprintf(c.w.Out, "# credentials are taken from the environment: %s\n", strings.Join(variables, ", "))
	}
	fmt.Fprintf(c.w.Out, "%s\n", line)
	return fine, nil
}
