package command

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"faithfulcourier/examples/ferry"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/shell"
)

// demoCommand is a function, since the demo runs all other commands.
func demoCommand() *command {
	return &command{
		name:     "demo",
		synopsis: "[--into DIR]",
		short:    "runs the whole story on the ferry project",
		long: `Writes the project of a small ferry line into a scratch folder and goes through the
whole story: check, generate, a server and a client that really run, a harmless
change, a breaking change, versions, a manual. Each step shows the command and its
output. It needs no network. The server and the client need a Go toolchain.`,
		examples: [2]string{"faithful demo", "faithful demo --into ferry"},
		prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
			into := flags.String("into", "", "the `FOLDER` to use, new or empty, instead of a scratch folder")
			return func(w *World, args []string) (int, error) {
				if len(args) > 0 {
					return trouble, usage("demo takes no arguments")
				}
				dir, err := demoFolder(w, *into)
				if err != nil {
					return trouble, err
				}
				// Interrupted, the demo ends its server before itself.
				ctx, stop := signal.NotifyContext(w.Context, os.Interrupt)
				defer stop()
				own := *w
				own.Context = ctx
				d := &demo{World: &own, p: report.New(w.Out, w.Look), dir: dir}
				err = d.tell()
				if ctx.Err() != nil {
					return trouble, fmt.Errorf("interrupted; what it wrote so far is in %s", dir)
				}
				if err != nil {
					return trouble, err
				}
				return fine, nil
			}
		},
	}
}

func demoFolder(w *World, into string) (string, error) {
	if into == "" {
		return os.MkdirTemp("", "faithful-demo-")
	}
	dir := w.path(into)
	list, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	if len(list) > 0 {
		return "", fmt.Errorf("%s is not empty; choose a new folder", into)
	}
	return dir, os.MkdirAll(dir, 0o777)
}

// demo tells the story in one folder.
type demo struct {
	*World
	p    *report.Printer
	dir  string
	step int

	modules string // a folder that go takes the project's one library from
}

const bookingFile = "definitions/booking.faithful"

func (d *demo) tell() error {
	project, err := ferry.Files()
	if err != nil {
		return err
	}
	d.say("The Skerry Line: a project with four modules",
		"Definitions of sailings, bookings and vessels, and a server and a client\n"+
			"in each of Go, TypeScript, Python and Java "+
			"that somebody wrote against the stubs.")
	var paths []string
	for path, text := range project {
		paths = append(paths, path)
		if err := d.write(path, text); err != nil {
			return err
		}
	}
	slices.Sort(paths)
	for _, path := range paths {
		d.p.Line("    %s", path)
	}

	d.say("Are the definitions right?", "check reads all files, and says what is wrong in every one of them.")
	if err := d.faithful(fine, "check"); err != nil {
		return err
	}
	d.p.Line("With a mistake in one line:")
	if err := d.change("#5  fare       common.Money", "#5  fare       common.Mony"); err != nil {
		return err
	}
	if err := d.faithful(wrong, "check"); err != nil {
		return err
	}
	if err := d.undo(project); err != nil {
		return err
	}

	d.say("Stubs", "Types, codecs, clients and servers, in each language that faithful.toml names.")
	if err := d.faithful(fine, "generate"); err != nil {
		return err
	}

	d.say("Try the service before there is a server",
		"mock serves every call: it answers from answers.toml, with the examples of the\ndefinitions, or with made values. "+
			"sample and call make and send requests, without any code.")
	if err := d.try(); err != nil {
		return err
	}

	d.say("A server and a client, running", "The Go stubs need the standard library, and a package for WebSockets if "+
		"a call\nstreams both ways. The demo brings it, so no network is needed.")
	if err := d.run(); err != nil {
		return err
	}

	d.say("A version", "Now others use the definitions: seal records what they were given.")
	if err := d.faithful(fine, "seal", "-m", "the first season"); err != nil {
		return err
	}

	d.say("A harmless change", "Passengers bring luggage.")
	if err := d.change("  retired #12 \"coupon\"", "  #13 luggage    int32?\n  retired #12 \"coupon\""); err != nil {
		return err
	}
	if err := d.faithful(fine, "compare"); err != nil {
		return err
	}
	if err := d.faithful(fine, "seal", "-m", "luggage"); err != nil {
		return err
	}

	d.say("A breaking change", "Somebody thinks that metres are whole.")
	if err := d.change("#2 metres float64", "#2 metres int32"); err != nil {
		return err
	}
	if err := d.faithful(found, "compare"); err != nil {
		return err
	}
	d.p.Line("So it can't be sealed as a minor version:")
	if err := d.faithful(found, "seal", "1.2.0"); err != nil {
		return err
	}
	d.p.Line("Undone:")
	if err := d.change("#2 metres int32", "#2 metres float64"); err != nil {
		return err
	}

	d.say("A fix", "A field gets a better name. JSON goes by names, so that is breaking, too; where it is\nsafe, --fix "+
		"keeps what travels as it was. The programs have to follow.")
	if err := d.change("#10 email      text?", "#10 mail       text?"); err != nil {
		return err
	}
	if err := d.faithful(found, "compare", "--fix"); err != nil {
		return err
	}
	d.p.Line("Undone. The versions are as they were sealed, and the stubs are brought up to 1.1.0:")
	if err := d.change("#10 mail       text? json \"email\"", "#10 email      text?"); err != nil {
		return err
	}
	if err := d.faithful(fine, "history", "--audit"); err != nil {
		return err
	}
	if err := d.faithful(fine, "generate"); err != nil {
		return err
	}

	d.say("A manual", "Pages for everybody who calls the service, with what each version changed.")
	if err := d.faithful(fine, "manual"); err != nil {
		return err
	}
	d.end()
	return nil
}

func (d *demo) say(title, text string) {
	if d.step++; d.step > 1 {
		d.p.Line("")
	}
	d.p.Line("%s", d.p.In(report.Bold, fmt.Sprintf("%d. %s", d.step, title)))
	d.p.Line("%s", text)
	d.p.Line("")
}

func (d *demo) command(line string) { d.p.Line("%s", d.p.In(report.Blue, "$ "+line)) }

// faithful runs one of our own commands in the project.
func (d *demo) faithful(want int, args ...string) error {
	if err := d.Context.Err(); err != nil {
		return err
	}
	line := "faithful"
	for _, a := range args {
		switch {
		case strings.Contains(a, `"`):
			a = "'" + a + "'"
		case strings.Contains(a, " "):
			a = `"` + a + `"`
		}
		line += " " + a
	}
	d.command(line)
	w := *d.World
	w.Dir, w.Err = d.dir, d.Out
	got := Run(args, &w)
	d.p.Line("")
	if got != want {
		return fmt.Errorf("%s: exit status %d instead of %d; the project is in %s", line, got, want, d.dir)
	}
	return nil
}

func (d *demo) write(path, text string) error {
	return writeBelow(d.dir, path, text)
}

func writeBelow(dir, path, text string) error {
	full := filepath.Join(dir, filepath.FromSlash(path))
	if err := os.MkdirAll(filepath.Dir(full), 0o777); err != nil {
		return err
	}
	return os.WriteFile(full, []byte(text), 0o666)
}

// change edits the definitions of bookings, and shows how.
func (d *demo) change(old, new string) error {
	text, err := os.ReadFile(filepath.Join(d.dir, bookingFile))
	if err != nil {
		return err
	}
	if !strings.Contains(string(text), old) {
		return fmt.Errorf("%s has no %q", bookingFile, old)
	}
	d.p.Line("    %s", bookingFile)
	for line := range strings.SplitSeq(old, "\n") {
		if !strings.Contains(new, line) {
			d.p.Line("    %s", d.p.In(report.Red, "-   "+strings.TrimSpace(line)))
		}
	}
	for line := range strings.SplitSeq(new, "\n") {
		if !strings.Contains(old, line) {
			d.p.Line("    %s", d.p.In(report.Green, "+   "+strings.TrimSpace(line)))
		}
	}
	d.p.Line("")
	return d.write(bookingFile, strings.Replace(string(text), old, new, 1))
}

func (d *demo) undo(project map[string]string) error {
	return d.write(bookingFile, project[bookingFile])
}

// try calls a mock, and shows what travels.
func (d *demo) try() error {
	ctx, stop := context.WithCancel(d.Context)
	defer stop()
	log, writer := io.Pipe()
	w := *d.World
	w.Context, w.Dir, w.Out, w.Err, w.Look = ctx, d.dir, writer, writer, report.Look{Width: d.Look.Width}
	ended := make(chan int, 1)
	go func() {
		ended <- Run([]string{"mock", "--at", "127.0.0.1:0"}, &w)
		_ = writer.Close() // it never fails
	}()
	lines := make(chan string, 100)
	go func() {
		defer close(lines)
		for scan := bufio.NewScanner(log); scan.Scan(); {
			lines <- scan.Text()
		}
	}()
	d.command("faithful mock &")
	first := <-lines
	d.p.Line("%s", first)
	address := first[strings.LastIndexByte(first, ' ')+1:]
	<-lines // what to try
	d.p.Line("")
	const wrong = `{"sailing": "tomorrow", "passengers": []}`
	for _, step := range []struct {
		want int
		args []string
	}{
		{fine, []string{"sample", "Quay.follow"}},
		{fine, []string{"call", address, "Bookings.sailings", "-d", `{"from": "Eiderwick"}`}},
		{found, []string{"call", address, "Bookings.book", "-d", wrong}},
		{found, []string{"call", address, "Bookings.book", "-d", wrong, "--anyway"}},
		{fine, []string{"from-cbor", "SailingsRequest", "--bytes", "-d", "a1 01 69 45 69 64 65 72 77 69 63 6b"}},
	} {
		if err := d.faithful(step.want, step.args...); err != nil {
			return err
		}
	}
	stop()
	if status := <-ended; status != fine {
		return fmt.Errorf("the mock ended with exit status %d", status)
	}
	d.p.Line("What the mock has logged:")
	for line := range lines {
		d.p.Line("    %s", line)
	}
	return nil
}

// run builds the server and the client and lets them talk.
func (d *demo) run() error {
	if _, err := exec.LookPath("go"); err != nil {
		d.p.Line("There is no Go toolchain here, so this step is left out: the server and the client")
		d.p.Line("were not built and did not run. With Go 1.24 or newer, in the project's folder:")
		d.p.Line("  go run ./go/server -listen 127.0.0.1:8080")
		return nil
	}
	modules, err := os.MkdirTemp("", "faithful-modules-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(modules)
	for path, text := range ferry.Modules() {
		if err := writeBelow(modules, path, text); err != nil {
			return err
		}
	}
	d.modules = modules
	d.command("go build -trimpath -o bin/ ./go/server ./go/client")
	build := d.tool("go", "build", "-trimpath", "-o", "bin/", "./go/server", "./go/client")
	if output, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("the Go stubs did not build: %w\n%s", err, output)
	}
	ctx, stop := context.WithCancel(d.Context)
	defer stop()
	server := exec.CommandContext(ctx, filepath.Join(d.dir, "bin", "server"))
	server.Dir = d.dir
	output, err := server.StdoutPipe()
	if err != nil {
		return err
	}
	d.command("bin/server &")
	if err := server.Start(); err != nil {
		return err
	}
	defer func() {
		stop()
		_ = server.Wait() // it was told to end
	}()
	first, err := bufio.NewReader(output).ReadString('\n')
	if err != nil {
		return fmt.Errorf("the server ended before it listened: %w", err)
	}
	d.p.Line("%s", strings.TrimSpace(first))
	address := strings.TrimSpace(strings.TrimPrefix(first, "listening on "))
	d.command("bin/client -server " + address)
	client := exec.CommandContext(d.Context, filepath.Join(d.dir, "bin", "client"), "-server", address)
	lines, err := client.CombinedOutput()
	d.p.Line("%s", strings.TrimRight(string(bytes.TrimSpace(lines)), "\n"))
	if err != nil {
		return fmt.Errorf("the client failed: %w", err)
	}
	return nil
}

// tool runs a program of the toolchain without the network.
func (d *demo) tool(name string, args ...string) *exec.Cmd {
	c := exec.CommandContext(d.Context, name, args...)
	c.Dir = d.dir
	c.Env = append(os.Environ(), "GOTOOLCHAIN=local", "GOPROXY=file://"+filepath.ToSlash(d.modules), "GONOSUMDB=*",
		"GOFLAGS=-mod=mod", "GOWORK=off")
	c.WaitDelay = time.Second
	return c
}

func (d *demo) end() {
	d.p.Line("%s", d.p.In(report.Bold, "That is the story. The project is yours now:"))
	d.p.Line("  cd %s", shell.Word(d.dir))
	d.p.Line("")
	d.p.Line("Try there (with faithful on your PATH: go install ./cmd/faithful, in its repository):")
	for _, try := range []struct{ what, commands string }{
		{"what changed between two versions, and the same for programs, against the draft",
			"faithful compare 1.0.0 1.1.0\nfaithful compare 1.0.0 --as json"},
		{"change a field, and see what that does", "$EDITOR " + bookingFile + "\nfaithful compare"},
		{"a mock of the server; then, in another window, a booking",
			"faithful mock\nfaithful sample Bookings.book | faithful call http://127.0.0.1:7150 Bookings.book"},
		{"the manual in a browser: it shows every save, and sends calls to a mock", "faithful manual --serve"},
		{"the server in Go; then, in another window, a client that speaks JSON",
			"go run ./go/server -listen 127.0.0.1:8080\ngo run ./go/client -json"},
		{"clients of the same server in TypeScript and in Python",
			"(cd typescript && npm install && npm run build && node dist/client.js http://127.0.0.1:8080)\npip install -r " +
				"python/requirements.txt && (cd python && python client.py http://127.0.0.1:8080)"},
		{"the server in Java, in Jetty; then, in another window, its client",
			"mvn -q -f java compile exec:java -Dexec.mainClass=ferry.Server -Dexec.args=127.0.0.1:8081\n" +
				"mvn -q -f java exec:java -Dexec.mainClass=ferry.Client -Dexec.args=http://127.0.0.1:8081"},
	} {
		d.p.Line("")
		d.p.Line("  %s", d.p.In(report.Faint, "# "+try.what))
		for command := range strings.SplitSeq(try.commands, "\n") {
			d.p.Line("  %s", command)
		}
	}
}
