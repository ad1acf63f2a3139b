package keep

import "embed"

// Text is this package itself: the comments above its fields describe the API.
//
//go:embed keep.go rule.go record.go when.go preview.go
var Text embed.FS
