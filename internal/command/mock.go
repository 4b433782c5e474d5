package command

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"faithfulcourier/internal/files"
	"faithfulcourier/internal/project"
	"faithfulcourier/internal/remote"
	"faithfulcourier/internal/report"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/source"
	"faithfulcourier/internal/stubs/golang/support/web"
)

// mocking is the command mock with its options.
type mocking struct {
	w       *World
	ref     *referenceOptions
	at      string
	answers string
	quiet   bool
	options remote.MockOptions
	current atomic.Pointer[remote.Mock]
	print   sync.Mutex
	record  *os.File
	width   int // of the longest SERVICE.CALL
}

// sheetName is where the answer sheet of a project is.
const sheetName = "answers.toml"

// basePath is one or more whole segments, of characters that need no escape (RFC 3986,
// section 3.3).
var basePath = regexp.MustCompile(`^(/[A-Za-z0-9._~!$&'()*+,;=:@-]+)+/?$`)

var mockCommand = &command{
	name:     "mock",
	synopsis: "[--at ADDRESS] [--answers FILE] [--faults SHARE] [--record FILE] [options]",
	short:    "serves every call with declared or made-up answers",
	long: `Serves every call of every service, as a real server would: it checks requests and
that credentials are there, and it streams. Answers come from answers.toml, or
else from declared examples, or else are made within bounds. It logs one line per
request. When definitions or answers change, it reads them again; while they are
wrong, it says so and keeps the last good ones. Ctrl-C ends it.`,
	examples: [2]string{"faithful mock", "faithful mock --at 127.0.0.1:9000 --faults 0.1 --record day.jsonl"},
	prepare: func(flags *flag.FlagSet) func(*World, []string) (int, error) {
		m := &mocking{}
		m.ref = referenceFlags(flags)
		flags.StringVar(&m.at, "at", report.MockAddress, "serve at this `ADDRESS`; port 0 takes any that is free")
		flags.StringVar(&m.answers, "answers", "", "the answer sheet: `FILE`; "+sheetName+" next to faithful.toml unless "+
			"said otherwise")
		flags.StringVar(&m.options.Base, "base", "", "serve below this `PATH`, such as /v1")
		origins := severalOf(flags, "origin", "let pages of this `ORIGIN` call from a browser")
		flags.Float64Var(&m.options.Faults, "faults", 0,
			"the `SHARE` of calls that fail with a declared error, or are slow: 0 to 1")
		seed := flags.Uint64("seed", 0, "make answers and faults from this number: `N`")
		record := flags.String("record", "", "add each call and its answer to `FILE`, for faithful call --replay")
		flags.BoolVar(&m.quiet, "quiet", false, "log nothing")
		return func(w *World, args []string) (int, error) {
			if len(args) > 0 {
				return trouble, usage("mock takes no arguments")
			}
			if m.options.Faults < 0 || m.options.Faults > 1 {
				return trouble, usage("--faults is a share from 0 to 1, such as 0.1")
			}
			if m.options.Base != "" && !basePath.MatchString(m.options.Base) {
				return trouble, usage("--base is a path such as /v1, and %q is not", m.options.Base)
			}
			m.w, m.options.Origins, m.options.Seed, m.options.Now = w, *origins, *seed, w.Now
			return m.run(*record)
		}
	},
}

func (m *mocking) run(record string) (int, error) {
	if !m.quiet {
		m.options.Log = m.log
	}
	if record != "" {
		folder, err := files.Open(filepath.Dir(m.w.path(record)))
		if err != nil {
			return trouble, err
		}
		defer folder.Close()
		f, err := folder.Append(filepath.Base(record), 0o600) // what is secret in messages is in it
		if err != nil {
			return trouble, err
		}
		defer f.Close()
		m.record, m.options.Record = f, m.keep
	}
	mock, status, err := m.load()
	if mock == nil {
		return status, err
	}
	m.current.Store(mock)
	listener, err := listenAt(m.at, "--at ADDRESS")
	if err != nil {
		return trouble, err
	}
	ctx, stop := signal.NotifyContext(m.w.Context, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	m.greet(listener.Addr().String())
	reloaded := make(chan struct{})
	go func() {
		defer close(reloaded)
		m.watch(ctx)
	}()
	err = serveUntil(ctx, listener, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		m.current.Load().ServeHTTP(w, r)
	}))
	stop()
	<-reloaded
	if err != nil {
		return trouble, err
	}
	return fine, nil
}

// listenAt listens on an address; option is what names another one.
func listenAt(address, option string) (net.Listener, error) {
	listener, err := net.Listen("tcp", address)
	var inUse *os.SyscallError
	if errors.As(err, &inUse) && errors.Is(inUse.Err, syscall.EADDRINUSE) {
		return nil, fmt.Errorf("%s is taken by another program; serve elsewhere with %s", address, option)
	}
	return listener, err
}

// serveUntil serves until the context ends, or serving fails.
func serveUntil(ctx context.Context, listener net.Listener, handler http.Handler) error {
	server := web.NewServer(handler)
	server.ErrorLog = nil
	server.BaseContext = func(net.Listener) context.Context { return ctx }
	served := make(chan error, 1)
	go func() { served <- server.Serve(listener) }()
	select {
	case err := <-served:
		return err
	case <-ctx.Done():
	}
	patience, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if server.Shutdown(patience) != nil {
		_ = server.Close() // streams that nobody ends
	}
	return nil
}

// load loads definitions and answers. Where it returns none, what is wrong has
// been printed, or is the error.
func (m *mocking) load() (*remote.Mock, int, error) {
	defs, status, err := m.ref.load(m.w)
	if defs == nil {
		return nil, status, err
	}
	p, err := openProject(m.w.Dir)
	if err != nil && !isNoProject(err) {
		return nil, trouble, err
	}
	m.options.Name, m.options.Version = "mock", *m.ref.of
	if p != nil {
		m.options.Name = p.Config.Name
	}
	sheet, err := m.sheet(defs, p)
	var bad *remote.BadSheet
	if errors.As(err, &bad) {
		report.New(m.w.Out, m.w.Look).Findings(bad.Findings)
		return nil, wrong, nil
	}
	if err != nil {
		return nil, trouble, err
	}
	mock, err := remote.NewMock(defs, sheet, m.options)
	if err != nil {
		return nil, found, printImpossible(m.w, err)
	}
	return mock, fine, nil
}

// sheetPath is where the answer sheet is; must says that it has to be there.
func (m *mocking) sheetPath(p *project.Project) (path string, must bool) {
	switch {
	case m.answers != "":
		return m.w.path(m.answers), true
	case p != nil:
		return filepath.Join(p.Dir, sheetName), false
	}
	return filepath.Join(m.w.Dir, sheetName), false
}

func (m *mocking) sheet(defs *schema.Definitions, p *project.Project) (*remote.Sheet, error) {
	path, must := m.sheetPath(p)
	text, err := files.ReadRegular(path, 64<<20)
	if errors.Is(err, fs.ErrNotExist) && !must {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	name := m.answers
	if name == "" {
		name = sheetName
	}
	return remote.ReadSheet(defs, source.NewFile(name, string(text)).At(path), remote.Sampled(defs, m.options.Seed))
}

// greet says where the mock is, and what to do with it.
func (m *mocking) greet(address string) {
	defs := m.current.Load().Definitions()
	base := "http://" + address + strings.TrimRight(m.options.Base, "/")
	for _, c := range defs.Calls() {
		m.width = max(m.width, len(c.Service.Name)+1+len(c.Name))
	}
	buffered(m.w, func(p *report.Printer) {
		p.Line("Serving %s at %s", report.Plural(len(defs.Calls()), "call"), p.In(report.Bold, base))
		for _, c := range defs.Calls() {
			if len(c.Needs) == 0 && !c.RequestStream && !c.ResponseStream && c.Request != nil {
				p.Line("Try: faithful sample %s | faithful call %s %s", c.Service.Name+"."+c.Name, base, c.Service.Name+"."+c.Name)
				break
			}
		}
	})
}

// log prints one request.
func (m *mocking) log(l *remote.Logged) {
	m.print.Lock()
	defer m.print.Unlock()
	buffered(m.w, func(p *report.Printer) {
		status, style := fmt.Sprint(l.Status), report.Green
		switch {
		case l.Status == 0:
			status, style = "cut", report.Red
		case l.Status >= 400:
			style = report.Yellow
		}
		what := l.Call // without its module
		if parts := strings.Split(what, "."); len(parts) > 2 {
			what = strings.Join(parts[len(parts)-2:], ".")
		}
		if what == "" {
			what = "no call"
		}
		answer := l.Answer
		if l.Problem != "" && answer == "" {
			answer = l.Problem
		} else if l.Problem != "" {
			answer += ", " + l.Problem
		}
		if l.Elements > 0 {
			answer += ", " + report.Plural(l.Elements, "element")
		}
		p.Line("%s %s %-*s  %s  %s  %s", p.In(report.Faint, l.At.Format("15:04:05")), p.In(style, status), m.width, what,
			answer, took(l.Took), p.In(report.Faint, l.Method+" "+l.Path))
		if len(l.Refused) == 0 && l.Problem != "" && l.Detail != "" {
			p.Line("             %s", report.Printable(l.Detail))
		}
		for _, v := range l.Refused {
			where := v.Pointer
			if v.In != "" {
				where += " in the " + v.In
			}
			p.Line("             %s %s", report.Printable(where), report.Printable(v.Detail))
		}
	})
}

// keep adds a call to the record.
func (m *mocking) keep(r *remote.Recorded) {
	line, err := json.Marshal(r)
	if err == nil {
		m.print.Lock()
		defer m.print.Unlock()
		_, err = m.record.Write(append(line, '\n'))
	}
	if err != nil {
		fmt.Fprintf(m.w.Err, "faithful mock: the record can't be written: %v\n", err)
	}
}

// watch reads definitions and answers again when they change.
func (m *mocking) watch(ctx context.Context) {
	if *m.ref.of != "draft" {
		<-ctx.Done()
		return
	}
	p, err := openProject(m.w.Dir)
	if err != nil {
		<-ctx.Done()
		return
	}
	path, _ := m.sheetPath(p)
	first := true
	err = eachSave(ctx, p.Dir, path, func(missed error) {
		if first || missed != nil {
			first = false // what is served was loaded just now
			return
		}
		m.again()
	})
	if err != nil {
		fmt.Fprintf(m.w.Err, "faithful mock: changes are not seen: %v\n", err)
		<-ctx.Done()
	}
}

// again loads once more, and says in a line what came of it.
func (m *mocking) again() {
	m.print.Lock()
	defer m.print.Unlock()
	at := m.w.Now().Format("15:04:05")
	p := report.New(m.w.Out, m.w.Look)
	mock, _, err := m.load()
	switch {
	case err != nil:
		p.Line("%s %s the last good ones stay: %v", at, p.In(report.Red, "wrong"), err)
	case mock == nil:
		p.Line("%s %s the last good ones stay", at, p.In(report.Red, "wrong"))
	default:
		m.current.Store(mock)
		p.Line("%s %s definitions and answers were read again", at, p.In(report.Green, "fine"))
	}
}
