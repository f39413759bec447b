// Package notices contains the licences of the libraries in the program and its console.
package notices

import _ "embed" // for Text

//go:generate go run ./generate -out notices.txt

// Text names each library with its version, and has the text of its licence.
//
//go:embed notices.txt
var Text string
