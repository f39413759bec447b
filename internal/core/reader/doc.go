// Package reader turns bytes into events. It knows lines, their encodings and what a well-formed line is, and nothing
// of what ids mean.
//
// What comes in: a stream of newline-delimited JSON, plain, gzip or zstd, cut anywhere. What goes out: one Line for
// each line that is not empty, which is an event, a refusal with its reason, or an event of a kind that is not known.
// A bad line is a value and not an end: reading goes on behind it. Memory is bounded whatever the input: a line longer
// than MaxLine is refused and passed over without being held.
//
// The Event of a Line is overwritten by the next call; its strings stay valid.
package reader
