// Package cli is the keenlantern command: a file a command, each with its own flags and a help text that ends in an
// example. Results go to out, everything else to err; what is printed for programs is the API's JSON.
package cli
