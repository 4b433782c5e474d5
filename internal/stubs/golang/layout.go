package golang

import (
	"bytes"
	"go/format"
)

// layout is how far a file is in the layout of gofmt before laidOut: to parse and
// print it again takes most of the time that everything takes.
type layout uint8

const (
	columns layout = iota // anything may have to be put in columns
	bodies                // the bodies of functions are as they must be
	written               // all of it is
)

// laidOut returns source in the layout of gofmt.
func laidOut(source []byte, as layout) ([]byte, error) {
	switch as {
	case columns:
		return format.Source(source)
	case written:
		return source, nil
	}
	var out, rest []byte
	flush := func() error {
		formatted, err := format.Source(rest)
		out = append(out, formatted...)
		if bytes.HasSuffix(rest, []byte("\n\n")) && !bytes.HasSuffix(formatted, []byte("\n\n")) {
			out = append(out, '\n') // before the function that follows
		}
		rest = rest[:0]
		return err
	}
	for len(source) > 0 {
		line, after, _ := bytes.Cut(source, []byte("\n"))
		if !bytes.HasPrefix(line, []byte("func ")) || !bytes.HasSuffix(line, []byte("{")) {
			rest = append(append(rest, line...), '\n')
			source = after
			continue
		}
		if err := flush(); err != nil {
			return nil, err
		}
		end := bytes.Index(source, []byte("\n}\n")) + len("\n}\n")
		out = append(out, source[:end]...)
		source = source[end:]
	}
	err := flush()
	return out, err
}
