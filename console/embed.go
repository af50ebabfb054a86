// Package console holds the built console, to be served from the server's own
// binary. Without a build it is empty.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files is the built console.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the name is fixed above
	}
	return files
}
