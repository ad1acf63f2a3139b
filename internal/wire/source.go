package wire

import "embed"

// Source is this package itself: the comments above its fields describe the API.
//
//go:embed *.go
var Source embed.FS
