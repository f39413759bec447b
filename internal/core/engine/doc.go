// Package engine joins one stream's chain: order, ledger and rules. It is the only package besides reader that knows
// that input comes in pieces.
//
// What comes in: the lines of a reader. What goes out: at any time, a Result of what was found so far and how healthy
// the stream is. The collector in it makes a finding of each rule's occurrences: its id, counts, first and last time,
// five examples and what each was drawn from.
//
// One goroutine owns a Stream; a Result is a copy and may go anywhere. Nothing here is kept on disk or sent.
package engine
