// Package ingest brings traces into the store and through the engines: batches of live streams, and whole files.
//
// What comes in: bytes and where they belong. What goes out: an acknowledgement once the bytes are on disk, results of
// what was found, and word of which recordings have changed. One goroutine owns each live stream: it stores a batch,
// acknowledges it, and then analyses it, so that analysis never delays what a sender waits for by more than the batches
// in its queue. A queue that is full is an error that says so; nothing grows without bound.
//
// A stream that was not analysed to its end when the process stopped is read again from the store. Nothing here knows
// HTTP or SQL.
package ingest
