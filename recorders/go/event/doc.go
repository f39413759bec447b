// Package event is the vocabulary of a lantern trace: the kinds of event, the fields each kind has, the types of
// their ids, and how one event is written as a line.
//
// It is a leaf: the recorder writes these events, the reader produces them, and everything between knows no other
// shape. An Event is one flat struct for all kinds, so that a reader can fill the same one again and again without
// allocating; Has holds the fields that its line contained.
//
// The format is docs/trace-format.md; Schema returns the JSON Schema of a line.
package event
