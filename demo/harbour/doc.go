// Package harbour is the Saltmarsh harbour pilot office, a made-up application to record: ships announce their arrival,
// the office reads tide gauges, plans berths against a ledger, assigns pilots and writes to its log.
//
// It is a real HTTP application on a real container, in a sound version and one with mistakes, each made the way people
// make it and switched on by its name (see mistakes.go). Start runs it, Drive sends it requests.
package harbour
