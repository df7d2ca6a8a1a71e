package data

import (
	"cmp"
	"sync/atomic"

	"unquil/core/conversation"
)

// batch is some exchanges that are written together.
type batch struct {
	conversation.Copies
	by []*Program // who asked; nil: nobody knows
}

// Bounds of a batch, and how many there are.
const (
	batchSize  = 256
	batchBytes = 1 << 17
	batches    = 3
)

// aside writes exchanges in a goroutine of its own, while others are read.
type aside struct {
	write func(*batch) error // which may keep nothing of it

	now    *batch
	full   chan *batch
	free   chan *batch
	done   chan struct{} // is closed when all that was handed over has been written
	err    error         // what writing came to, once done is closed
	failed atomic.Bool
}

// add hands over an exchange. The error may be that of an earlier one.
func (a *aside) add(t *conversation.Transaction, by *Program) error {
	if a.now == nil {
		a.now = &batch{}
	}
	a.now.Add(t)
	a.now.by = append(a.now.by, by)
	switch {
	case len(a.now.by) < batchSize && a.now.Bytes() < batchBytes:
		return nil
	case a.full == nil:
		a.start()
	}
	a.full <- a.now
	if a.now = <-a.free; a.failed.Load() {
		return a.wait()
	}
	return nil
}

func (a *aside) start() {
	a.full, a.free, a.done = make(chan *batch, batches), make(chan *batch, batches), make(chan struct{})
	for range batches - 1 {
		a.free <- &batch{}
	}
	go func() {
		defer close(a.done)
		for b := range a.full {
			if a.err == nil {
				a.err = a.flush(b)
				a.failed.Store(a.err != nil)
			}
			a.free <- b
		}
	}()
}

// flush writes a batch, and empties it.
func (a *aside) flush(b *batch) error {
	err := a.write(b)
	b.Reset()
	b.by = b.by[:0]
	return err
}

// wait waits for what was handed over, and returns what that came to.
func (a *aside) wait() error {
	if a.full != nil {
		close(a.full)
		<-a.done
		a.full = nil
	}
	return a.err
}

// end writes what is left.
func (a *aside) end() error {
	err := a.wait()
	if err == nil && a.now != nil {
		err = a.flush(a.now)
	}
	return cmp.Or(a.err, err)
}
