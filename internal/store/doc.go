// Package store says what a service keeps: batches as they came (Log), the recordings and streams there are (Catalog), what was
// derived of them (Results), and who works on which stream (Leases).
//
// What comes in and goes out: the values below. The package knows neither how they are kept nor what a line means.
// Package sqlite keeps all of it in one file; package storetest holds the contract that any implementation fulfils.
package store
