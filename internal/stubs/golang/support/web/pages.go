package web

import (
	"cmp"
	"encoding/json"
	"net/http"
	"slices"
	"strconv"
	"strings"
)

func (m *Served) ownPages(w http.ResponseWriter, r *http.Request, page string) {
	name, isError := strings.CutPrefix(page, "errors/")
	isManual := m.definitions.Manual != "" && (page == "manual" || strings.HasPrefix(page, "manual/"))
	var answer any
	status := http.StatusOK
	switch {
	case r.Method != http.MethodGet && r.Method != http.MethodHead:
		w.Header().Set("Allow", "GET, HEAD")
		m.problem(w, r, "wrong-method", "pages below /-/ are read with GET")
		return
	case page == "state":
		answer = map[string]bool{"serving": true}
		if m.life.over.Err() != nil {
			status, answer = http.StatusServiceUnavailable, map[string]bool{"serving": false}
		} else if err := guard(func() error { return m.serving(r.Context()) }); err != nil {
			m.report(r.Context(), "state", err)
			status, answer = http.StatusServiceUnavailable, map[string]bool{"serving": false}
		}
	case (page == "about" || page == "definitions" || isManual) && !m.quiet && m.guarded && !m.admits(w, r):
		return
	case isManual && !m.quiet:
		below, within := strings.CutPrefix(page, "manual/")
		m.manualPage(w, r, below, within)
		return
	case page == "about" && !m.quiet:
		answer = m.about()
	case page == "definitions" && !m.quiet:
		answer = map[string]any{"name": m.definitions.Name, "version": m.definitions.Version,
			"digest": m.definitions.Digest, "modules": m.definitions.Modules}
	case isError:
		pages := slices.Concat(commonErrors, m.definitions.Errors)
		if i := slices.IndexFunc(pages, func(e ErrorPage) bool { return e.Name == name }); i >= 0 {
			answer = pages[i]
		}
	}
	if answer == nil {
		m.problem(w, r, "unknown-call", "there is no page /-/"+page)
		return
	}
	body, err := json.Marshal(answer)
	if err != nil {
		m.report(r.Context(), page, err)
		m.problem(w, r, "internal", "")
		return
	}
	w.Header().Set("Content-Type", JSON)
	w.Header().Set("Content-Length", strconv.Itoa(len(body)))
	m.deliver(w, r, status, body)
}

func (m *Served) about() any {
	type call struct {
		Call   string `json:"call"`
		Method string `json:"method"`
		Path   string `json:"path"`
	}
	calls := []call{}
	for _, r := range m.routes {
		calls = append(calls, call{r.Call.Name, r.Call.Method, m.base + r.Call.Path})
	}
	slices.SortFunc(calls, func(a, b call) int {
		return cmp.Or(strings.Compare(a.Path, b.Path), strings.Compare(a.Method, b.Method))
	})
	return map[string]any{"name": m.definitions.Name, "version": m.definitions.Version, "digest": m.definitions.Digest,
		"calls": calls}
}

// admits asks the authorizer about the pages that it guards.
func (m *Served) admits(w http.ResponseWriter, r *http.Request) bool {
	if m.authorizer == nil {
		return true
	}
	any := &Call{Name: "definitions"}
	for _, route := range m.routes {
		for _, all := range route.Call.Needs {
			for _, c := range all {
				any.Needs = append(any.Needs, []*Credential{c})
			}
		}
	}
	credentials, _ := found(any, r, r.URL.Query)
	if _, err := m.judge(r.Context(), nil, credentials); err != nil {
		m.authorizerRefused(w, r, any, err)
		return false
	}
	return true
}
