package web

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"
)

// compressedFrom is how large a body is at least, in octets, for which compression is worth while.
const compressedFrom = 1 << 10

var gzipWriters = sync.Pool{New: func() any {
	w, _ := gzip.NewWriterLevel(nil, gzip.BestSpeed) // a level that there is
	return w
}}

// compressed is a body in gzip (RFC 1952).
func compressed(body []byte) []byte {
	var out bytes.Buffer
	w := gzipWriters.Get().(*gzip.Writer)
	defer gzipWriters.Put(w)
	w.Reset(&out)
	_, _ = w.Write(body) // into memory
	_ = w.Close()
	return out.Bytes()
}

// expanded is what a body in gzip holds, at most one octet more than limit.
func expanded(body []byte, limit int64) ([]byte, error) {
	r, err := gzip.NewReader(bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(r, limit+1))
}

// isGzip tells the one content coding that is read.
func isGzip(coding string) bool {
	coding = strings.ToLower(strings.TrimSpace(coding))
	return coding == "gzip" || coding == "x-gzip"
}

// plainBody is a body without its content coding; the error says what is wrong with it, and
// large that it is too large.
func plainBody(header http.Header, body []byte, limit int64) (plain []byte, large bool, err error) {
	switch coding := header.Get("Content-Encoding"); {
	case coding == "" || strings.EqualFold(coding, "identity"):
		return body, int64(len(body)) > limit, nil
	case !isGzip(coding):
		return nil, false, fmt.Errorf("its content coding is %q", coding)
	}
	if int64(len(body)) > limit {
		return nil, true, nil
	}
	plain, err = expanded(body, limit)
	if err != nil {
		return nil, false, errors.New("it is not whole gzip")
	}
	return plain, int64(len(plain)) > limit, nil
}

// takesGzip tells whether Accept-Encoding allows gzip (RFC 9110, section 12.5.3).
func takesGzip(header []string) bool {
	gzip, any := -1.0, -1.0
	for _, line := range header {
		for part := range strings.SplitSeq(line, ",") {
			coding, parameters, _ := strings.Cut(part, ";")
			q := 1.0
			if value, ok := strings.CutPrefix(strings.ToLower(strings.TrimSpace(parameters)), "q="); ok {
				if parsed, err := strconv.ParseFloat(value, 64); err == nil {
					q = parsed
				}
			}
			if isGzip(coding) {
				gzip = max(gzip, q)
			} else if strings.TrimSpace(coding) == "*" {
				any = max(any, q)
			}
		}
	}
	return gzip > 0 || gzip < 0 && any > 0
}

// compresses tells whether the body of an answer goes out compressed.
func (x *exchange) compresses(body []byte) bool {
	return x.route.Call.Compressible && !x.mount.plain && len(body) > compressedFrom &&
		x.w.Header()["Set-Cookie"] == nil && takesGzip(x.r.Header["Accept-Encoding"])
}

// WithoutCompression has answers go out as they are, also to clients that would take them compressed.
func WithoutCompression() ServerOption { return func(m *Served) { m.plain = true } }

// WithCompression has a client ask for answers in gzip, and send bodies of more than 1 KiB so.
func WithCompression() ClientOption { return func(c *Client) { c.compression = true } }
