// Package model has a type that has a namesake in another package.
package model

// Chart is a sea chart.
type Chart struct{ Name string }
