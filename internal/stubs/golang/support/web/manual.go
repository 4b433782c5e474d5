package web

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"path"
	"strconv"
	"strings"
)

// manualPolicy is what browsers may do with the pages of a manual (W3C Content Security Policy, level 3).
const manualPolicy = "default-src 'none'; script-src 'self'; style-src 'self'; connect-src 'self'; " +
	"img-src 'self' blob:; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"

var manualTypes = map[string]string{".html": "text/html; charset=utf-8", ".css": "text/css; charset=utf-8",
	".js": "text/javascript; charset=utf-8"}

// unpacked are the pages of a manual by their paths: JSON (RFC 8259) in gzip (RFC 1952) in base64url (RFC 4648, section
// 5), over several lines.
func unpacked(packed string) (pages map[string]string, err error) {
	compressed, err := base64.RawURLEncoding.DecodeString(strings.ReplaceAll(packed, "\n", ""))
	if err != nil {
		return nil, fmt.Errorf("the manual: %w", err)
	}
	text, err := gzip.NewReader(bytes.NewReader(compressed))
	if err != nil {
		return nil, fmt.Errorf("the manual: %w", err)
	}
	content, err := io.ReadAll(text)
	if err != nil {
		return nil, fmt.Errorf("the manual: %w", err)
	}
	if err := json.Unmarshal(content, &pages); err != nil {
		return nil, fmt.Errorf("the manual: %w", err)
	}
	return pages, nil
}

// manualPage answers with a page of the manual. Its name is "" for the first one.
func (m *Served) manualPage(w http.ResponseWriter, r *http.Request, name string, below bool) {
	if !below { // links of the first page lead from below the folder
		w.Header().Set("Location", m.base+"/-/manual/")
		m.deliver(w, r, http.StatusPermanentRedirect, nil)
		return
	}
	pages, err := m.manual()
	if err != nil {
		m.report(r.Context(), "manual", err)
		m.problem(w, r, "internal", "")
		return
	}
	if name == "" {
		name = "index.html"
	}
	page, there := pages[name]
	if !there {
		m.problem(w, r, "unknown-call", "the manual has no page "+strconv.Quote(name))
		return
	}
	h := w.Header()
	h.Set("Content-Type", manualTypes[path.Ext(name)])
	h.Set("Content-Length", strconv.Itoa(len(page)))
	h.Set("Content-Security-Policy", manualPolicy)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Cache-Control", "no-cache")
	m.deliver(w, r, http.StatusOK, []byte(page))
}
