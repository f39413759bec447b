// Package ledger keeps the picture of the world that a stream's events draw: containers and registrations, the scopes
// that are open, the instances that are alive, and who keeps whom.
//
// What comes in: events in order. What goes out: a World to read, and a Change for each thing that has happened, given
// to one listener while it is true. Only this package changes the world; rules read it. Its methods carry the words of
// docs/findings.md: Home, Outlasts, Alive, Keeps.
//
// What it promises: memory grows with what is alive and not with what has passed. An instance that has ended is
// remembered as long as something alive keeps it, and beyond that among the Remembered most recent ones, so that a use
// after the end is known for what it is. What a rule hangs on an instance (Tag) goes with it.
//
// Line numbers and refusals stay with the reader; what a mistake is stays with the rules.
package ledger
