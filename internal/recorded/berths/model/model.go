// Package model has a type that has a namesake in another package.
package model

// Chart is a plan of the berths.
type Chart struct{ Berths int }
