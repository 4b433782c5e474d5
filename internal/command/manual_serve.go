package command

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"

	"faithfulcourier/internal/manual"
	"faithfulcourier/internal/manual/served"
	"faithfulcourier/internal/remote"
	"faithfulcourier/internal/report"
)

// serving is where a manual is served. As a flag it may have a value, or an address after it.
type serving struct {
	on      bool
	address string
	anyone  bool
}

// manualAddress is where a manual is served unless it is told otherwise.
const manualAddress = "127.0.0.1:7151"

func (s *serving) flags(flags *flag.FlagSet) {
	flags.Var(s, "serve", "serve the pages, at "+manualAddress+
		" or at the `ADDRESS` after it; port 0 takes any that is free")
	flags.BoolVar(&s.anyone, "anyone", false, "serve at an address that other machines reach, too")
}

// IsBoolFlag says that the flag may stand alone.
func (s *serving) IsBoolFlag() bool { return true }

func (s *serving) String() string { return "" }

// Set takes "true" of the flag alone, or an address.
func (s *serving) Set(text string) error {
	switch text {
	case "true":
		s.on = true
	case "false":
		s.on = false
	default:
		s.on, s.address = true, text
	}
	return nil
}

// serve serves the manual until it is interrupted, and shows every save of its project.
func (m *manualWriter) serve() (int, error) {
	address := m.serving.address
	if address == "" {
		address = manualAddress
	}
	if err := m.serving.allows(address); err != nil {
		return trouble, err
	}
	listener, err := listenAt(address, "--serve ADDRESS")
	if err != nil {
		return trouble, err
	}
	defer listener.Close()
	own := "http://" + listener.Addr().String()
	mocked := m.to == ""
	if mocked {
		m.to = own
	}
	transport, err := m.ref.access.trust.transport(m.w)
	if err != nil {
		return trouble, err
	}
	site := served.New(m.to, transport)
	state, status, err := m.state(site, mocked)
	if state == nil {
		return status, err
	}
	site.Show(*state)
	ctx, stop := signal.NotifyContext(m.w.Context, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	to := m.to
	if mocked {
		to = "a mock, which is here, too"
	}
	fmt.Fprintf(m.w.Out, "Open it with a browser: %s%s\nCalls go to %s. Ctrl-C ends it.\n", own, served.Below, to)
	followed := make(chan struct{})
	go func() {
		defer close(followed)
		m.follow(ctx, site, mocked)
	}()
	err = serveUntil(ctx, listener, site)
	stop()
	<-followed
	if err != nil {
		return trouble, err
	}
	return fine, nil
}

// allows refuses an address that other machines reach, unless that is asked for.
func (s *serving) allows(address string) error {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return usage("--serve takes an address such as %s, and %q is not", manualAddress, address)
	}
	ip, err := netip.ParseAddr(host)
	if s.anyone || host == "localhost" || err == nil && ip.IsLoopback() {
		return nil
	}
	return usage("%s can be reached from other machines, and whoever opens the pages sends calls from this one: "+
		"serve at %s, or add --anyone", address, manualAddress)
}

// state is what is served of the definitions as they are now. Where it returns none, what is wrong has been printed, or
// is the error.
func (m *manualWriter) state(site *served.Site, mocked bool) (*served.State, int, error) {
	defs, about, status, err := m.load()
	if defs == nil {
		return nil, status, err
	}
	about.Send, about.Secret = manual.SendRelay, site.Secret
	state := &served.State{Definitions: defs, Manual: manual.New(defs, about), Code: about.Calling.Code}
	if mocked {
		mock := &mocking{w: m.w, ref: m.ref, quiet: true, options: remote.MockOptions{Now: m.w.Now}}
		made, status, err := mock.load()
		if made == nil {
			return nil, status, err
		}
		state.Mock = made
	}
	return state, fine, nil
}

// follow shows every save, until the context ends.
func (m *manualWriter) follow(ctx context.Context, site *served.Site, mocked bool) {
	p, err := openProject(m.w.Dir)
	if *m.ref.of != "draft" || err != nil {
		return // what is sealed, or is somebody else's, stays as it is
	}
	first := true
	err = eachSave(ctx, p.Dir, filepath.Join(p.Dir, sheetName), func(missed error) {
		if first || missed != nil {
			first = false // it was loaded just now
			return
		}
		m.again(site, mocked)
	})
	if err != nil {
		fmt.Fprintf(m.w.Err, "faithful manual: saves are not seen: %v\n", err)
	}
}

// again shows what was saved, or says what is wrong with it: here, and in open pages.
func (m *manualWriter) again(site *served.Site, mocked bool) {
	at := m.w.Now().Format("15:04:05")
	p := report.New(m.w.Out, m.w.Look)
	var said bytes.Buffer
	quiet := *m.w
	quiet.Out, quiet.Look = &said, report.Look{Width: 100}
	again := *m
	again.w = &quiet
	state, _, err := again.state(site, mocked)
	if state != nil {
		site.Show(*state)
		p.Line("%s %s open pages show what was saved", at, p.In(report.Green, "fine"))
		return
	}
	text := strings.TrimSpace(said.String())
	if err != nil {
		text = strings.TrimSpace(text + "\n" + err.Error())
	}
	site.Refuse(text)
	p.Line("%s", text)
	p.Line("%s %s the last good state stays", at, p.In(report.Red, "wrong"))
}
