package ingest

import (
	"errors"
	"fmt"
)

// What callers tell apart.
var (
	// ErrBusy says that a stream's queue is full: try again a little later.
	ErrBusy = errors.New("busy: the batches before this one are still being stored")
	// ErrClosed says that the hub is shutting down.
	ErrClosed = errors.New("the service is shutting down")
)

// OutOfTurn says that a batch skips one.
type OutOfTurn struct {
	Stream   string
	Expected int64
	Got      int64
}

// Error says which batch was expected.
func (e *OutOfTurn) Error() string {
	return fmt.Sprintf("batch %d of stream %q was expected, and %d came; send the missing ones first", e.Expected, e.Stream, e.Got)
}

// Unusable says that what was sent cannot be taken as it is.
type Unusable struct{ Why string }

// Error says why.
func (e *Unusable) Error() string { return e.Why }
