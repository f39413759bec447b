// Package console carries the built console. Its sources are beside this file; `make build` builds them into dist,
// where a placeholder lets everything else be built and tested without Node.
package console

import (
	"embed"
	"io/fs"
)

//go:embed dist
var dist embed.FS

// Files returns the console's files, index.html at the root; only placeholder.html where it has not been built.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // "dist" is a valid path
	}
	return files
}
