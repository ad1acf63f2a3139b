package wire

// Chunk is a piece of a file in the vault.
type Chunk struct {
	// the BLAKE3-256 of its bytes
	Hash string `json:"hash"`
	// bytes
	Size int64 `json:"size"`
}

// VaultChecked is what reading everything back has found.
type VaultChecked struct {
	Packs   int `json:"packs"`
	Entries int `json:"entries"`
	// read, as they are stored
	Bytes int64 `json:"bytes"`
	// what does not read as it was stored
	Damaged []VaultDamage `json:"damaged"`
	// what was damaged, and is whole again as a store had it
	Mended []VaultMended `json:"mended"`
	// copies that need something damaged or missing
	Touched []VaultTouched `json:"touched"`
}

// VaultMended is a pack that was damaged, and is whole again.
type VaultMended struct {
	Pack  string `json:"pack"`
	Store string `json:"store"`
	Why   string `json:"why"`
}

// VaultDamage is an entry, or a whole pack, that does not read as it was stored.
type VaultDamage struct {
	Pack string `json:"pack"`
	// of the chunk or copy; absent: the whole pack
	Name string `json:"name,omitempty"`
	Why  string `json:"why"`
}

// VaultTouched is a copy that damage touches.
type VaultTouched struct {
	Copy string `json:"copy"`
	// the first few; none: its list of files does not read
	Files []string `json:"files"`
	Count int      `json:"count"`
}

// VaultCollected is what a collection has freed.
type VaultCollected struct {
	Entries int `json:"entries"`
	// packs that held nothing that is needed
	Removed int `json:"removed"`
	// packs of which the needed part was written anew
	Rewritten int `json:"rewritten"`
	// small packs that were written into a larger one
	Joined int `json:"joined"`
	// freed in the packs
	Bytes int64 `json:"bytes"`
	// packs unknown to the index: rebuild takes them in
	Strays int `json:"strays"`
}

// VaultRebuilt is what an index was made of.
type VaultRebuilt struct {
	Packs   int `json:"packs"`
	Entries int `json:"entries"`
	// the copies whose lists of files are there
	Copies []string `json:"copies"`
	// packs that do not say what they hold
	Damaged []VaultDamage `json:"damaged"`
}
