package web

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"faithfulcourier/internal/stubs/golang/support/wire"
)

// errLost is a stream that ended without its end.
var errLost = errors.New("the connection ended before the stream did")

// streamWriter writes elements, each as soon as it is there.
type streamWriter struct {
	mu       sync.Mutex
	json     bool
	sequence bool // whether JSON comes after 0x1e, as in RFC 7464
	write    func(element []byte) error
	limit    int
	buffer   []byte
	last     time.Time
	begun    bool
	ended    atomic.Bool // read by who may not wait for a write
	failed   error
}

var errEnded = errors.New("the stream has ended")

// put writes what add appends.
func (s *streamWriter) put(ends bool, add func(b []byte) ([]byte, error)) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.failed != nil:
		return s.failed
	case s.ended.Load():
		return errEnded
	}
	b := s.buffer[:0]
	if s.json && s.sequence {
		b = append(b, 0x1e)
	}
	b, err := add(b)
	if err != nil {
		return err // nothing was written, so the stream can go on
	}
	if s.json && s.sequence {
		b = append(b, '\n')
	}
	s.buffer = b
	if len(b) > s.limit {
		return fmt.Errorf("an element of %d bytes, more than the %d that a stream may contain", len(b), s.limit)
	}
	s.begun, s.last = true, time.Now()
	s.ended.Store(ends)
	s.failed = s.write(b)
	return s.failed
}

func (s *streamWriter) value(m wire.Message) error {
	return s.put(false, func(b []byte) ([]byte, error) { return wire.AppendElement(b, s.json, m) })
}

func (s *streamWriter) end() error {
	return s.put(true, func(b []byte) ([]byte, error) { return wire.AppendEnd(b, s.json), nil })
}

func (s *streamWriter) problem(p *Problem) error {
	text, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return s.put(true, func(b []byte) ([]byte, error) { return wire.AppendProblem(b, s.json, text), nil })
}

// broken tells whether nothing more can be written.
func (s *streamWriter) broken() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.failed != nil
}

// done tells whether the end, or a problem, was written.
func (s *streamWriter) done() bool { return s.ended.Load() }

// heartbeats sends a heartbeat whenever nothing was written for a while, until stop.
func (s *streamWriter) heartbeats(every time.Duration) (stop func()) {
	done, stopped := make(chan struct{}), make(chan struct{})
	s.mu.Lock()
	s.last = time.Now()
	s.mu.Unlock()
	go func() {
		defer close(stopped)
		timer := time.NewTimer(every)
		defer timer.Stop()
		for {
			select {
			case <-done:
				return
			case <-timer.C:
			}
			s.mu.Lock()
			silent := time.Since(s.last)
			s.mu.Unlock()
			if silent < every {
				timer.Reset(every - silent)
				continue
			}
			if s.put(false, func(b []byte) ([]byte, error) { return wire.AppendHeartbeat(b, s.json), nil }) != nil {
				return
			}
			timer.Reset(every)
		}
	}()
	return func() {
		close(done)
		<-stopped
	}
}

// streamReader reads elements as they come.
type streamReader struct {
	json     bool
	read     func(b []byte) (int, error)
	splitter *wire.Splitter
	buffer   []byte
	from     int // what of buffer was returned already
	limit    int // of the bytes of an element
	budget   int // of what an element contains
}

func newStreamReader(json bool, limit, budget int, read func(b []byte) (int, error)) *streamReader {
	return &streamReader{json: json, read: read, splitter: wire.NewSplitter(json), limit: limit, budget: budget}
}

// tooLarge is an element over the limit.
type tooLarge struct{ limit int }

func (e *tooLarge) Error() string { return fmt.Sprintf("an element of more than %d bytes", e.limit) }

// next reads one element that is not a heartbeat, a value into m. The error is errLost
// when the stream is over without its end.
func (s *streamReader) next(m wire.Message) (wire.Element, *Problem, error) {
	for {
		from, n, err := s.splitter.Next(s.buffer[s.from:])
		if err != nil {
			return 0, nil, err
		}
		if n == 0 {
			if len(s.buffer)-s.from > s.limit {
				return 0, nil, &tooLarge{s.limit}
			}
			if err := s.fill(); err != nil {
				return 0, nil, err
			}
			continue
		}
		element := s.buffer[s.from+from : s.from+n]
		s.from += n
		if len(element) > s.limit {
			return 0, nil, &tooLarge{s.limit}
		}
		kind, text, err := wire.ReadElement(element, s.json, m, s.budget)
		if err != nil || kind == wire.ElementOther {
			if err != nil {
				return 0, nil, err
			}
			continue
		}
		if kind == wire.ElementProblem {
			p, err := readProblem(text)
			return kind, p, err
		}
		return kind, nil, nil
	}
}

func readProblem(text []byte) (*Problem, error) {
	p := &Problem{}
	if err := json.Unmarshal(text, p); err != nil {
		return nil, fmt.Errorf("problem details that can't be read: %w", err)
	}
	return p, nil
}

// fill reads more bytes, making room only for what came.
func (s *streamReader) fill() error {
	if s.from > 0 && s.from >= len(s.buffer)/2 {
		s.buffer = s.buffer[:copy(s.buffer, s.buffer[s.from:])]
		s.from = 0
	}
	if cap(s.buffer)-len(s.buffer) < 512 {
		grown := make([]byte, len(s.buffer), max(4096, 2*cap(s.buffer)))
		copy(grown, s.buffer)
		s.buffer = grown
	}
	n, err := s.read(s.buffer[len(s.buffer):cap(s.buffer)])
	s.buffer = s.buffer[:len(s.buffer)+n]
	switch {
	case n > 0:
		return nil
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return errLost
	case err == nil:
		return io.ErrNoProgress
	}
	return err
}

// mostBlanks is how many blanks may follow the end of a stream in JSON.
const mostBlanks = 64 << 10

// rest makes sure that nothing follows the end.
func (s *streamReader) rest() error {
	for blanks := 0; blanks <= mostBlanks; {
		for _, c := range s.buffer[s.from:] {
			if !s.json || c > ' ' && c != 0x1e {
				return errors.New("bytes after the end of the stream")
			}
		}
		blanks += len(s.buffer) - s.from
		s.from = len(s.buffer)
		if err := s.fill(); err != nil {
			if errors.Is(err, errLost) {
				return nil // the connection, after all that it had to carry
			}
			return err
		}
	}
	return errors.New("blanks without end after the end of the stream")
}
