// Package command is the command line: one file a command, each of which
// reads its flags, makes one call into the core, and prints the result. No
// logic of the job is here.
package command

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/term"

	"faithfulcourier/internal/project"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
)

// The exit statuses.
const (
	fine    = 0
	found   = 1 // a change breaks, stubs are stale, a payload is refused, advice counts
	trouble = 2 // wrong usage, or something that could not be reached or written
	wrong   = 3 // the definitions, or faithful.toml
)

// World is what a command may touch.
type World struct {
	Context context.Context
	In      io.Reader
	Out     io.Writer
	Err     io.Writer
	Dir     string
	Look    report.Look // of Out
	ErrLook report.Look // of Err

	Terminal   bool // whether Out is one
	InTerminal bool // whether In is one

	Now func() time.Time
}

// path is where a file or folder is that somebody named.
func (w *World) path(name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(w.Dir, name)
}

// secret asks for a passphrase: on a terminal without showing it, else it is the
// first line of standard input.
func (w *World) secret(prompt string) ([]byte, error) {
	if file, ok := w.In.(*os.File); ok && w.InTerminal {
		fmt.Fprint(w.Err, prompt)
		defer fmt.Fprintln(w.Err)
		return term.ReadPassword(int(file.Fd()))
	}
	line, err := bufio.NewReader(w.In).ReadString('\n')
	if err != nil && err != io.EOF {
		return nil, err
	}
	if line = strings.TrimRight(line, "\r\n"); line == "" {
		return nil, errors.New("it needs a passphrase, and there is none on standard input")
	}
	return []byte(line), nil
}

// Process is the world of this process.
func Process() *World {
	dir, err := os.Getwd()
	if err != nil {
		dir = "."
	}
	terminal := term.IsTerminal(int(os.Stdout.Fd()))
	var out io.Writer = os.Stdout
	if terminal {
		out = report.Screen(out)
	}
	return &World{Context: context.Background(), In: os.Stdin, Out: out, Err: report.Screen(os.Stderr), Dir: dir,
		Now:  time.Now,
		Look: look(os.Stdout), ErrLook: look(os.Stderr), Terminal: terminal, InTerminal: term.IsTerminal(int(os.Stdin.Fd()))}
}

// letterFor begins the usage of a letter that stands for the option it names.
const letterFor = "the same as --"

// letter lets a letter stand for an option.
func letter(flags *flag.FlagSet, letter, name string) {
	flags.Var(flags.Lookup(name).Value, letter, letterFor+name)
}

// look is how a file is written to: one that is a terminal has its columns, and colours
// (https://no-color.org).
func look(file *os.File) report.Look {
	if !term.IsTerminal(int(file.Fd())) {
		return report.Plain
	}
	width, _, err := term.GetSize(int(file.Fd()))
	if err != nil {
		width = 0
	}
	return report.Look{Colour: os.Getenv("NO_COLOR") == "", Width: width}
}

// command is one command with its own help.
type command struct {
	name     string
	synopsis string // what follows the name
	short    string // one line
	long     string
	examples [2]string
	// prepare declares flags and returns what runs the command.
	prepare func(flags *flag.FlagSet) func(w *World, args []string) (int, error)
}

// all returns the commands in the order in which people meet them.
func all() []*command {
	return []*command{newCommand, checkCommand, tidyCommand, showCommand, generateCommand, languagesCommand, manualCommand,
		scaffoldCommand, sampleCommand, toCBORCommand, fromCBORCommand, callCommand, mockCommand, compareCommand,
		sealCommand, historyCommand, demoCommand(), completionCommand(), versionCommand, helpCommand()}
}

// usageError is wrong usage, with what would be right.
type usageError struct{ message string }

func (e *usageError) Error() string { return e.message }

func usage(format string, args ...any) error { return &usageError{fmt.Sprintf(format, args...)} }

// Run runs a command line and returns the exit status.
func Run(args []string, w *World) int {
	if len(args) == 0 {
		overview(report.New(w.Err, report.Plain))
		return trouble
	}
	if args[0] == "-h" || args[0] == "--help" {
		args[0] = "help"
	}
	i := slices.IndexFunc(all(), func(c *command) bool { return c.name == args[0] })
	if i < 0 {
		var names []string
		for _, c := range all() {
			names = append(names, c.name)
		}
		message := fmt.Sprintf("there is no command %q", args[0])
		if near := source.Nearest(args[0], names); near != "" {
			message += fmt.Sprintf("; did you mean %q?", near)
		}
		fmt.Fprintf(w.Err, "faithful: %s\nThe commands are: %s.\n", message, strings.Join(names, ", "))
		return trouble
	}
	own, out := *w, &outlet{Writer: w.Out}
	own.Out = out
	status := all()[i].run(&own, args[1:])
	if out.err != nil && status != trouble {
		w.complain(args[0], "standard output can't be written: "+out.err.Error())
		return trouble
	}
	return status
}

// outlet is standard output, and knows whether all of it was written. Who reads no
// further, as head does, ends the program (POSIX, SIGPIPE).
type outlet struct {
	io.Writer
	err error
}

func (o *outlet) Write(b []byte) (int, error) {
	n, err := o.Writer.Write(b)
	if err != nil {
		o.err = err
	}
	return n, err
}

func (c *command) run(w *World, args []string) int {
	flags := flag.NewFlagSet(c.name, flag.ContinueOnError)
	flags.SetOutput(io.Discard)
	run := c.prepare(flags)
	// Options and arguments stand in any order; "--" ends the options.
	var rest, verbatim []string
	if i := slices.Index(args, "--"); i >= 0 {
		args, verbatim = args[:i], args[i+1:]
	}
	for {
		err := flags.Parse(args)
		if errors.Is(err, flag.ErrHelp) {
			c.help(report.New(w.Out, w.Look), flags)
			return fine
		}
		if err != nil {
			fmt.Fprintf(w.Err, "faithful %s: %s\n", c.name, c.flagMistake(err, flags))
			return trouble
		}
		if flags.NArg() == 0 {
			break
		}
		args = flags.Args()
		rest = append(rest, args[0])
		args = args[1:]
	}
	status, err := run(w, append(rest, verbatim...))
	if err == nil {
		return status
	}
	var bad *project.BadConfig
	var misused *usageError
	switch {
	case errors.Is(err, errFound):
		return wrong
	case errors.As(err, &bad):
		report.New(w.Out, w.Look).Findings(bad.Findings)
		return wrong
	case errors.As(err, &misused):
		w.complain(c.name, misused.message)
		fmt.Fprintf(w.Err, "Usage: faithful %s %s\n", c.name, c.synopsis)
	case errors.Is(err, project.ErrNoProject):
		w.complain(c.name, err.Error())
		fmt.Fprintf(w.Err, "Start a project with: faithful new DIR\n")
	default:
		w.complain(c.name, err.Error())
	}
	return trouble
}

// complain says on standard error why a command did not do what it was asked.
func (w *World) complain(name, message string) {
	p := report.New(w.Err, w.ErrLook)
	for i, line := range strings.Split(message, "\n") {
		if i == 0 {
			line = "faithful " + name + ": " + line
		}
		p.Sentence("", line, 2)
	}
}

// flagMistake says what is wrong with an option, with the nearest known one.
func (c *command) flagMistake(err error, flags *flag.FlagSet) string {
	wants := func(name, given string) string {
		f := flags.Lookup(strings.TrimLeft(name, "-"))
		if f == nil {
			return err.Error()
		}
		value, text := flag.UnquoteUsage(f)
		return fmt.Sprintf("--%s needs %s after it%s: %s", f.Name, cmp.Or(value, "true or false"), given, text)
	}
	if name, ok := strings.CutPrefix(err.Error(), "flag needs an argument: "); ok {
		return wants(name, "")
	}
	for _, begins := range []string{"invalid value ", "invalid boolean value "} {
		rest, ok := strings.CutPrefix(err.Error(), begins)
		given, rest, cut := strings.Cut(rest, " for ")
		if name, _, _ := strings.Cut(strings.TrimPrefix(rest, "flag "), ":"); ok && cut {
			return wants(name, ", not "+given)
		}
	}
	unknown, ok := strings.CutPrefix(err.Error(), "flag provided but not defined: -")
	if !ok {
		return err.Error()
	}
	var names []string
	flags.VisitAll(func(f *flag.Flag) { names = append(names, f.Name) })
	message := fmt.Sprintf("there is no option %q", "--"+strings.TrimPrefix(unknown, "-"))
	if near := source.Nearest(unknown, names); near != "" {
		return message + "; did you mean \"--" + near + "\"?"
	}
	return message + fmt.Sprintf("; see faithful help %s", c.name)
}

func (c *command) help(p *report.Printer, flags *flag.FlagSet) {
	p.Line("%s", p.In(report.Bold, strings.TrimSpace("faithful "+c.name+" "+c.synopsis)))
	p.Line("")
	p.Line("%s", c.long)
	var rows [][]string
	letters := map[string]string{}
	flags.VisitAll(func(f *flag.Flag) {
		if name, is := strings.CutPrefix(f.Usage, letterFor); is {
			letters[name] = "-" + f.Name + ", "
		}
	})
	flags.VisitAll(func(f *flag.Flag) {
		if strings.HasPrefix(f.Usage, letterFor) {
			return
		}
		value, text := flag.UnquoteUsage(f)
		rows = append(rows, []string{strings.TrimSpace(letters[f.Name] + "--" + f.Name + " " + value), text})
	})
	if len(rows) > 0 {
		p.Line("")
		p.Line("Options")
		p.Table("  ", rows)
	}
	p.Line("")
	p.Line("Examples")
	for _, e := range c.examples {
		p.Line("  %s", e)
	}
}

// outputKind is the option --as: text, json, and what else a command writes.
func outputKind(flags *flag.FlagSet, more ...string) *string {
	return flags.String("as", "text", "`KIND` of output: "+kindsText(more))
}

func checkKind(kind string, more ...string) error {
	if kind != "text" && kind != "json" && !slices.Contains(more, kind) {
		return usage("--as is %s, not %q", kindsText(more), kind)
	}
	return nil
}

func kindsText(more []string) string {
	kinds := append([]string{"text", "json"}, more...)
	last := len(kinds) - 1
	return strings.Join(kinds[:last], ", ") + " or " + kinds[last]
}

// mistakes prints what is wrong with definitions that a command can't go on
// with, and returns its exit status.
func mistakes(w *World, kind string, findings []source.Finding) (int, error) {
	// Advice can wait until the errors are fixed.
	findings = slices.DeleteFunc(slices.Clone(findings), func(f source.Finding) bool { return f.Severity != source.Error })
	p := report.New(w.Out, w.Look)
	switch kind {
	case "json":
		return wrong, p.JSON(map[string]any{"findings": report.FindingsJSON(findings)})
	case "sarif":
		return wrong, p.JSON(report.FindingsSARIF(Version, findings))
	}
	p.Findings(findings)
	p.Line("%s", p.In(report.Red, errorCount(findings)))
	return wrong, nil
}

// errFound says that what was found is printed already.
var errFound = errors.New("something was found")

// draft loads the project and its working definitions. Where these have
// errors they are printed, and the error is errFound.
func draft(w *World, kind string) (p *project.Project, definitions *schema.Definitions, err error) {
	p, err = openProject(w.Dir)
	if err != nil {
		return nil, nil, err
	}
	defs, findings, err := p.Definitions()
	if err != nil {
		return nil, nil, err
	}
	if source.Errors(findings) > 0 {
		_, err = mistakes(w, kind, findings)
		return nil, nil, errors.Join(err, errFound)
	}
	return p, defs, nil
}

// errorCount says how many errors there are, in how many files.
func errorCount(findings []source.Finding) string {
	files := map[*source.File]bool{}
	for _, f := range findings {
		if f.Severity == source.Error {
			files[f.Place.File] = true
		}
	}
	return report.Plural(source.Errors(findings), "error") + " in " + report.Plural(len(files), "file")
}

// buffered collects output so that it is written in one go.
func buffered(w *World, print func(p *report.Printer)) {
	var b bytes.Buffer
	print(report.New(&b, w.Look))
	w.Out.Write(b.Bytes()) // a broken pipe has no one to tell
}
