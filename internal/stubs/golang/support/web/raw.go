package web

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"faithfulcourier/internal/stubs/golang/support/wire"
)

// Body is a body that travels as it is.
type Body = wire.Body

// Raw is how a body travels as it is.
type Raw struct {
	Field  string // in JSON
	Bounds *wire.RawBounds
	Of     func(whole Message) *Body // where it is in a message
}

// raw is the body of a message that travels as it is, or nil.
func (t *Travel) raw() *Raw {
	if t == nil {
		return nil
	}
	return t.Raw
}

// rawLimit is how large a body may be that the definitions have no limit for.
const rawLimit = 64 << 20

// piece is how much of a body goes out before somebody looks at the clock.
const piece = 1 << 20

// arriving is the body of a request, as its handler reads it.
type arriving struct {
	x      *exchange
	raw    *Raw
	source io.Reader
	total  int64
	failed error // what is wrong with it; a *requestError where the caller is at fault
	ended  bool
}

// rawRequest looks at what a body is before it is read, and hands it to the request.
func (x *exchange) rawRequest(raw *Raw, request Message) bool {
	m, w, r := x.mount, x.w, x.r
	refuse := func(detail string) bool {
		m.invalid(w, r, []wire.Violation{{Pointer: wire.Step("", raw.Field), Detail: detail, In: "body"}})
		return false
	}
	switch coding, kind := r.Header.Get("Content-Encoding"), r.Header.Get("Content-Type"); {
	case coding != "" && !strings.EqualFold(coding, "identity"):
		m.problem(w, r, "unsupported-form", "a raw body is not encoded: "+coding)
		return false
	case kind == "":
		m.problem(w, r, "unsupported-form", fmt.Sprintf("Content-Type is missing: %s", raw.Bounds.MediaType))
		return false
	case !raw.Bounds.Allows(kind):
		m.problem(w, r, "unsupported-form", fmt.Sprintf("Content-Type is %s, not %q", raw.Bounds.MediaType, mediaType(kind)))
		return false
	case r.ContentLength >= 0 && raw.Bounds.Outside(r.ContentLength) != "":
		return refuse(raw.Bounds.Outside(r.ContentLength))
	case raw.Bounds.High == 0 && r.ContentLength > rawLimit:
		m.problem(w, r, "too-large", fmt.Sprintf("the body is larger than %d bytes", int64(rawLimit)))
		return false
	}
	x.arriving = &arriving{x: x, raw: raw, source: r.Body}
	*raw.Of(request) = Body{Reader: x.arriving, MediaType: r.Header.Get("Content-Type"), Length: max(0, r.ContentLength)}
	return true
}

// Read reads on, and refuses what the definitions do.
func (a *arriving) Read(p []byte) (int, error) {
	if a.failed != nil {
		return 0, a.failed
	}
	_ = http.NewResponseController(a.x.w).SetReadDeadline(time.Now().Add(a.x.mount.idle))
	n, err := a.source.Read(p)
	a.total += int64(n)
	bounds := a.raw.Bounds
	switch {
	case bounds.High > 0 && a.total > bounds.High:
		a.failed = a.violation(fmt.Sprintf("must have at most %d bytes", bounds.High))
		return 0, a.failed
	case bounds.High == 0 && a.total > rawLimit:
		a.failed = &requestError{commonProblem(a.x.mount.base, "too-large",
			fmt.Sprintf("the body is larger than %d bytes", int64(rawLimit)))}
		return 0, a.failed
	case err == io.EOF:
		a.ended = true
		if detail := bounds.Outside(a.total); detail != "" {
			a.failed = a.violation(detail)
			return n, a.failed
		}
	case err != nil && isTimeout(err):
		a.failed = &requestError{commonProblem(a.x.mount.base, "too-slow", "the body was silent for too long")}
		return n, a.failed
	case err != nil:
		a.failed = err
	}
	return n, err
}

func (a *arriving) violation(detail string) error {
	p := violated(a.x.mount.base, []wire.Violation{{Pointer: wire.Step("", a.raw.Field), Detail: detail, In: "body"}})
	return &requestError{p}
}

// rawAnswer writes an answer whose body travels as it is.
func (x *exchange) rawAnswer(ctx context.Context, raw *Raw, answer Message) {
	call, header := x.route.Call, x.w.Header()
	body := raw.Of(answer)
	defer body.Close()
	kind := raw.Bounds.Type(body.MediaType)
	switch {
	case kind == "":
		x.fail(ctx, fmt.Errorf("the answer does not say the media type of %q: %s", raw.Field, raw.Bounds.MediaType))
		return
	case !raw.Bounds.Allows(kind):
		x.fail(ctx, fmt.Errorf("the media type of %q is %s, not %s", raw.Field, raw.Bounds.MediaType, kind))
		return
	}
	size := body.Size()
	if size >= 0 && raw.Bounds.Outside(size) != "" {
		x.fail(ctx, fmt.Errorf("%q %s", raw.Field, raw.Bounds.Outside(size)))
		return
	}
	status := cmp.Or(call.Status, http.StatusOK)
	known, err := x.outside(answer, status, false, false)
	switch {
	case err != nil:
		x.fail(ctx, err)
		return
	case known:
		x.mount.deliver(x.w, x.r, http.StatusNotModified, nil)
		return
	}
	header["X-Content-Type-Options"] = []string{"nosniff"}
	header["Content-Security-Policy"] = []string{"sandbox"}
	var source io.Reader = body
	if x.r.Method == http.MethodGet && status == http.StatusOK && size >= 0 {
		header["Accept-Ranges"] = []string{"bytes"}
		if begin, length, ranged := x.ranged(size); ranged && length < 0 {
			header["Content-Range"] = []string{fmt.Sprintf("bytes */%d", size)}
			x.mount.problem(x.w, x.r, "range-not-satisfiable", fmt.Sprintf("there are %d bytes", size))
			return
		} else if ranged {
			if err := skip(body, begin); err != nil {
				x.fail(ctx, err)
				return
			}
			source, status = io.LimitReader(body.Reader, length), http.StatusPartialContent
			header["Content-Range"] = []string{fmt.Sprintf("bytes %d-%d/%d", begin, begin+length-1, size)}
			size = length
		}
	}
	header["Content-Type"] = []string{kind}
	if size >= 0 {
		header["Content-Length"] = []string{strconv.FormatInt(size, 10)}
	}
	if x.r.Method == http.MethodHead {
		x.mount.deliver(x.w, x.r, status, nil)
		return
	}
	x.pour(ctx, status, source, size)
}

// pour writes a body as it comes. What fails before anything has gone is an ordinary problem;
// after that the connection breaks, so that nobody takes a part for the whole.
func (x *exchange) pour(ctx context.Context, status int, source io.Reader, size int64) {
	controller := http.NewResponseController(x.w)
	if x.arriving != nil && x.r.ProtoMajor == 1 {
		_ = controller.EnableFullDuplex() // what comes may be what goes
	}
	first := make([]byte, 32<<10)
	n, err := io.ReadAtLeast(source, first, 1)
	if err != nil && err != io.EOF {
		for _, name := range []string{"Content-Length", "Content-Range", "Accept-Ranges", "Etag", "Last-Modified"} {
			x.w.Header().Del(name)
		}
		x.fail(ctx, err)
		return
	}
	_ = controller.SetWriteDeadline(time.Now().Add(x.mount.idle))
	x.w.WriteHeader(status)
	wrote, gone := x.w.Write(first[:n])
	total := int64(wrote)
	for err == nil && gone == nil {
		if size < 0 && controller.Flush() != nil {
			return
		}
		_ = controller.SetWriteDeadline(time.Now().Add(x.mount.idle))
		limit := int64(piece)
		if size < 0 {
			limit = int64(len(first)) // whoever makes it as it goes has it seen as it goes
		}
		var more int64
		from := &sourced{Reader: source}
		more, gone = io.CopyN(x.w, from, limit)
		total += more
		if from.err != nil {
			err = from.err
		}
		if gone == io.EOF {
			gone = nil
		}
	}
	switch {
	case gone != nil && x.r.Context().Err() == nil && errors.Is(gone, http.ErrContentLength):
		x.mount.report(ctx, x.route.Call.Name, fmt.Errorf("the body is longer than it says: %w", gone))
	case gone != nil: // a client that has left is not an error of ours
	case err != io.EOF, size >= 0 && total < size:
		if err == io.EOF {
			err = fmt.Errorf("the body has %d bytes, and says %d", total, size)
		}
		x.failedWith(err)
		x.mount.report(ctx, x.route.Call.Name, err)
	default:
		_ = controller.Flush()
		_ = controller.SetWriteDeadline(time.Time{})
		return
	}
	panic(http.ErrAbortHandler)
}

// sourced keeps what reading failed with, to tell it from writing.
type sourced struct {
	io.Reader
	err error
}

func (s *sourced) Read(p []byte) (int, error) {
	n, err := s.Reader.Read(p)
	if err != nil {
		s.err = err
	}
	return n, err
}

// ranged is the one range of a body that a request asks for (RFC 9110, section 14.2); its
// length is -1 where there is nothing of it. Several, and those of another version of the body,
// are not asked for.
func (x *exchange) ranged(size int64) (begin, length int64, ranged bool) {
	set, ok := strings.CutPrefix(x.r.Header.Get("Range"), "bytes=")
	if !ok || strings.Contains(set, ",") {
		return 0, 0, false
	}
	if version := x.r.Header.Get("If-Range"); version != "" {
		tag := x.w.Header().Get("Etag")
		if version != x.w.Header().Get("Last-Modified") && (version != tag || strings.HasPrefix(tag, "W/")) {
			return 0, 0, false
		}
	}
	from, to, ok := strings.Cut(strings.TrimSpace(set), "-")
	if !ok {
		return 0, 0, false
	}
	last := size - 1
	if from == "" {
		n, err := strconv.ParseUint(to, 10, 62)
		switch {
		case err != nil:
			return 0, 0, false
		case n == 0 || size == 0:
			return 0, -1, true
		}
		return max(0, size-int64(n)), min(size, int64(n)), true
	}
	first, err := strconv.ParseUint(from, 10, 62)
	if err != nil {
		return 0, 0, false
	}
	if to != "" {
		end, err := strconv.ParseUint(to, 10, 62)
		if err != nil || end < first {
			return 0, 0, false
		}
		last = min(last, int64(end))
	}
	if int64(first) >= size {
		return 0, -1, true
	}
	return int64(first), last - int64(first) + 1, true
}

// skip leaves out the beginning of a body.
func skip(b *Body, n int64) error {
	if n == 0 {
		return nil
	}
	if seeker, ok := b.Reader.(io.Seeker); ok {
		_, err := seeker.Seek(n, io.SeekCurrent)
		return err
	}
	_, err := io.CopyN(io.Discard, b.Reader, n)
	return err
}

// leaving is the body of a request while it is sent: only waiting for the server counts as its
// silence, not waiting for what is sent.
type leaving struct {
	Body
	silence *watch
}

func (l *leaving) Read(p []byte) (int, error) {
	l.silence.timer.Stop()
	defer l.silence.timer.Reset(l.silence.after)
	return l.Body.Read(p)
}

// sendRaw makes a body that of a request.
func sendRaw(r *http.Request, raw *Raw, request Message) {
	body := *raw.Of(request)
	r.Header["Content-Type"] = []string{raw.Bounds.Type(body.MediaType)}
	r.ContentLength = body.Size()
	if body.Reader == nil || r.ContentLength == 0 {
		r.Body = http.NoBody
		return
	}
	r.Body = body
	seeker, ok := body.Reader.(io.Seeker)
	if !ok {
		return
	}
	begin, err := seeker.Seek(0, io.SeekCurrent)
	if err != nil {
		return
	}
	r.GetBody = func() (io.ReadCloser, error) {
		_, err := seeker.Seek(begin, io.SeekStart)
		return io.NopCloser(body), err
	}
	r.Body = io.NopCloser(body) // it may have to be read again
}

// doRaw is Do for calls that send or answer a body as it is: it is idleness that has a limit.
func (c *Client) doRaw(ctx context.Context, call *Call, request, answer Message) error {
	ctx, cancel := context.WithCancel(ctx)
	silence := newWatch(c.timeout, cancel)
	failed := func(err error) error {
		silence.timer.Stop()
		cancel()
		if silence.wasSilent() {
			err = &Unreachable{Call: call.Name, Err: context.DeadlineExceeded}
		}
		c.ended(err)
		return err
	}
	up := call.Travel.raw() != nil
	if up {
		silence.after = c.idle
	}
	response, err := c.openWith(ctx, call, request, c.encoding(), func(r *http.Request) {
		if up && r.Body != http.NoBody {
			r.Body = struct {
				io.Reader
				io.Closer
			}{&leaving{Body{Reader: r.Body}, silence}, r.Body}
		}
	})
	if err != nil {
		return failed(err)
	}
	down := call.AnswerTravel.raw()
	if down == nil || !call.succeeds(response.StatusCode) || response.StatusCode == http.StatusNoContent {
		defer response.Body.Close()
		silence.timer.Reset(c.timeout)
		if err := c.read(call, response, answer); err != nil {
			return failed(err)
		}
		_ = failed(nil)
		return nil
	}
	silence.timer.Stop()
	if !up { // else it is known, and the rest of the request may still go
		silence.after = c.idle
	}
	if err := c.take(call, response, answer, nil); err != nil {
		response.Body.Close()
		return failed(err)
	}
	*down.Of(answer) = Body{
		Reader:    &coming{call: call, client: c, body: response.Body, silence: silence, cancel: cancel},
		MediaType: response.Header.Get("Content-Type"), Length: max(0, response.ContentLength)}
	return nil
}

// coming is the body of an answer, as its caller reads it.
type coming struct {
	call    *Call
	client  *Client
	body    io.ReadCloser
	silence *watch
	cancel  context.CancelFunc
	once    sync.Once
}

func (c *coming) Read(p []byte) (int, error) {
	c.silence.timer.Reset(c.silence.after)
	n, err := c.body.Read(p)
	c.silence.timer.Stop()
	if err == nil {
		return n, nil
	}
	if err == io.EOF {
		_ = c.end(nil)
		return n, err
	}
	if c.silence.wasSilent() {
		err = context.DeadlineExceeded
	}
	err = &Unreachable{Call: c.call.Name, Err: err}
	_ = c.end(err)
	return n, err
}

// Close gives up what has not been read.
func (c *coming) Close() error { return c.end(nil) }

func (c *coming) end(failed error) (err error) {
	c.once.Do(func() {
		c.silence.timer.Stop()
		err = c.body.Close()
		c.cancel()
		c.client.ended(failed)
	})
	return err
}
