// Package report writes what was found for people and for other programs: as text for a terminal, as JSON.
//
// What comes in: the core's results. What goes out: bytes to a writer. Names from a trace are never trusted: what could
// steer a terminal is made visible first. Equal results give equal bytes.
package report
