// Package recorders carries the recorders that applications import, packed for their runtimes' package managers, so that a
// service hands out those of its own version. Their sources are in the folders beside this file; `make build` packs them into
// dist, where a placeholder lets everything else be built and tested without.
package recorders

import (
	"embed"
	"io/fs"
)

//go:embed dist
var dist embed.FS

// Files returns the packed recorders: in go, what a Go module proxy serves, by address. There is none where they have not been
// packed.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // "dist" is a valid path
	}
	return files
}
