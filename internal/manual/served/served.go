// Package served answers with the pages of a manual at an address of this machine, shows every save in them, and sends
// the calls that somebody fills in there. It must not know the command line, or where definitions come from.
//
//	served.go   the pages, and who may ask for them
//	saves.go    telling open pages of saves
//	sending.go  calls that pages send
package served

import (
	"crypto/rand"
	"crypto/subtle"
	"fmt"
	"mime"
	"net"
	"net/http"
	"net/netip"
	"path"
	"strings"
	"sync"

	"faithfulcourier/internal/manual"
	"faithfulcourier/internal/schema"
)

// Policy is what browsers may do with the pages of a manual (W3C Content Security Policy, level 3).
const Policy = "default-src 'none'; script-src 'self'; style-src 'self'; connect-src 'self'; img-src 'self' blob:; " +
	"base-uri 'none'; form-action 'none'; frame-ancestors 'none'"

// Below is where the pages are.
const Below = "/-/manual/"

// State is what is served.
type State struct {
	Definitions *schema.Definitions
	Manual      *manual.Manual
	// Code is a call as a program of each language; it may be nil.
	Code func(call *schema.Call, head, request []byte) []manual.Copy
	Mock http.Handler // answers all that is not the manual's; nil for nothing
}

// Site serves a manual.
type Site struct {
	Secret string // a page has it, and shows it when it sends

	to        string // where calls are sent
	transport http.RoundTripper

	mu     sync.Mutex
	state  State
	wrong  string // what is wrong with the definitions; "" while nothing is
	number int    // of the state
	told   chan struct{}
	open   map[string]*opened // streams of requests, by their ids
}

// New returns a site whose calls are sent to a server, as in http://127.0.0.1:8080, and nowhere else. transport carries
// them; nil is that of net/http.
func New(to string, transport http.RoundTripper) *Site {
	return &Site{Secret: rand.Text(), to: to, transport: transport, told: make(chan struct{}), open: map[string]*opened{}}
}

// Show serves another state from now on.
func (s *Site) Show(state State) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.state, s.wrong = state, ""
	s.tell()
}

// Refuse keeps the state, and tells open pages what is wrong with definitions that were saved.
func (s *Site) Refuse(findings string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.wrong = findings
	s.tell()
}

func (s *Site) tell() {
	s.number++
	close(s.told)
	s.told = make(chan struct{})
}

func (s *Site) now() State {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.state
}

// ServeHTTP answers one request. It answers for its own host alone, since a page of somebody else may give a name of
// its own this address.
func (s *Site) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !ownHost(r) {
		http.Error(w, fmt.Sprintf("nothing is served for the host %q: open this address by its number, or as localhost",
			r.Host), http.StatusMisdirectedRequest)
		return
	}
	state := s.now()
	switch at := r.URL.Path; {
	case at == "/-/send":
		s.send(w, r, state)
	case at == Below+"saves":
		s.follow(w, r)
	case strings.HasPrefix(at, Below):
		s.page(w, r, state.Manual, strings.TrimPrefix(at, Below))
	case at == "/-/manual" || at == "/" && r.Method == http.MethodGet && r.Header.Get("Sec-Fetch-Mode") == "navigate":
		http.Redirect(w, r, Below, http.StatusTemporaryRedirect)
	case at == "/favicon.ico": // browsers ask for it unasked
		w.WriteHeader(http.StatusNoContent)
	case state.Mock != nil:
		state.Mock.ServeHTTP(w, r)
	default:
		http.NotFound(w, r)
	}
}

// ownHost tells whether a request names the address that it came to: a number of the address's kind, or localhost.
func ownHost(r *http.Request) bool {
	host, port, err := net.SplitHostPort(r.Host)
	if err != nil {
		host, port = r.Host, "80"
	}
	local, is := r.Context().Value(http.LocalAddrContextKey).(*net.TCPAddr)
	if !is || fmt.Sprint(local.Port) != port {
		return false
	}
	if host == "localhost" {
		return true
	}
	address, err := netip.ParseAddr(strings.Trim(host, "[]"))
	return err == nil && address.Unmap() == local.AddrPort().Addr().Unmap()
}

func (s *Site) page(w http.ResponseWriter, r *http.Request, m *manual.Manual, name string) {
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		w.Header().Set("Allow", "GET, HEAD")
		http.Error(w, "pages are read with GET", http.StatusMethodNotAllowed)
		return
	}
	if name == "" {
		name = "index.html"
	}
	content, err := m.File(name)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	guard(w.Header())
	if content == nil {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
	_, _ = w.Write(content) // who has left needs no answer
}

// guard says what browsers may do with an answer.
func guard(h http.Header) {
	h.Set("Content-Security-Policy", Policy)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	h.Set("Cache-Control", "no-store")
}

// ours tells whether a page of ours asks: its origin is this one, and it has the secret.
func (s *Site) ours(r *http.Request) bool {
	origin, _ := strings.CutPrefix(r.Header.Get("Origin"), "http://")
	return origin == r.Host &&
		subtle.ConstantTimeCompare([]byte(r.Header.Get("Faithful-Manual")), []byte(s.Secret)) == 1
}
