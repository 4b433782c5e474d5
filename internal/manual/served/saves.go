package served

import (
	"encoding/json"
	"fmt"
	"net/http"
	"time"
)

// follow tells a page of each save for as long as it is open, as server-sent events (HTML, section 9.2).
func (s *Site) follow(w http.ResponseWriter, r *http.Request) {
	guard(w.Header())
	w.Header().Set("Content-Type", "text/event-stream")
	out := http.NewResponseController(w)
	s.mu.Lock()
	seen, wrong, told := s.number, s.wrong, s.told
	s.mu.Unlock()
	_, err := fmt.Fprint(w, "retry: 1000\n\n")
	for err == nil {
		if wrong != "" {
			err = event(w, "wrong", map[string]string{"findings": wrong})
		}
		if err == nil {
			err = out.Flush()
		}
		select {
		case <-r.Context().Done():
			return
		case <-told:
		case <-time.After(15 * time.Second): // so that who has left is noticed
			if _, err = fmt.Fprint(w, ": still here\n\n"); err == nil {
				err = out.Flush()
			}
			continue
		}
		s.mu.Lock()
		number := s.number
		wrong, told = s.wrong, s.told
		s.mu.Unlock()
		if wrong == "" && number != seen {
			err = event(w, "changed", map[string]int{"number": number})
		}
		seen = number
	}
}

func event(w http.ResponseWriter, name string, data any) error {
	text, err := json.Marshal(data)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(w, "event: %s\ndata: %s\n\n", name, text)
	return err
}
