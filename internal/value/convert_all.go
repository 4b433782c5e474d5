package value

import (
	"errors"
	"fmt"
	"io"
	"runtime"

	"faithfulcourier/internal/schema"
)

// Conversion is the conversion of a whole sequence, by as many workers as there
// are processors, in memory that does not grow with it.
type Conversion struct {
	Message *schema.Message
	ToCBOR  bool                                 // else to JSON, a line each
	Budget  int                                  // of each element, as for DecodeCBOR
	Limit   int                                  // of each element, as for NewCBORElements
	LeftOut func(element int, pointers []string) // as of a Converter, in the order of elements
}

// SequenceError is what is wrong with one element of a sequence.
type SequenceError struct {
	Element int   // from 1
	Offset  int64 // of the element in the sequence
	Err     *Error
}

func (e *SequenceError) Error() string { return fmt.Sprintf("element %d: %v", e.Element, e.Err) }

// Unwrap returns the *Error, whose offset is in the sequence too.
func (e *SequenceError) Unwrap() error { return e.Err }

// batchSize is how many bytes of elements one worker takes.
const batchSize = 128 << 10

// batch is some elements on their way.
type batch struct {
	data    []byte
	ends    []int   // of each element in data
	offsets []int64 // of each element in the sequence
	out     []byte
	done    int // how many were converted
	left    []leftOut
	err     *Error // of the one after those
	broken  error  // of reading on, after all of them
	ready   chan struct{}
}

type leftOut struct {
	element  int // of its batch
	pointers []string
}

// Run converts what in holds. write is called with converted elements, in their
// order. It returns how many there were; the error is a *SequenceError, or that of
// reading or writing. What came before an error is written.
func (c *Conversion) Run(in io.Reader, write func(converted []byte, elements int) error) (count int, err error) {
	workers := runtime.GOMAXPROCS(0)
	work := make(chan *batch)
	order := make(chan *batch, workers) // and so many are in memory at most
	stop := make(chan struct{})
	defer close(stop)
	for range workers {
		go func() {
			converter := NewConverter(c.Message, c.Budget)
			for b := range work {
				b.convert(converter, c.ToCBOR)
			}
		}()
	}
	go c.read(in, work, order, stop)
	for b := range order {
		<-b.ready
		if b.done > 0 {
			if err := write(b.out, b.done); err != nil {
				return count, err
			}
		}
		for _, l := range b.left {
			if c.LeftOut != nil {
				c.LeftOut(count+l.element+1, l.pointers)
			}
		}
		count += b.done
		if b.err != nil {
			if b.err.Offset >= 0 { // it is -1 of what can't be written
				b.err.Offset += int(b.offsets[b.done])
			}
			return count, &SequenceError{count + 1, b.offsets[b.done], b.err}
		}
		if b.broken != nil {
			var e *Error
			if errors.As(b.broken, &e) {
				return count, &SequenceError{count + 1, int64(e.Offset), e}
			}
			return count, b.broken
		}
	}
	return count, nil
}

// read makes batches: full ones, or what there is before it has to wait.
func (c *Conversion) read(in io.Reader, work, order chan<- *batch, stop <-chan struct{}) {
	defer close(work)
	defer close(order)
	elements := NewCBORElements(in, c.Limit)
	elements.json = c.ToCBOR
	b := &batch{ready: make(chan struct{})}
	pass := func() bool {
		for _, to := range []chan<- *batch{order, work} {
			select {
			case to <- b:
			case <-stop:
				return false
			}
		}
		b = &batch{ready: make(chan struct{})}
		return true
	}
	for {
		one, err := elements.buffered()
		if one != nil {
			b.data = append(b.data, one...)
			b.ends, b.offsets = append(b.ends, len(b.data)), append(b.offsets, elements.Offset())
		}
		if (one == nil && len(b.ends) > 0 || len(b.data) >= batchSize) && err == nil && !pass() {
			return
		}
		if one == nil && err == nil && !elements.eof {
			err = elements.fill()
		} else if one == nil && err == nil {
			return
		}
		if err != nil {
			b.broken = err
			pass()
			return
		}
	}
}

func (b *batch) convert(c *Converter, toCBOR bool) {
	defer close(b.ready)
	c.LeftOut = func(pointers []string) { b.left = append(b.left, leftOut{b.done, pointers}) }
	from := 0
	for _, end := range b.ends {
		var err error
		if toCBOR {
			b.out, err = c.ToCBOR(b.out, b.data[from:end])
		} else if b.out, err = c.ToJSON(b.out, b.data[from:end]); err == nil {
			b.out = append(b.out, '\n')
		}
		if err != nil {
			b.err = err.(*Error) // the only kind that there is
			return
		}
		b.done++
		from = end
	}
}
