package wire

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
)

// Element is what one element of a stream is.
type Element uint8

// An element is a value, the end, a problem, or nothing that a reader needs to
// know: a heartbeat, or one that its definitions lack.
const (
	ElementOther Element = iota
	ElementValue
	ElementEnd
	ElementProblem
)

// AppendElement appends m as an element of a stream, in CBOR or JSON.
func AppendElement(b []byte, json bool, m Message) ([]byte, error) {
	var w Writer
	if json {
		b = append(m.AppendJSON(append(b, `{"value":`...), &w), '}')
	} else {
		b = m.AppendCBOR(append(b, mapping|1, 1), &w)
	}
	if w.err != nil {
		return b, w.located(m.AppendJSON)
	}
	return b, nil
}

// AppendEnd appends the element that ends a stream.
func AppendEnd(b []byte, json bool) []byte {
	if json {
		return append(b, `{"end":{}}`...)
	}
	return append(b, mapping|1, 2, mapping)
}

// AppendProblem appends the element of problem details, text, that ends a
// stream.
func AppendProblem(b []byte, json bool, text []byte) []byte {
	if json {
		return append(append(append(b, `{"problem":`...), text...), '}')
	}
	return append(appendHead(append(b, mapping|1, 3), utf8Text, uint64(len(text))), text...)
}

// AppendHeartbeat appends the element that says nothing but that the writer lives.
func AppendHeartbeat(b []byte, json bool) []byte {
	if json {
		return append(b, `{"heartbeat":{}}`...)
	}
	return append(b, mapping|1, 0, mapping)
}

// ReadElement reads one element: a value into m with a budget, of a problem the details.
func ReadElement(data []byte, json bool, m Message, budget int) (kind Element, problem []byte, err error) {
	if json {
		return readJSONElement(data, m, budget)
	}
	r := CBORReader{Reader{data: data, budget: budget}}
	first, n := r.head()
	if first&0xe0 != mapping || first&31 != indefinite && n != 1 {
		r.fail(0, "expected a map of one entry as the element of a stream")
	}
	key, number := r.head()
	if key&0xe0 != unsigned {
		r.fail(1, "expected the number of an element")
	}
	switch number {
	case 1:
		m.ReadCBOR(&r)
		kind = ElementValue
	case 2:
		r.skip()
		kind = ElementEnd
	case 3:
		problem = []byte(r.Text())
		kind = ElementProblem
	default:
		r.skip()
	}
	if first&31 == indefinite && r.err == nil {
		if r.at >= len(data) || data[r.at] != breakByte {
			r.fail(r.at, "expected the end of an element")
		}
		r.at++
	}
	if r.err == nil && r.at < len(data) {
		r.fail(r.at, "more bytes after an element")
	}
	if r.err != nil {
		return ElementOther, nil, r.err
	}
	return kind, problem, nil
}

func readJSONElement(data []byte, m Message, budget int) (kind Element, problem []byte, err error) {
	r := JSONReader{Reader: Reader{data: data, budget: budget}}
	r.OpenObject("an element of a stream")
	count := 0
	for r.Member() {
		if count++; count > 1 {
			r.fail(r.at, "expected one member in an element")
		}
		r.depth--
		switch string(r.name) {
		case "value":
			m.ReadJSON(&r)
			kind = ElementValue
		case "end":
			r.raw(nil)
			kind = ElementEnd
		case "problem":
			problem = r.raw(nil)
			kind = ElementProblem
		default:
			r.raw(nil)
		}
		r.depth++
	}
	if r.blanks(); r.err == nil && (r.at < len(data) || count == 0) {
		r.fail(r.at, "expected one member in an element")
	}
	if r.err != nil {
		return ElementOther, nil, r.err
	}
	return kind, problem, nil
}

// Splitter finds the elements in a sequence as its bytes arrive: CBOR items
// (RFC 8742), or JSON objects after 0x1e (RFC 7464).
type Splitter struct {
	json  bool
	at    int      // how far the bytes of the current element were looked at
	skip  int      // bytes of a string that need no look
	whole bool     // with them, an item is
	open  []uint64 // how many items each array, map and tag still needs
	depth int      // of JSON
	text  bool
	quote bool // the byte before was a backslash
	begun bool
}

// NewSplitter returns a splitter of CBOR or JSON.
func NewSplitter(json bool) *Splitter { return &Splitter{json: json} }

var errSequence = errors.New("what came is not a sequence of elements")

// Next returns how many bytes the first element of data takes and where in
// them it begins, or 0 while more is needed. Between calls data only grows, but
// for elements that were returned.
func (s *Splitter) Next(data []byte) (from, n int, err error) {
	if s.json {
		return s.nextJSON(data)
	}
	for {
		step := min(s.skip, len(data)-s.at)
		s.at, s.skip = s.at+step, s.skip-step
		if s.skip > 0 {
			return 0, 0, nil
		}
		if s.whole {
			s.whole = false
			if s.complete() {
				n = s.at
				*s = Splitter{open: s.open[:0]}
				return 0, n, nil
			}
		}
		size, err := s.head(data[s.at:])
		if err != nil || size == 0 {
			return 0, 0, err
		}
		s.at += size
	}
}

const untilBreak = 1<<64 - 1

// head takes the head of one item and returns its size, or 0 when it is not
// all there yet.
func (s *Splitter) head(data []byte) (int, error) {
	if len(data) == 0 {
		return 0, nil
	}
	first := data[0]
	info := first & 31
	if first == breakByte {
		if len(s.open) == 0 || s.open[len(s.open)-1] != untilBreak {
			return 0, errSequence
		}
		s.open, s.whole = s.open[:len(s.open)-1], true
		return 1, nil
	}
	size, argument := 1, uint64(info)
	switch {
	case info >= 24 && info <= 27:
		length := 1 << (info - 24)
		if size += length; len(data) < size {
			return 0, nil
		}
		var wide [8]byte
		copy(wide[8-length:], data[1:size])
		argument = binary.BigEndian.Uint64(wide[:])
	case info == indefinite:
		argument = untilBreak
	case info > 27:
		return 0, errSequence
	}
	if len(s.open) > 4*MaxDepth {
		return 0, fmt.Errorf("an element nests over %d", MaxDepth)
	}
	tooLong := argument > 1<<40 && info != indefinite
	switch major := first & 0xe0; {
	case major == tag:
		s.open = append(s.open, 1)
	case (major == byteText || major == utf8Text || major == array || major == mapping) && tooLong:
		return 0, errSequence
	case info == indefinite:
		s.open = append(s.open, untilBreak)
	case major == byteText || major == utf8Text:
		s.skip, s.whole = int(argument), true
	case (major == array || major == mapping) && argument > 0:
		s.open = append(s.open, argument<<(major&32/32)) // a map has a key and a value
	default:
		s.whole = true
	}
	return size, nil
}

// complete counts an item that is whole, and tells whether with it the
// outermost one is.
func (s *Splitter) complete() bool {
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

func (s *Splitter) nextJSON(data []byte) (from, n int, err error) {
	for ; s.at < len(data); s.at++ {
		c := data[s.at]
		switch {
		case s.text:
			s.text, s.quote = c != '"' || s.quote, c == '\\' && !s.quote
		case !s.begun:
			switch c {
			case '{':
				s.begun, s.depth = true, 1
			case 0x1e, ' ', '\t', '\r', '\n':
			default:
				return 0, 0, errSequence
			}
		case c == '"':
			s.text = true
		case c == '{' || c == '[':
			if s.depth++; s.depth > 4*MaxDepth {
				return 0, 0, fmt.Errorf("an element nests over %d", MaxDepth)
			}
		case c == '}' || c == ']':
			if s.depth--; s.depth == 0 {
				s.at++
				from = bytes.IndexByte(data, '{')
				n = s.at
				*s = Splitter{json: true}
				return from, n, nil
			}
		}
	}
	return 0, 0, nil
}
