// Package rules states what is wrong. Each rule is a small type that watches the world change and reports what it saw,
// by the conditions of docs/findings.md.
//
// What comes in: Changes of the ledger, each given only to the rules that see its kind. What goes out: Occurrences, to
// a Reporter, which answers with the Case that they add up to. Rules read the world and never change it; they never
// see lines or files, and start no goroutines. Identity, counts over streams, first and last, and examples belong to
// package engine.
//
// All lists every rule. A rule has a file of test data of what it must report and one of what it must not, both under
// testdata.
package rules
