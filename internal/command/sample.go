package command

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"path/filepath"

	"faithfulcourier/internal/madefiles"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/value"
)

var sampleCommand = &command{
	name:     "sample",
	synopsis: "NAME [--count N] [--seed N] [--binary] [--all FOLDER] [--of REF]",
	short:    "prints a payload of a message, or the request of a call",
	long: `Prints a value of a message or error, or the request of a call, as JSON: the first
declared example, or else a value made within its bounds, the same each time.
--count prints several, one per line: all examples, then made values. --all writes
the requests of a service, or of all services, into a folder, one file per call.
Run it again to bring the folder up to date; a file that you changed is never
touched.`,
	examples: [2]string{"faithful sample Bookings.book", "faithful sample Bookings --all requests"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		ref := referenceFlags(flags)
		count := flags.Int("count", 1, "how many to print (`N`)")
		seed := flags.Int64("seed", -1, "make values, from this number `N`, and use no examples")
		binary := flags.Bool("binary", false, "print CBOR instead of JSON; several are a sequence")
		all := flags.String("all", "", "keep a request of each call in `FOLDER`")
		dry := flags.Bool("dry", false, "with --all: write nothing, say what would be written; exit 1 if that is anything")
		return func(w *World, args []string) (int, error) {
			if *count < 1 {
				return trouble, usage("--count is at least 1")
			}
			if *dry && *all == "" {
				return trouble, usage("--dry goes with --all")
			}
			if *all != "" && len(args) > 1 || *all == "" && len(args) != 1 {
				return trouble, usage("one NAME: that of a message, error or call; with --all that of a service, or none")
			}
			defs, status, err := ref.load(w)
			if defs == nil {
				return status, err
			}
			if *all != "" {
				return sampleFolder(w, defs, args, *all, *dry)
			}
			thing, err := named(defs, args[0], aMessage, anError, aCall)
			if err != nil {
				return trouble, err
			}
			message, ofCall := thing.(*schema.Message)
			if call, isCall := thing.(*schema.Call); isCall {
				message, ofCall = call.Request, true
			}
			if message == nil && ofCall {
				return trouble, fmt.Errorf("the request of %q is (): it has no payload", thing.FullName())
			}
			samples, err := samplesOf(defs, message, *count, *seed)
			if err != nil {
				return found, printImpossible(w, err)
			}
			return printPayloads(w, samples, *binary)
		}
	},
}

// samplesOf makes count values: from examples first, unless there is a seed.
func samplesOf(defs *schema.Definitions, message *schema.Message, count int, seed int64) ([]*value.Message, error) {
	maker := value.NewMaker(defs, uint64(max(seed, 0)))
	var list []*value.Message
	for i := range count {
		one, err := (*value.Message)(nil), error(nil)
		if seed >= 0 {
			one, err = maker.Make(message)
		} else {
			one, err = maker.Element(message, i)
		}
		if err != nil {
			return nil, err
		}
		list = append(list, one)
	}
	return list, nil
}

// printImpossible prints that bounds contradict each other; other errors are
// returned.
func printImpossible(w *World, err error) error {
	var impossible *value.Impossible
	if !errors.As(err, &impossible) {
		return err
	}
	buffered(w, func(p *report.Printer) {
		p.Line("No value of %q could be made: its bounds contradict each other.",
			p.In(report.Bold, impossible.Message.FullName()))
		var rows [][]string
		for _, v := range impossible.Problems {
			rows = append(rows, []string{v.Pointer, v.Detail})
		}
		p.Table("  ", rows)
	})
	return nil
}

// printPayloads prints one payload as people read it, several a line each.
func printPayloads(w *World, list []*value.Message, binary bool) (int, error) {
	if binary && w.Terminal {
		return trouble, fmt.Errorf("binary payloads are not for a terminal: write them into a file, or see them with … " +
			"| faithful from-cbor --bytes")
	}
	var out []byte
	for _, m := range list {
		if binary {
			b, err := value.EncodeCBOR(m)
			if err != nil {
				return trouble, err
			}
			out = append(out, b...)
			continue
		}
		b, err := value.EncodeJSON(m)
		if err != nil {
			return trouble, err
		}
		if len(list) == 1 {
			b = indented(b)
		}
		out = append(append(out, b...), '\n')
	}
	w.Out.Write(out) // a broken pipe has no one to tell
	return fine, nil
}

// indented lays JSON out for reading.
func indented(compact []byte) []byte {
	var b bytes.Buffer
	if json.Indent(&b, compact, "", "  ") != nil {
		return compact
	}
	return report.VisibleJSON(b.Bytes())
}

// sampleFolder keeps a folder of requests.
func sampleFolder(w *World, defs *schema.Definitions, args []string, dir string, dry bool) (int, error) {
	calls := defs.Calls()
	if len(args) == 1 {
		thing, err := named(defs, args[0], aService)
		if err != nil {
			return trouble, err
		}
		calls = thing.(*schema.Service).Calls
	}
	wanted, without, err := requestFiles(defs, calls)
	if err != nil {
		return found, printImpossible(w, err)
	}
	path := w.path(dir)
	results, err := madefiles.Requests.Update(w.Dir, path, wanted, dry)
	if err != nil {
		return trouble, err
	}
	changes := 0
	buffered(w, func(p *report.Printer) {
		var rows [][]string
		counts := map[madefiles.State]int{}
		for _, r := range results {
			counts[r.State]++
			if r.State == madefiles.Same {
				continue
			}
			style := map[madefiles.State]report.Style{madefiles.New: report.Green, madefiles.Changed: report.Blue,
				madefiles.Gone: report.Yellow}[r.State]
			if r.Note != "" {
				style = report.Red
			}
			rows = append(rows, []string{p.In(style, string(r.State)), filepath.ToSlash(filepath.Join(dir, r.Name))})
			if r.Note != "" {
				rows = append(rows, []string{"", r.Note})
			}
		}
		p.Table("", rows)
		changes = counts[madefiles.New] + counts[madefiles.Changed] + counts[madefiles.Gone]
		line := fmt.Sprintf("%s in %s: %d new, %d changed, %d gone, %d unchanged, %d of yours left alone",
			report.Plural(len(wanted), "file"), dir,
			counts[madefiles.New], counts[madefiles.Changed], counts[madefiles.Gone], counts[madefiles.Same],
			counts[madefiles.Yours])
		if dry {
			line += "; nothing was written"
		}
		if without > 0 {
			line += fmt.Sprintf("\n%s more without a request to write: it is ()", report.Plural(without, "call"))
		}
		p.Line("%s", line)
		if counts[madefiles.New] > 0 && !dry {
			p.Line("Send one with: %s", sending(calls, results, dir))
		}
	})
	if dry && changes > 0 {
		return found, nil
	}
	return fine, nil
}

func firstNew(results []madefiles.Result) string {
	for _, r := range results {
		if r.State == madefiles.New {
			return r.Name
		}
	}
	return ""
}

// sending is the command that sends the first new request.
func sending(calls []*schema.Call, results []madefiles.Result, dir string) string {
	file := func(name string) string { return "@" + filepath.ToSlash(filepath.Join(dir, name)) }
	first := firstNew(results)
	for _, c := range calls {
		if first != requestFile(c) && first != headFile(c) {
			continue
		}
		command := fmt.Sprintf("faithful call URL %s.%s %s", c.Service.Name, c.Name, file(requestFile(c)))
		if c.Head != nil {
			command += " --head " + file(headFile(c))
		}
		return command
	}
	return "faithful call URL SERVICE.CALL " + file(first)
}

// requestFile is the name of a call's file.
func requestFile(c *schema.Call) string { return c.FullName() + ".json" }

// headFile is the name of the file of what comes before a call's stream.
func headFile(c *schema.Call) string { return c.FullName() + ".head.json" }

// requestFiles makes the files of calls, and counts those without a request. That
// of a call whose request is a stream holds elements, one a line.
func requestFiles(defs *schema.Definitions, calls []*schema.Call) (list []madefiles.File, without int, err error) {
	for _, c := range calls {
		if c.Request == nil {
			without++
			continue
		}
		count := 1
		if c.RequestStream {
			count = max(2, len(value.Examples(defs, c.Request)))
		}
		samples, err := samplesOf(defs, c.Request, count, -1)
		if err != nil {
			return nil, 0, err
		}
		var data []byte
		for _, m := range samples {
			b, err := value.EncodeJSON(m)
			if err != nil {
				return nil, 0, err
			}
			if !c.RequestStream {
				b = indented(b)
			}
			data = append(append(data, b...), '\n')
		}
		list = append(list, madefiles.File{Name: requestFile(c), Data: data,
			Check: func(data []byte) string { return objection(c, c.Request, data) }})
		if c.Head == nil {
			continue
		}
		heads, err := samplesOf(defs, c.Head, 1, -1)
		if err != nil {
			return nil, 0, err
		}
		if data, err = value.EncodeJSON(heads[0]); err != nil {
			return nil, 0, err
		}
		list = append(list, madefiles.File{Name: headFile(c), Data: append(indented(data), '\n'),
			Check: func(data []byte) string { return objection(c, c.Head, data) }})
	}
	return list, without, nil
}

// objection says what definitions have against a request in a file, or the head of one.
func objection(c *schema.Call, of *schema.Message, data []byte) string {
	what := fmt.Sprintf("no longer a request of %q: ", c.Name)
	if of == c.Head {
		what = fmt.Sprintf("no longer the head of a request of %q: ", c.Name)
	}
	elements := value.NewJSONElements(bytes.NewReader(data), 0)
	for n := 1; ; n++ {
		one, err := elements.Next()
		if err != nil || one == nil {
			if err != nil {
				return what + err.Error()
			}
			return ""
		}
		m, err := value.DecodeJSON(of, one, 0)
		if err != nil {
			return what + err.Error()
		}
		if violations := value.Validate(m); len(violations) > 0 {
			return fmt.Sprintf("%s%s %s", what, violations[0].Pointer, violations[0].Detail)
		}
	}
}
