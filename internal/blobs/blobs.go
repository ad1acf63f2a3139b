// Package blobs keeps blobs, the packs of the vault above all, as files below a folder or as objects in a bucket
// (package s3blobs).
//
//	b, err := blobs.Files("/var/lib/reshard/vault")
//	err = b.WriteAll(ctx, "packs/00ff", data)
//	data, err = b.ReadAll(ctx, "packs/00ff", 1<<20)
package blobs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"time"
)

// Info says what is known of a blob without reading it.
type Info struct {
	Key      string
	Size     int64 // in bytes
	Modified time.Time
}

// Driver keeps blobs in one kind of place. Its methods may be called at the same time.
//
// A blob that does not exist is an error for which errors.Is(err, fs.ErrNotExist) holds; one that the place does not
// allow, fs.ErrPermission. Callers guarantee that keys are relative, slash-separated and without "..".
type Driver interface {
	// Open reads n bytes of a blob from one on, or up to its end when n is negative. A blob that ends before gives
	// less.
	Open(ctx context.Context, key string, from, n int64) (io.ReadCloser, error)
	// Create writes a blob. Nobody sees it before Close, which replaces what has the key.
	Create(ctx context.Context, key string) (Writer, error)
	// Stat says what is known of a blob.
	Stat(ctx context.Context, key string) (Info, error)
	// List gives the blobs whose keys start with a prefix, in any order. An error ends it. Blobs that are made or
	// deleted meanwhile may be missing.
	List(ctx context.Context, prefix string) iter.Seq2[Info, error]
	// Delete deletes a blob.
	Delete(ctx context.Context, key string) error
}

// Writer writes one blob.
type Writer interface {
	io.Writer
	// Close makes the blob visible. Of one whose Close fails nothing stays.
	Close() error
	// Abort gives the blob up. It may be called after Close, and does nothing then.
	Abort()
}

// Store is where blobs are kept. It is safe for concurrent use.
type Store struct {
	Driver
	// Sync makes what was written so far durable; nil where a closed blob is already.
	Sync func() error
	// Begin starts to write a blob out, so that Sync has less to wait for; may be nil.
	Begin func(key string)
}

// Close lets go of what is held open.
func (s Store) Close() error {
	if c, ok := s.Driver.(io.Closer); ok {
		return c.Close()
	}
	return nil
}

// ErrTooLarge is the error for a blob that is larger than its reader can take.
var ErrTooLarge = errors.New("it is larger than expected")

// ReadAll reads a blob whole. One of more than most bytes is ErrTooLarge, whatever size the place says it has.
func (s Store) ReadAll(ctx context.Context, key string, most int64) ([]byte, error) {
	r, err := s.Open(ctx, key, 0, -1)
	if err != nil {
		return nil, err
	}
	defer r.Close() //nolint:errcheck // only read
	data, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(data)) > most {
		err = fmt.Errorf("%s: %w", key, ErrTooLarge)
	}
	if err != nil {
		return nil, err
	}
	return data, nil
}

// WriteAll writes a blob whole.
func (s Store) WriteAll(ctx context.Context, key string, data []byte) error {
	w, err := s.Create(ctx, key)
	if err != nil {
		return err
	}
	defer w.Abort()
	if _, err := w.Write(data); err != nil {
		return err
	}
	return w.Close()
}
