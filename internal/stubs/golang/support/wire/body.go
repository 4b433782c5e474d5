package wire

import (
	"bytes"
	"fmt"
	"io"
	"strings"
)

// Body is a body that travels as it is, and is read as it comes: a photo, say. What comes is
// to be read to its end or closed.
type Body struct {
	// Reader is what is sent, or what comes; nil is nothing. What is sent is closed in the end, if it
	// is an io.Closer.
	io.Reader
	// MediaType is such as "image/png". It may be left out where the definitions allow one alone.
	MediaType string
	// Length is in octets, 0 where it is not known. It need not be said of a *bytes.Reader, a
	// *bytes.Buffer and a *strings.Reader.
	Length int64
}

// NewBody returns a body of bytes.
func NewBody(mediaType string, content []byte) Body {
	return Body{Reader: bytes.NewReader(content), MediaType: mediaType, Length: int64(len(content))}
}

// Read reads on; a body without a reader is empty.
func (b Body) Read(p []byte) (int, error) {
	if b.Reader == nil {
		return 0, io.EOF
	}
	return b.Reader.Read(p)
}

// Close gives up what has not been read.
func (b Body) Close() error {
	if closer, ok := b.Reader.(io.Closer); ok {
		return closer.Close()
	}
	return nil
}

// Size is how many octets there are, or -1 where that is not known.
func (b Body) Size() int64 {
	if b.Length != 0 {
		return b.Length
	}
	switch r := b.Reader.(type) {
	case nil:
		return 0
	case *bytes.Reader:
		return int64(r.Len())
	case *bytes.Buffer:
		return int64(r.Len())
	case *strings.Reader:
		return int64(r.Len())
	}
	return -1
}

// RawBounds is what the definitions say of a body: a media type, whose subtype or all of which
// may be *, and how long it may be.
type RawBounds struct {
	MediaType string
	Low, High int64 // in octets; 0 is no limit
}

// Type is the media type with which a body is sent: its own, or the one that the definitions
// allow; "" where it is missing.
func (r *RawBounds) Type(own string) string {
	if own == "" && !strings.Contains(r.MediaType, "*") {
		return r.MediaType
	}
	return own
}

// Allows tells whether the definitions allow a media type; parameters are not looked at.
func (r *RawBounds) Allows(mediaType string) bool {
	mediaType, _, _ = strings.Cut(mediaType, ";")
	mediaType = strings.ToLower(strings.TrimSpace(mediaType))
	kind, several := strings.CutSuffix(r.MediaType, "*")
	switch {
	case r.MediaType == "*/*":
		return strings.Contains(mediaType, "/")
	case several:
		return strings.HasPrefix(mediaType, kind)
	}
	return mediaType == r.MediaType
}

// AppendViolations adds what is known to be wrong before a body is read.
func (r *RawBounds) AppendViolations(list []Violation, path string, b *Body) []Violation {
	if kind := r.Type(b.MediaType); kind == "" {
		list = Refuse(list, path, "needs its media type: %s", r.MediaType)
	} else if !r.Allows(kind) {
		list = Refuse(list, path, "must be %s, not %s", r.MediaType, kind)
	}
	if size := b.Size(); size >= 0 {
		if detail := r.Outside(size); detail != "" {
			list = Refuse(list, path, "%s", detail)
		}
	}
	return list
}

// Outside says what is wrong with a length; "" is nothing.
func (r *RawBounds) Outside(size int64) string {
	switch {
	case size >= r.Low && (r.High == 0 || size <= r.High):
		return ""
	case r.High == 0:
		return fmt.Sprintf("must have at least %d bytes, not %d", r.Low, size)
	case r.Low == 0:
		return fmt.Sprintf("must have at most %d bytes, not %d", r.High, size)
	}
	return fmt.Sprintf("must have %d to %d bytes, not %d", r.Low, r.High, size)
}
