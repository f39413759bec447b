// Package order puts right what several threads wrote slightly out of order: a line that is about an id that no line has
// defined yet is held until the id arrives, for Window lines, and is then given up.
//
// Before that, lines are held back for a moment where a registration has no line yet (gate).
//
// What comes in: the events of one stream. What goes out: the same events, each once, an event that was held right
// behind the line that defines what it was waiting for. Which ids a kind defines and which it is about stands in
// package event; lifetimes, or what has ended since, are none of this package's business.
package order
