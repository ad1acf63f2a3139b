package game

// Document is a profile with the text that it was read from.
type Document struct {
	Profile *Profile
	Source  []byte
	Origin  string // one of the origins
}

// The origins of a profile.
const (
	OriginShipped  = "shipped"
	OriginFolder   = "folder"
	OriginUploaded = "uploaded"
)
