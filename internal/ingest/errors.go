package ingest

import (
	"errors"
	"fmt"
)

// The errors that callers distinguish.
var (
	// ErrBusy is returned when a stream's queue is full: try again a little later.
	ErrBusy = errors.New("busy: the batches before this one are still being stored")
	// ErrClosed is returned when the hub is shutting down.
	ErrClosed = errors.New("the service is shutting down")
	// ErrDeleted is returned when the recording was deleted while it was being imported.
	ErrDeleted = errors.New("the recording was deleted while its file was being imported; send the file again if it is wanted")
)

// Conflict records that a batch's number was taken with other lines.
type Conflict struct {
	Stream string
	Batch  int64
}

// Error returns which one.
func (e *Conflict) Error() string {
	return fmt.Sprintf("batch %d of stream %q was taken before with other lines; a stream has one sender, which numbers its batches from 1", e.Batch, e.Stream)
}

// OutOfTurn records that a batch skips one.
type OutOfTurn struct {
	Stream   string
	Expected int64
	Got      int64
}

// Error returns which batch was expected.
func (e *OutOfTurn) Error() string {
	return fmt.Sprintf("batch %d of stream %q was expected, and %d came; send the missing ones first", e.Expected, e.Stream, e.Got)
}

// Unusable records that what was sent cannot be taken as it is.
type Unusable struct{ Why string }

// Error returns why.
func (e *Unusable) Error() string { return e.Why }
