// Package providers holds the provider descriptions that ship: an example, of a made-up provider.
package providers

import (
	"embed"
	"io/fs"
)

//go:embed *.yaml
var files embed.FS

// Example is the description of the made-up provider that the demo runs.
func Example() []byte {
	data, err := fs.ReadFile(files, "tollen-plots.yaml")
	if err != nil {
		panic(err) // it is embedded
	}
	return data
}
