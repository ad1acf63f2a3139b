package compare

import "embed"

// Source is this package itself: the comments above its fields describe the API.
//
//go:embed compare.go
var Source embed.FS
