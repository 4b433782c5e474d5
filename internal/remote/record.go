package remote

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"

	"faithfulcourier/internal/conversation"
	"faithfulcourier/internal/schema"
	"faithfulcourier/internal/stubs"
	"faithfulcourier/internal/stubs/golang/support/web"
	"faithfulcourier/internal/value"
)

// Recorded is one call with what it was answered: a line of a record. Payloads
// are in JSON; no credentials are in it.
type Recorded struct {
	Call     string            `json:"call"`
	Request  json.RawMessage   `json:"request,omitempty"`
	Head     json.RawMessage   `json:"head,omitempty"`     // what came before a stream of requests
	Requests []json.RawMessage `json:"requests,omitempty"` // the elements of a stream
	Status   int               `json:"status"`
	Answer   json.RawMessage   `json:"answer,omitempty"`
	Answers  []json.RawMessage `json:"answers,omitempty"` // the elements of a stream
	Error    string            `json:"error,omitempty"`   // the full name of a declared error, or the name of a problem
	Fields   json.RawMessage   `json:"fields,omitempty"`  // of the error
}

// Difference is where an answer is not what was recorded.
type Difference struct {
	Path     string `json:"path"` // RFC 6901, after the part of the record: "/answer/state"
	Recorded string `json:"recorded"`
	Now      string `json:"now"`
}

// Replay sends a recorded call again, and returns how the answer differs. The
// error says that there was none to compare.
func Replay(ctx context.Context, c *schema.Call, r *Recorded, options Options) ([]Difference, error) {
	options.Head = r.Head
	now, err := replayed(ctx, NewCaller(c, options), c, r)
	if err != nil {
		return nil, err
	}
	var list []Difference
	if now.Status != r.Status {
		list = append(list, Difference{"/status", strconv.Itoa(r.Status), strconv.Itoa(now.Status)})
	}
	if now.Error != r.Error {
		list = append(list, Difference{"/error", orNone(r.Error), orNone(now.Error)})
	}
	list = differences(list, "/fields", c.Response, r.Fields, now.Fields)
	list = differences(list, "/answer", c.Response, r.Answer, now.Answer)
	if len(r.Answers) != len(now.Answers) {
		list = append(list, Difference{"/answers", fmt.Sprintf("%d elements", len(r.Answers)),
			fmt.Sprintf("%d elements", len(now.Answers))})
	}
	for i := range min(len(r.Answers), len(now.Answers)) {
		list = differences(list, "/answers/"+strconv.Itoa(i), c.Response, r.Answers[i], now.Answers[i])
	}
	return list, nil
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

// replayed makes a call, and records it.
func replayed(ctx context.Context, k *Caller, c *schema.Call, r *Recorded) (*Recorded, error) {
	now := &Recorded{Call: r.Call}
	var err error
	keep := func(a *Answer) error {
		if a.Refused != nil {
			return fmt.Errorf("what came is not what the definitions say: %w", a.Refused)
		}
		if a.Message == nil {
			return nil
		}
		text, err := value.EncodeJSON(a.Message)
		if c.ResponseStream {
			now.Answers = append(now.Answers, text)
		} else {
			now.Answer = text
		}
		return err
	}
	switch {
	case c.RequestStream:
		err = replayStream(ctx, k, c, r, keep)
	case c.ResponseStream:
		for a, elementErr := range k.Elements(ctx, r.Request) {
			if err = elementErr; err == nil {
				err = keep(a)
			}
			if err != nil {
				break
			}
		}
	default:
		var a *Answer
		if a, err = k.Do(ctx, r.Request); err == nil {
			err = errors.Join(a.whole(c), keep(a))
		}
	}
	now.Status = k.Seen().Status
	var d *Declared
	var p *web.Problem
	switch {
	case errors.As(err, &d):
		now.Error, now.Fields = d.Problem.Name(), d.Problem.Fields
	case errors.As(err, &p):
		now.Error = p.Name()
	case err != nil:
		return nil, err
	}
	if conversation.BothWays(c) {
		now.Status = r.Status // of a WebSocket there is none
	}
	return now, nil
}

func replayStream(ctx context.Context, k *Caller, c *schema.Call, r *Recorded, keep func(*Answer) error) error {
	s, err := k.Open(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	received := make(chan error, 1)
	if c.ResponseStream {
		go func() {
			for a, err := range s.Received() {
				if err == nil {
					err = keep(a)
				}
				if err != nil {
					received <- err
					return
				}
			}
			received <- nil
		}()
	}
	for _, element := range r.Requests {
		if err := s.Send(element); err != nil {
			if c.ResponseStream {
				break // what comes says why
			}
			return err
		}
	}
	a, err := s.Finish()
	if c.ResponseStream {
		return errors.Join(err, <-received)
	}
	if err != nil {
		return err
	}
	return keep(a)
}

// differences compares two payloads of a message: as values where both can be
// read, so that what is written in two ways is one.
func differences(list []Difference, path string, t *schema.Message, before, now json.RawMessage) []Difference {
	if t != nil && len(before) > 0 && len(now) > 0 {
		a, errA := value.DecodeJSON(t, before, 0)
		b, errB := value.DecodeJSON(t, now, 0)
		if errA == nil && errB == nil {
			if value.Equal(a, b) {
				return list
			}
			before, _ = value.EncodeJSON(a)
			now, _ = value.EncodeJSON(b)
		}
	}
	return jsonDifferences(list, path, before, now)
}

func jsonDifferences(list []Difference, path string, before, now json.RawMessage) []Difference {
	if string(before) == string(now) {
		return list
	}
	var a, b map[string]json.RawMessage
	if json.Unmarshal(before, &a) == nil && json.Unmarshal(now, &b) == nil && a != nil && b != nil {
		var names []string
		for name := range a {
			names = append(names, name)
		}
		for name := range b {
			if _, both := a[name]; !both {
				names = append(names, name)
			}
		}
		slices.Sort(names)
		for _, name := range names {
			list = jsonDifferences(list, path+stubs.Pointer(name), a[name], b[name])
		}
		return list
	}
	var x, y []json.RawMessage
	if json.Unmarshal(before, &x) == nil && json.Unmarshal(now, &y) == nil && x != nil && y != nil && len(x) == len(y) {
		for i := range x {
			list = jsonDifferences(list, path+"/"+strconv.Itoa(i), x[i], y[i])
		}
		return list
	}
	return append(list, Difference{path, absent(before), absent(now)})
}

func absent(text json.RawMessage) string {
	if len(text) == 0 {
		return "absent"
	}
	return string(text)
}
