// Package web holds the built console.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Console is the built console: index.html and assets/. It is empty in a binary that was
// built without it.
func Console() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // "dist" is a valid path
	}
	return sub
}
