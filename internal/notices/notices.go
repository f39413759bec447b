// Package notices has the licences of what is built into the program and the console that it serves.
package notices

import _ "embed" // for Text

//go:generate go run ./generate -out notices.txt

// Text names each library with its version, and has the text of its licence.
//
//go:embed notices.txt
var Text string
