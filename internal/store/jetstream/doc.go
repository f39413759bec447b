// Package jetstream keeps what several services keep together: in a NATS server with JetStream, or a cluster of them. It is a
// store like the one in SQLite, and adds who works on what (store.Shared).
//
// What is where, for an installation called keenlantern:
//
//	stream  keenlantern-batches   all batches as they came, a subject each: keenlantern.batch.PARTITION.STREAM.NUMBER
//	stream  keenlantern-derived   what was derived of streams, in parts: keenlantern.derived.STREAM.PIECE.PART
//	bucket  keenlantern-catalog   recordings, streams, what is derived of which, orders, tokens, contracts; each service follows all of it
//	bucket  keenlantern-leases    who works on a partition; what is not renewed vanishes
//	bucket  keenlantern-services  the services that run, and how far they are; the same
//	bucket  keenlantern-open      recordings that new streams of an application join; the same
//
// Nobody's clock decides anything but the servers' own: leases run out there, and their holders count from before they asked.
package jetstream
