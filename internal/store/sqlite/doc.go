// Package sqlite keeps what the service acknowledged, in one SQLite database in a data folder.
//
// What comes in: accepted batches, whole, and what was derived from them. What goes out: the same. Batches are kept as
// they came, compressed, and never changed; everything else can be made again from them. A batch is one transaction
// with its stream's counters, and is on disk when AppendBatch returns.
//
// There is one write connection and a pool of readers.
package sqlite
