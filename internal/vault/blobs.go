package vault

import "gocloud.dev/blob"

// Blobs is where packs are kept.
type Blobs struct {
	*blob.Bucket
	// Sync makes what was written so far durable; nil where a closed blob is already.
	Sync func() error
	// Begin begins to write a blob out, so that Sync has less to wait for; may be nil.
	Begin func(key string)
}
