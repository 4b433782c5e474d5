package value

import (
	"errors"
	"fmt"
	"io"
)

// MaxElement is how large one element of a sequence may be unless said
// otherwise: memory is bounded by the largest element, not by the sequence.
const MaxElement = 256 << 20

// Elements finds the elements of a sequence as its bytes arrive: CBOR items one
// after the other (RFC 8742), or JSON values, a line each, or after 0x1e (RFC
// 7464), or only apart. It looks at no more than where each ends.
type Elements struct {
	in     io.Reader
	json   bool
	limit  int
	buffer []byte
	from   int   // where the next element begins in buffer
	before int64 // how many bytes of the sequence came before buffer
	start  int64
	eof    bool
	begun  bool // whether scan has looked at the next element
	scan   scanner
}

// NewCBORElements returns the elements of a CBOR sequence. limit is the size of
// the largest one; 0 means MaxElement.
func NewCBORElements(in io.Reader, limit int) *Elements {
	if limit == 0 {
		limit = MaxElement
	}
	return &Elements{in: in, limit: limit}
}

// NewJSONElements is NewCBORElements for JSON.
func NewJSONElements(in io.Reader, limit int) *Elements {
	e := NewCBORElements(in, limit)
	e.json = true
	return e
}

// Offset is where the element that was returned last begins in the sequence.
func (e *Elements) Offset() int64 { return e.start }

// Next returns the next element, or nil at the end. What it returns holds until
// the next call. An element that is not well formed may be returned as it is: the
// reader of payloads says what is wrong with it. The error is that of reading, or
// an *Error.
func (e *Elements) Next() ([]byte, error) {
	for {
		one, err := e.buffered()
		if one != nil || err != nil || e.eof {
			return one, err
		}
		if err := e.fill(); err != nil {
			return nil, err
		}
	}
}

// buffered returns the next element if it has come already, else nil.
func (e *Elements) buffered() ([]byte, error) {
	if !e.begun {
		e.skipBetween()
		if e.from == len(e.buffer) {
			return nil, nil
		}
		e.begun, e.scan = true, scanner{open: e.scan.open[:0]}
	}
	rest := e.buffer[e.from:]
	var n int
	if e.json {
		n = e.scan.json(rest)
	} else {
		n = e.scan.cbor(rest)
	}
	if n == 0 && e.eof {
		n = len(rest) // too short, or wrong: whoever reads it says how
	}
	switch {
	case n > 0:
		e.start, e.begun = e.before+int64(e.from), false
		e.from += n
		return rest[:n:n], nil
	case len(rest) > e.limit:
		return nil, &Error{Found: fmt.Sprintf("an element of more than %d bytes", e.limit), Offset: int(e.before) + e.from,
			TooLarge: true}
	}
	return nil, nil
}

// skipBetween passes over what stands between elements of JSON.
func (e *Elements) skipBetween() {
	for e.json && e.from < len(e.buffer) {
		switch e.buffer[e.from] {
		case ' ', '\t', '\r', '\n', 0x1e:
			e.from++
		default:
			return
		}
	}
}

func (e *Elements) fill() error {
	if e.from > 0 {
		e.before += int64(e.from)
		e.buffer = e.buffer[:copy(e.buffer, e.buffer[e.from:])]
		e.from = 0
	}
	if len(e.buffer) == cap(e.buffer) {
		grown := make([]byte, len(e.buffer), max(512<<10, 2*cap(e.buffer)))
		copy(grown, e.buffer)
		e.buffer = grown
	}
	n, err := e.in.Read(e.buffer[len(e.buffer):cap(e.buffer)])
	e.buffer = e.buffer[:len(e.buffer)+n]
	if errors.Is(err, io.EOF) {
		e.eof = true
		return nil
	}
	return err
}

// scanner looks for the end of an element that grows between calls.
type scanner struct {
	at    int
	open  []uint64 // of CBOR: how many items each array, map and tag still needs
	depth int      // of JSON
	text  bool
	quote bool // the byte before was a backslash
}

const untilBreak = 1<<64 - 1

// cbor returns how many bytes the item at the beginning of data takes, or 0 while
// more is needed. One that is not well formed takes all that there is.
func (s *scanner) cbor(data []byte) int {
	for s.at < len(data) {
		first := data[s.at]
		size, argument := 1, uint64(first&31)
		switch info := first & 31; {
		case first == 0xff:
			if len(s.open) == 0 || s.open[len(s.open)-1] != untilBreak {
				return len(data)
			}
			s.open = s.open[:len(s.open)-1]
			s.at++
			if s.complete() {
				return s.at
			}
			continue
		case info >= 24 && info <= 27:
			length := 1 << (info - 24)
			if size += length; len(data)-s.at < size {
				return 0
			}
			argument = 0
			for _, b := range data[s.at+1 : s.at+size] {
				argument = argument<<8 | uint64(b)
			}
		case info == 31:
			argument = untilBreak
		case info > 27:
			return len(data)
		}
		major := first >> 5
		isString := major == majorBytes || major == majorText
		switch {
		case len(s.open) > 100_000, first&31 != 31 && argument > 1<<40 &&
			(isString || major == majorArray || major == majorMap):
			return len(data)
		case first&31 == 31 && (major < majorBytes || major == majorTag):
			return len(data)
		case first&31 == 31:
			s.at += size
			s.open = append(s.open, untilBreak)
			continue
		case isString:
			if uint64(len(data)-s.at-size) < argument {
				return 0
			}
			s.at += size + int(argument)
		case major == majorTag:
			s.at += size
			s.open = append(s.open, 1)
			continue
		case (major == majorArray || major == majorMap) && argument > 0:
			s.at += size
			s.open = append(s.open, argument<<(major-majorArray))
			continue
		default:
			s.at += size
		}
		if s.complete() {
			return s.at
		}
	}
	return 0
}

// complete counts an item that is whole, and tells whether with it the outermost
// one is.
func (s *scanner) complete() bool {
	for len(s.open) > 0 {
		last := &s.open[len(s.open)-1]
		if *last == untilBreak {
			return false
		}
		if *last--; *last > 0 {
			return false
		}
		s.open = s.open[:len(s.open)-1]
	}
	return true
}

// json returns how many bytes the object or array at the beginning of data takes,
// or 0 while more is needed. Anything else takes all of its line.
func (s *scanner) json(data []byte) int {
	for s.at < len(data) {
		c := data[s.at]
		s.at++
		if s.text {
			switch {
			case s.quote:
				s.quote = false
			case c == '\\':
				s.quote = true
			case c == '"':
				s.text = false
			default: // most of a text needs no look
				for s.at < len(data) && data[s.at] != '"' && data[s.at] != '\\' {
					s.at++
				}
			}
			continue
		}
		switch c {
		case '"':
			s.text = true
		case '{', '[':
			s.depth++
		case '}', ']':
			if s.depth--; s.depth <= 0 {
				return s.at
			}
		case '\n':
			if s.depth == 0 {
				return s.at
			}
		}
	}
	return 0
}
