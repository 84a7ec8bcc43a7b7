// Package console holds the console's built pages, made by npm run build.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files returns the built pages; index.html is missing where they were not built.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is part of the program
	}
	return files
}
