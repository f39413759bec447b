package store

import (
	"context"
	"errors"
	"time"
)

// The errors that callers distinguish.
var (
	// ErrNotFound is returned when there is no such recording or stream.
	ErrNotFound = errors.New("not found")
	// ErrAmbiguous is returned when a prefix fits several recordings.
	ErrAmbiguous = errors.New("several recordings begin so")
	// ErrSpent is returned when a recording's id was given out before.
	ErrSpent = errors.New("this recording's id was given out before")
	// ErrNotNext is returned when a batch is not the one that follows the latest of its stream.
	ErrNotNext = errors.New("this batch is not the next one of its stream")
	// ErrHeld is returned when a stream is being worked on already.
	ErrHeld = errors.New("another service works on the stream")
	// ErrNotOwner is returned when a stream was begun with another token.
	ErrNotOwner = errors.New("the stream was begun with another token; a stream belongs to the token that began it")
	// ErrInUse is returned when another service works in the folder.
	ErrInUse = errors.New("another service is working in it; stop that one, or name another folder with --data")
	// ErrNewer is returned when the database was written by a newer version of the program.
	ErrNewer = errors.New("the data folder was written by a newer version of keenlantern; start that one, or use another folder")
	// ErrFull is returned when nothing more can be stored.
	ErrFull = errors.New("the disk with the data folder is full; make room on it or delete recordings, what is stored is safe")
	// ErrReadOnly is returned when the folder or its files cannot be written.
	ErrReadOnly = errors.New("the data folder cannot be written; give the service's user the right to, or name another folder with --data")
	// ErrAway is returned when the log that several services share cannot be reached, or stores nothing.
	ErrAway = errors.New("the log cannot be reached at the moment, or stores nothing; what it has acknowledged is safe")
	// ErrTakingOver is returned when a stream's partition is between two services.
	ErrTakingOver = errors.New("its partition is being taken over")
	// ErrDamaged is returned when a part of the database is not what was written.
	ErrDamaged = errors.New("a part of the database is damaged; a service that is started again repairs what it can, and 'keenlantern salvage' writes what can be read into files")
)

// Store is everything that a service keeps of recordings. Each part may be kept elsewhere than the others.
type Store interface {
	Log
	Catalog
	Results
	Leases
}

// Log holds the batches of all streams as they came. They are never changed.
type Log interface {
	// BeginStream stores a new live stream with its first batch, and its recording too where fresh is not nil: all or nothing.
	// It returns the stream's id, which no other one ever had. ErrSpent says that the recording's id is not new.
	BeginStream(ctx context.Context, fresh *Recording, st Stream, b Batch, receivedNS int64) (id int64, err error)
	// AppendBatch stores the next batch of a stream. It is durable when AppendBatch returns. ErrNotNext says that the stream's
	// latest batch is not the one before it, ErrNotFound that there is no such stream.
	AppendBatch(ctx context.Context, stream int64, b Batch, receivedNS int64) error
	// Batch returns one batch. With ErrDamaged it comes without its lines.
	Batch(ctx context.Context, stream, n int64) (Batch, error)
	// BatchesWith returns the numbers of the batches that hold a stream's lines from one to another, both included, in their
	// order and at most limit of them.
	BatchesWith(ctx context.Context, stream, from, to int64, limit int) ([]int64, error)
}

// Catalog is which recordings and streams there are.
type Catalog interface {
	// AddRecording stores a new recording. Its id must never have been another one's: ErrSpent.
	AddRecording(ctx context.Context, r Recording) error
	// AddStream stores a new stream without batches and returns its id, which no other one ever had.
	AddStream(ctx context.Context, recording, name string, live bool) (id int64, err error)
	// Imported notes that a file has come to its end.
	Imported(ctx context.Context, id string) error
	// CutOff returns the recordings of files that had not come to their end when the store was opened.
	CutOff() []Recording

	// Recording returns the one that name means: an id, the beginning of one, or "latest". ErrNotFound, ErrAmbiguous.
	Recording(ctx context.Context, name string) (Recording, error)
	// Recordings returns a page of them, newest first, and how many there are in all.
	Recordings(ctx context.Context, limit, offset int) ([]Recording, int, error)
	// SetHousekeeping replaces what people said of a recording.
	SetHousekeeping(ctx context.Context, r Recording) error
	// SetSummary keeps what a list shows of a recording until it changes. It does nothing where the recording has changed since
	// it had so many changes.
	SetSummary(ctx context.Context, id string, changes int64, summary []byte) error
	// DeleteRecording removes a recording with its streams and all that was kept of them, on a full disk too.
	DeleteRecording(ctx context.Context, id string) error
	// Sizes returns how much each recording takes, the oldest first.
	Sizes(ctx context.Context) ([]Size, error)

	// LiveStream returns the stream that comes in batches under this name, ErrNotFound where there is none.
	LiveStream(ctx context.Context, name string) (Stream, error)
	// StreamByID returns a stream as it is stored now.
	StreamByID(ctx context.Context, id int64) (Stream, error)
	// Streams returns those of a recording, in the order in which they began.
	Streams(ctx context.Context, recording string) ([]Stream, error)
	// StreamCount returns how many streams a recording has.
	StreamCount(ctx context.Context, recording string) (int, error)

	// SeenNS returns the Unix time at which a service last said that it was working here, 0 if none ever did.
	SeenNS(ctx context.Context) (int64, error)
	// Seen says it.
	Seen(ctx context.Context, ns int64) error
}

// Results holds what was derived of streams. All of it can be made again from the log.
type Results interface {
	// SetResult replaces what was derived of a stream, as a whole. What covers fewer batches than what is stored is left.
	SetResult(ctx context.Context, stream int64, d *Derived) error
	// Result returns what was found in a stream; nil while there is nothing. ErrDamaged says that it is not what was stored.
	Result(ctx context.Context, stream int64) ([]byte, error)
	// Digests returns, for each stream of a recording that has one, what lists need of its result.
	Digests(ctx context.Context, recording string) (map[int64][]byte, error)
	// State returns what views answer from, and how many batches it covers; nil where there is nothing.
	State(ctx context.Context, stream int64) ([]byte, int64, error)
	// PutChunks stores parts of a stream's log of scopes, in place of those of the same numbers.
	PutChunks(ctx context.Context, stream int64, chunks []Chunk) error
	// Chunk returns one of them.
	Chunk(ctx context.Context, stream int64, n int) ([]byte, error)
	// DropStaged deletes what an earlier attempt to reanalyse a stream has left.
	DropStaged(ctx context.Context, stream int64) error

	// PutCheckpoint keeps a stream's analysis as it is after its first batches, in place of the one before.
	PutCheckpoint(ctx context.Context, stream, batches int64, program string, body []byte) error
	// Checkpoint returns what this program kept of a stream, and how many batches it covers; nil where there is nothing.
	Checkpoint(ctx context.Context, stream int64, program string) ([]byte, int64, error)
	// DropCheckpoint deletes what was kept of a stream, if anything.
	DropCheckpoint(ctx context.Context, stream int64) error

	// Unfinished returns the streams whose result does not cover all their batches, and those whose analysis broke off with
	// another derivation key than this one. Imports that have not come to their end are left out.
	Unfinished(ctx context.Context, key string) ([]Stream, error)
	// Stale returns a stream that was derived with another key than this one, of the newest recording first, and how many there
	// are; ErrNotFound where there is none. What is being imported, has not been analysed at all, or but holds for, is not counted.
	Stale(ctx context.Context, key string, but func(Stream) bool) (st Stream, n int, err error)
	// Broken returns how many streams have an analysis that broke off.
	Broken(ctx context.Context) (int64, error)
	// Again has a stream analysed again from its first batch: what was derived of it counts as covering nothing.
	Again(ctx context.Context, stream int64) error
}

// Leases are who works on a stream: who holds its lease appends its batches and stores what is derived of it.
type Leases interface {
	// Hold takes the lease of a stream by its name. It returns ErrHeld if another service has it.
	Hold(ctx context.Context, stream string) (Lease, error)
}

// Lease is the right to work on a stream.
type Lease interface {
	// Lost is closed when the lease is lost: its holder stops immediately and stores nothing more.
	Lost() <-chan struct{}
	// Release gives the lease back. It may be called more than once.
	Release()
}

// Recording is the streams of one application over one stretch of time.
type Recording struct {
	ID          string
	App         string
	Version     string
	Environment string
	Source      string // "live" or "file"
	CreatedNS   int64  // Unix time
	Summary     []byte // JSON; an object without an id where it has to be made
	Changes     int64  // how often something was newly found in it
	Name        string // what people call it
	Pinned      bool   // housekeeping leaves it alone
	Labels      []byte // JSON object of texts
	Importing   bool   // it is a file that has not come to its end
}

// Stream is one stream of a recording.
type Stream struct {
	ID         int64
	Recording  string
	Name       string
	Live       bool
	Batches    int64 // accepted, numbered from 1
	Lines      int64
	Analysed   int64 // batches the result covers
	Ended      bool
	ReceivedNS int64  // Unix time
	Owner      string // the id of the token that began it, if any
	BrokenBy   string // the derivation key with which its analysis broke off, "" if it did not
	DerivedBy  string // the derivation key of its result, "" where there is none or it is older than keys are
}

// Batch is one accepted batch: its number, the number of its first line, and its lines as they came.
type Batch struct {
	N         int64
	FirstLine int64
	Lines     int64
	Body      []byte
	Packed    []byte // Body as zstd, if the store has it already
}

// Derived is what was derived of a stream.
type Derived struct {
	Analysed int64 // batches it covers
	Ended    bool
	Broken   bool   // the analysis broke off
	Key      string // with what it was derived
	Result   []byte // what was found, JSON
	Digest   []byte // what lists need of it, JSON
	State    []byte // what views answer from, JSON
	Staged   bool   // the parts of the log of scopes that were staged take the place of the others
}

// Chunk is a part of a stream's log of scopes.
type Chunk struct {
	N    int
	Body []byte
}

// Stage returns the number under which a part of a log of scopes is stored while it is reanalysed.
func Stage(n int) int { return -1 - n }

// Size is how much a recording takes.
type Size struct {
	ID        string
	Bytes     int64 // of its batches, as stored
	CreatedNS int64 // Unix time
	LastNS    int64 // Unix time of its latest batch
	Pinned    bool
}

// Token is what is kept of one: never its secret.
type Token struct {
	ID, Name, Kind, Hash string
	CreatedNS            int64 // Unix time
}

// Session is what is kept of a browser that is signed in.
type Session struct {
	Hash, Token string // the hash of what the browser keeps, and the id of the token
	UntilNS     int64  // Unix time
}

// Contract is what was agreed on for an application, as text.
type Contract struct {
	App  string
	Body []byte
	Put  time.Time
}

// Contracts holds them.
type Contracts interface {
	// SetContract stores the contract of an application, in place of what was.
	SetContract(ctx context.Context, c Contract) error
	// Contract returns it, ErrNotFound where there is none.
	Contract(ctx context.Context, app string) (Contract, error)
	// DropContract deletes it, ErrNotFound where there is none.
	DropContract(ctx context.Context, app string) error
}

// Shared is what a store adds on which several services work at once. Each takes batches of any stream; a stream is worked on by
// the one that holds the partition it belongs to.
type Shared interface {
	Store
	// Work has w work on the partitions that are this service's share, until the store is closed. It returns at once.
	Work(w Worker) error
	// Join returns the recording that a new stream of an application joins: one that others are writing, with less than most streams,
	// or fresh.
	Join(ctx context.Context, fresh Recording, most int) (Recording, error)
	// SureStream is LiveStream as it is for certain: LiveStream may be a moment behind what another service has stored.
	SureStream(ctx context.Context, name string) (Stream, error)
	// Whose returns which service works on a live stream: "" for this one. ErrTakingOver says that none does yet, or that it is still
	// reading.
	Whose(stream string) (service string, err error)
	// Elsewhere is whether another service has a stream of a recording in memory, and whether one is being written there.
	Elsewhere(recording string) (loaded, running bool)
	// Answer has questions of a kind, from other services, answered by f.
	Answer(kind string, f func(ctx context.Context, question []byte) ([]byte, error))
	// Ask asks another service. ErrAway says that it did not answer.
	Ask(ctx context.Context, service, kind string, question []byte) ([]byte, error)
	// AskAll asks all others that run, and returns the answers by their ids; those that did not answer are left out.
	AskAll(ctx context.Context, kind string, question []byte) map[string][]byte
	// Tell notifies all peers that a recording has changed.
	Tell(recording string)
	// First is whether what is done once for all services is this one's to do.
	First() bool
	// Services returns those that run, this one among them, by id, and how it is with their partitions.
	Services() Services
	// Watch has f called when an "order", "token", "session" or "contract" has changed.
	Watch(kind string, f func())
}

// AskDrop is the question, with a recording's id, to release what is in memory of it: it is being deleted.
const AskDrop = "drop"

// Worker works on the streams of partitions.
type Worker interface {
	// Take takes a batch that is in the log. It returns when there is room for the next one. What it has been given before is done
	// already. ErrNotFound says that the stream is gone. Unless it returns an error, it calls free when it needs the body no longer.
	Take(ctx context.Context, stream string, b Batch, free func()) error
	// HandOver stores the state of all streams for which of returns true, and releases them.
	HandOver(ctx context.Context, of func(stream string) bool)
	// Heard says that something of a recording was changed by another service.
	Heard(recording string)
	// Doing returns the recordings of which a stream is in memory, and those of them that are being written.
	Doing() (loaded, running []string)
}

// Services is how it is with all services of a log.
type Services struct {
	Log        string // its name
	Partitions int
	Free       int // free partitions
	Reading    int // partitions whose services are still reading what they found
	List       []Service
}

// Service is one of several.
type Service struct {
	ID         string
	Address    string
	Version    string
	Key        string // the derivation key
	This       bool   // it is the one that was asked
	Partitions []int
	Lag        int64         // batches that are stored and not analysed
	LagFor     time.Duration // since the first of them was stored
	TakenOver  int64         // partitions, since it began
	Started    time.Time
	Streams    int // that it has in memory
}
