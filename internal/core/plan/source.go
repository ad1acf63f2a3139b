package plan

import "embed"

// Text is this package itself: the comments above its fields describe the API.
//
//go:embed kinds.go plan.go progress.go state.go
var Text embed.FS
