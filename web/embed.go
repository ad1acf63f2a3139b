// Package web embeds the built console. Without a build (make build) only a note
// to that effect is served.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Console gives the built console's files.
func Console() fs.FS {
	sub, err := fs.Sub(dist, "dist/console")
	if err != nil {
		panic(err) // the path is valid
	}
	return sub
}
