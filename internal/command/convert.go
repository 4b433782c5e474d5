package command

import (
	"bytes"
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"

	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/value"
)

var toCBORCommand = &command{
	name:     "to-cbor",
	synopsis: "NAME [FILE] [-d JSON] [--hex] [--check] [--of REF]",
	short:    "turns JSON payloads into CBOR",
	long: `Reads one JSON payload of a message or error, or a sequence of them, from FILE,
from -d, or from standard input, and writes CBOR; a sequence becomes a sequence
(RFC 8742). Unlisted fields are preserved. Bounds are not checked; --check checks them
as a server does for a request. A sequence is converted as it arrives, in memory
that does not grow with it.`,
	examples: [2]string{"faithful to-cbor Booking booking.json > booking.cbor",
		"faithful to-cbor BookingRequest --hex -d '{\"id\": \"6f0c1d7e-4f0a-4c59-9d43-0d9a3b1c2e5f\"}'"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		ref := referenceFlags(flags)
		data := flags.String("body", "", "the payload, as `JSON`")
		letter(flags, "d", "body")
		asHex := flags.Bool("hex", false, "write hexadecimal digits, one line per payload")
		check := flags.Bool("check", false, "for one payload: check its bounds, too")
		return func(w *World, args []string) (int, error) {
			if len(args) == 0 || len(args) > 2 {
				return trouble, usage("the NAME of a message or error, and perhaps a FILE")
			}
			if !*asHex && w.Terminal {
				return trouble, errors.New("CBOR is not for a terminal: write it into a file with > FILE, or see it with --hex")
			}
			defs, status, err := ref.load(w)
			if defs == nil {
				return status, err
			}
			thing, err := named(defs, args[0], aMessage, anError)
			if err != nil {
				return trouble, err
			}
			in, err := payloadInput(w, flags, args[1:], *data)
			if err != nil {
				return trouble, err
			}
			defer in.Close()
			if *check {
				return checkedPayload(w, thing.(*schema.Message), in, value.DecodeJSON)
			}
			message := thing.(*schema.Message)
			c := value.Conversion{Message: message, ToCBOR: true}
			said := 0
			c.LeftOut = func(element int, pointers []string) {
				for _, pointer := range pointers {
					if said++; said > 10 {
						return // whoever has more of them has seen enough
					}
					fmt.Fprintf(w.Err, "left out: %s of payload %d is not listed, and has no number to be written as%s\n", pointer,
						element, nearestField(message, pointer))
				}
			}
			write := func(b []byte, _ int) error {
				_, err := w.Out.Write(b)
				return err
			}
			if *asHex {
				write = func(b []byte, _ int) error { return writeHex(w.Out, b) }
			}
			return converted(w, c, in, write)
		}
	},
}

var fromCBORCommand = &command{
	name:     "from-cbor",
	synopsis: "[NAME] [FILE] [-d HEX] [--hex] [--bytes] [--check] [--lines] [--whole] [--of REF]",
	short:    "turns CBOR payloads into JSON, or shows them byte by byte",
	long: `Reads one CBOR payload of a message or error, or a sequence of them, from FILE,
from -d (as hexadecimal digits), or from standard input. Writes one payload as
indented JSON, a sequence as one line each. --bytes shows each range of bytes with
its meaning. Without NAME it says which messages the bytes fit. Unlisted fields
are preserved, and shown as such. Bounds are not checked; --check checks them as a
server does for a request.`,
	examples: [2]string{"faithful from-cbor Booking booking.cbor --bytes", "faithful from-cbor -d 'a1 01 05'"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		ref := referenceFlags(flags)
		data := flags.String("body", "", "the payload, as hexadecimal digits: `HEX`, blanks allowed")
		letter(flags, "d", "body")
		isHex := flags.Bool("hex", false, "read hexadecimal digits")
		dump := flags.Bool("bytes", false, "show each range of bytes with its meaning")
		check := flags.Bool("check", false, "for one payload: check its bounds, too")
		lines := flags.Bool("lines", false, "write one line, even for a single payload")
		whole := flags.Bool("whole", false, "with --bytes: show long lists, values and sequences in full")
		return func(w *World, args []string) (int, error) {
			if len(args) > 2 {
				return trouble, usage("the NAME of a message or error, and a FILE; both may be left out")
			}
			defs, status, err := ref.load(w)
			if defs == nil {
				return status, err
			}
			var message *schema.Message
			if len(args) > 0 && (len(args) == 2 || !isFile(w, args[0])) {
				thing, err := named(defs, args[0], aMessage, anError)
				if err != nil {
					return trouble, err
				}
				message, args = thing.(*schema.Message), args[1:]
			}
			in, err := payloadInput(w, flags, args, *data)
			if err != nil {
				return trouble, err
			}
			defer in.Close()
			if *isHex || *data != "" {
				if in, err = fromHex(in); err != nil {
					return trouble, err
				}
			}
			switch {
			case message == nil:
				return offerFits(w, defs, in, args)
			case *check:
				return checkedPayload(w, message, in, value.DecodeCBOR)
			case *dump:
				return dumpSequence(w, message, in, *whole)
			}
			return converted(w, value.Conversion{Message: message}, in, jsonLines(w.Out, *lines))
		}
	},
}

// checkedPayload reads one payload as a server reads a request, and prints it as
// JSON.
func checkedPayload(w *World, message *schema.Message, in io.Reader,
	decode func(*schema.Message, []byte, int) (*value.Message, error)) (int, error) {
	data, err := io.ReadAll(io.LimitReader(in, value.MaxElement+1))
	if err != nil {
		return trouble, err
	}
	if len(data) > value.MaxElement {
		return trouble, fmt.Errorf("the payload is larger than %d bytes", value.MaxElement)
	}
	p := report.New(w.Out, w.Look)
	m, err := decode(message, data, 0)
	var wrong *value.Error
	if errors.As(err, &wrong) {
		p.Line("%s this is not a payload of %q.", p.In(report.Red, "refused"), message.FullName())
		printPayloadError(p, wrong)
		return found, nil
	}
	text, err := value.EncodeJSON(m)
	if err != nil {
		return trouble, err
	}
	p.Line("%s", indented(text))
	violations := value.Validate(m)
	if len(violations) == 0 {
		return fine, nil
	}
	p.Line("%s in a request, by its bounds:", p.In(report.Red, "refused"))
	var rows [][]string
	for _, v := range violations {
		rows = append(rows, []string{p.In(report.Bold, v.Pointer), v.Detail})
	}
	p.Table("  ", rows)
	return found, nil
}

// nearestField suggests a field that may have been meant.
func nearestField(m *schema.Message, pointer string) string {
	var names []string
	for _, f := range m.Fields {
		names = append(names, f.JSONName())
	}
	if near := source.Nearest(strings.TrimPrefix(pointer, "/"), names); near != "" {
		return "; did you mean " + near + "?"
	}
	return ""
}

func isFile(w *World, path string) bool {
	if strings.HasPrefix(path, "@") {
		return true
	}
	info, err := os.Stat(w.path(path))
	return err == nil && !info.IsDir()
}

// payloadInput is where payloads come from: a file, -d, or standard input.
func payloadInput(w *World, flags *flag.FlagSet, args []string, data string) (io.ReadCloser, error) {
	given := false
	flags.Visit(func(f *flag.Flag) { given = given || f.Name == "d" || f.Name == "body" })
	switch {
	case given && len(args) > 0:
		return nil, usage("a FILE or -d, not both")
	case given:
		return io.NopCloser(strings.NewReader(data)), nil
	case len(args) == 0 || args[0] == "-":
		if w.InTerminal {
			fmt.Fprintln(w.Err, "Reading from the terminal; Ctrl-D ends it.")
		}
		return io.NopCloser(w.In), nil
	}
	return os.Open(w.path(strings.TrimPrefix(args[0], "@")))
}

// fromHex reads all hexadecimal digits of an input; blanks, and 0x before, do not
// matter.
func fromHex(in io.ReadCloser) (io.ReadCloser, error) {
	text, err := io.ReadAll(in)
	if err != nil {
		return nil, err
	}
	digits := strings.Join(strings.Fields(string(text)), "")
	data, err := hex.DecodeString(strings.TrimPrefix(digits, "0x"))
	if err != nil {
		return nil, fmt.Errorf("what is read are not hexadecimal digits: %w", err)
	}
	return io.NopCloser(bytes.NewReader(data)), nil
}

func writeHex(out io.Writer, sequence []byte) error {
	elements := value.NewCBORElements(bytes.NewReader(sequence), 0)
	for {
		one, err := elements.Next()
		if one == nil || err != nil {
			return err
		}
		if _, err := fmt.Fprintf(out, "%x\n", one); err != nil {
			return err
		}
	}
}

// jsonLines writes payloads a line each; one that stays alone is laid out for
// reading, unless it should not be.
func jsonLines(out io.Writer, always bool) func(b []byte, elements int) error {
	var alone []byte
	begun := always
	return func(b []byte, elements int) error {
		if !begun && elements == 1 && alone == nil {
			alone = bytes.Clone(b)
			return nil
		}
		if elements == 0 { // the end
			if alone != nil {
				_, err := fmt.Fprintf(out, "%s\n", indented(bytes.TrimSpace(alone)))
				return err
			}
			return nil
		}
		begun = true
		_, err := out.Write(append(alone, b...))
		alone = nil
		return err
	}
}

// converted runs a conversion and says what went wrong.
func converted(w *World, c value.Conversion, in io.Reader, write func(b []byte, elements int) error) (int, error) {
	count, err := c.Run(in, write)
	if endErr := write(nil, 0); err == nil {
		err = endErr
	}
	var wrong *value.SequenceError
	switch {
	case errors.As(err, &wrong):
		p := report.New(w.Err, report.Plain)
		if wrong.Element == 1 {
			p.Line("This is not a payload of %q.", c.Message.FullName())
		} else {
			p.Line("Element %d, from byte %d on, is not a payload of %q.", wrong.Element, wrong.Offset, c.Message.FullName())
		}
		printPayloadError(p, wrong.Err)
		if count > 0 {
			p.Line("The %s before it %s converted.", report.Plural(count, "payload"),
				map[bool]string{true: "was", false: "were"}[count == 1])
		}
		return found, nil
	case err != nil:
		return trouble, err
	case count == 0:
		return trouble, errors.New("there was nothing to read: the input is empty")
	}
	return fine, nil
}

// printPayloadError lays out why a payload is refused.
func printPayloadError(p *report.Printer, e *value.Error) {
	where := e.Path
	if where == "" {
		where = "(the whole)"
	}
	rows := [][]string{{"at", where}}
	if e.Expected != "" {
		rows = append(rows, []string{"expected", e.Expected})
	}
	rows = append(rows, []string{"found", e.Found})
	if e.Offset >= 0 {
		rows = append(rows, []string{"byte", fmt.Sprint(e.Offset)})
	}
	p.Table("  ", rows)
}

// shownElements is how many elements of a sequence are shown byte by byte.
const shownElements = 10

// dumpSequence shows each payload of a sequence byte by byte.
func dumpSequence(w *World, message *schema.Message, in io.Reader, whole bool) (int, error) {
	elements := value.NewCBORElements(in, 0)
	for n := 1; ; n++ {
		data, err := elements.Next()
		if err != nil {
			return trouble, err
		}
		switch {
		case data == nil && n == 1:
			return trouble, errors.New("there was nothing to read: the input is empty")
		case data == nil && n > shownElements+1 && !whole:
			buffered(w, func(p *report.Printer) {
				p.Line("%s", p.In(report.Faint, fmt.Sprintf("… and %s more; --whole shows them",
					report.Plural(n-1-shownElements, "element"))))
			})
			return fine, nil
		case data == nil:
			return fine, nil
		}
		shown, shownErr := value.Dump(message, data)
		_, err = value.DecodeCBOR(message, data, 0)
		if shownErr != nil {
			err = shownErr
		}
		if n <= shownElements || whole || err != nil {
			buffered(w, func(p *report.Printer) {
				if n > 1 {
					p.Line("")
					p.Line("%s", p.In(report.Bold, fmt.Sprintf("element %d, from byte %d on", n, elements.Offset())))
				}
				p.Bytes(data, shown, whole)
			})
		}
		var wrong *value.Error
		if errors.As(err, &wrong) {
			p := report.New(w.Err, report.Plain)
			p.Line("This is not a payload of %q.", message.FullName())
			printPayloadError(p, wrong)
			return found, nil
		}
	}
}

// offerFits says which messages the first payload of an input fits.
func offerFits(w *World, defs *schema.Definitions, in io.Reader, args []string) (int, error) {
	data, err := value.NewCBORElements(in, 0).Next()
	if err != nil {
		return trouble, err
	}
	if data == nil {
		return trouble, errors.New("there was nothing to read: the input is empty")
	}
	fits, nearest, why := value.Fits(defs, data)
	status := fine
	buffered(w, func(p *report.Printer) {
		if len(fits) == 0 {
			status = found
			p.Line("No message of these definitions fits the %s.", report.Plural(len(data), "byte"))
			if nearest != nil {
				p.Line("Nearest comes %s:", p.In(report.Bold, nearest.FullName()))
				printPayloadError(p, why)
			}
			return
		}
		p.Line("The %s fit:", report.Plural(len(data), "byte"))
		var rows [][]string
		for i, f := range fits {
			if i >= 10 || f.Known == 0 && i > 0 {
				break
			}
			known := report.Plural(f.Known, "field") + " listed"
			if f.Unlisted > 0 {
				known += fmt.Sprintf(", %d not", f.Unlisted)
			}
			bounds := ""
			if !f.Lawful {
				bounds = "violates its bounds"
			}
			name := f.Message.FullName()
			if i == 0 {
				name = p.In(report.Bold, name)
			}
			rows = append(rows, []string{name, known, bounds})
		}
		p.Table("  ", rows)
		file := strings.Join(args, " ")
		if file == "" {
			file = "…"
		}
		p.Line("See them with: faithful from-cbor %s %s --bytes", shortestName(defs, fits[0].Message), file)
	})
	return status, nil
}

// shortestName is the last part of a name where that is enough.
func shortestName(defs *schema.Definitions, m *schema.Message) string {
	if len(defs.Find(m.Name)) == 1 {
		return m.Name
	}
	return m.FullName()
}
