// Package s3blobs keeps blobs as objects in a bucket of a store that speaks S3's protocol.
package s3blobs

import (
	"bytes"
	"context"
	"crypto/md5" //nolint:gosec // the protocol's checksum of what arrives, nothing secret
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"net/http"
	"strings"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	awshttp "github.com/aws/aws-sdk-go-v2/aws/transport/http"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/aws/aws-sdk-go-v2/service/s3/types"
	"github.com/aws/smithy-go"

	"reshard/internal/blobs"
)

type bucket struct {
	client       *s3.Client
	name, prefix string
}

// Open keeps blobs in a bucket, below a prefix, "" for none. It does not ask whether the bucket is there.
func Open(client *s3.Client, name, prefix string) blobs.Store {
	if prefix = strings.Trim(prefix, "/"); prefix != "" {
		prefix += "/"
	}
	return blobs.Store{Driver: &bucket{client: client, name: name, prefix: prefix}}
}

func (b *bucket) key(key string) *string { return aws.String(b.prefix + key) }

// classed gives an error of the store its class, and keeps what the store said.
func classed(err error) error {
	var said smithy.APIError
	if errors.As(err, &said) {
		switch said.ErrorCode() {
		case "NoSuchKey", "NotFound":
			return errors.Join(fs.ErrNotExist, err)
		case "AccessDenied", "Forbidden":
			return errors.Join(fs.ErrPermission, err)
		}
	}
	var answer *awshttp.ResponseError
	if errors.As(err, &answer) && answer.HTTPStatusCode() == http.StatusNotFound && said == nil {
		return errors.Join(fs.ErrNotExist, err)
	}
	return err
}

// Open implements blobs.Driver.
func (b *bucket) Open(ctx context.Context, key string, from, n int64) (io.ReadCloser, error) {
	in := &s3.GetObjectInput{Bucket: &b.name, Key: b.key(key)}
	switch {
	case n == 0:
		return io.NopCloser(strings.NewReader("")), nil
	case n > 0:
		in.Range = aws.String(fmt.Sprintf("bytes=%d-%d", from, from+n-1))
	case from > 0:
		in.Range = aws.String(fmt.Sprintf("bytes=%d-", from))
	}
	out, err := b.client.GetObject(ctx, in)
	if err != nil {
		return nil, classed(err)
	}
	return out.Body, nil
}

// partSize is how much of a blob is held in memory and sent with one request; a blob of more is sent in parts. The
// protocol takes parts of 5 MiB or more, 10,000 of one object.
const partSize = 8 << 20

// patience is how long one request may take.
const patience = 5 * time.Minute

// Create implements blobs.Driver. The object is there, whole, once it is closed.
func (b *bucket) Create(ctx context.Context, key string) (blobs.Writer, error) {
	return &writer{b: b, ctx: ctx, key: b.key(key)}, nil
}

// writer sends a blob: in one request, or where it does not fit into one part in several.
type writer struct {
	b     *bucket
	ctx   context.Context
	key   *string
	buf   []byte
	parts []types.CompletedPart
	// upload is the one that its parts belong to, nil before the first.
	upload *string
	done   bool
}

// Write implements io.Writer.
func (w *writer) Write(p []byte) (n int, err error) {
	for len(p) > 0 {
		if len(w.buf) == partSize {
			if err := w.part(); err != nil {
				return n, err
			}
		}
		m := min(len(p), partSize-len(w.buf))
		w.buf = append(w.buf, p[:m]...)
		p, n = p[m:], n+m
	}
	return n, nil
}

// asked makes one request, with a bound on how long it takes.
func asked[In, Out any](ctx context.Context, in In,
	ask func(context.Context, In, ...func(*s3.Options)) (Out, error)) (Out, error) {
	ctx, done := context.WithTimeout(ctx, patience)
	defer done()
	out, err := ask(ctx, in)
	return out, classed(err)
}

// sum is the checksum that a request is verified by; the client sends it again with the same bytes.
func (w *writer) sum() *string {
	sum := md5.Sum(w.buf) //nolint:gosec // as above
	return aws.String(base64.StdEncoding.EncodeToString(sum[:]))
}

// part sends what is held as one part.
func (w *writer) part() error {
	if w.upload == nil {
		out, err := asked(w.ctx, &s3.CreateMultipartUploadInput{
			Bucket: &w.b.name, Key: w.key, ContentType: aws.String("application/octet-stream"),
		}, w.b.client.CreateMultipartUpload)
		if err != nil {
			return err
		}
		w.upload = out.UploadId
	}
	number := aws.Int32(int32(len(w.parts) + 1)) //nolint:gosec // the protocol allows 10,000
	out, err := asked(w.ctx, &s3.UploadPartInput{
		Bucket: &w.b.name, Key: w.key, UploadId: w.upload, PartNumber: number, Body: bytes.NewReader(w.buf),
		ContentLength: aws.Int64(int64(len(w.buf))), ContentMD5: w.sum(),
	}, w.b.client.UploadPart)
	if err != nil {
		return err
	}
	w.parts = append(w.parts, types.CompletedPart{PartNumber: number, ETag: out.ETag})
	w.buf = w.buf[:0]
	return nil
}

// Close implements blobs.Writer.
func (w *writer) Close() error {
	if w.done {
		return fs.ErrClosed
	}
	if w.upload == nil {
		w.done = true
		_, err := asked(w.ctx, &s3.PutObjectInput{
			Bucket: &w.b.name, Key: w.key, Body: bytes.NewReader(w.buf), ContentLength: aws.Int64(int64(len(w.buf))),
			ContentType: aws.String("application/octet-stream"), ContentMD5: w.sum(),
		}, w.b.client.PutObject)
		return err
	}
	err := w.part()
	if err == nil {
		_, err = asked(w.ctx, &s3.CompleteMultipartUploadInput{
			Bucket: &w.b.name, Key: w.key, UploadId: w.upload,
			MultipartUpload: &types.CompletedMultipartUpload{Parts: w.parts},
		}, w.b.client.CompleteMultipartUpload)
	}
	if err != nil {
		w.Abort()
	}
	w.done = true
	return err
}

// Abort implements blobs.Writer. Parts that were sent are given up; where that fails, the store keeps them until its
// own rule for unfinished uploads removes them.
func (w *writer) Abort() {
	if w.done {
		return
	}
	w.done = true
	if w.upload != nil {
		ctx, done := context.WithTimeout(context.WithoutCancel(w.ctx), 5*time.Second)
		defer done()
		_, _ = w.b.client.AbortMultipartUpload(ctx, &s3.AbortMultipartUploadInput{ // nothing rests on it
			Bucket: &w.b.name, Key: w.key, UploadId: w.upload,
		})
	}
}

// Stat implements blobs.Driver.
func (b *bucket) Stat(ctx context.Context, key string) (blobs.Info, error) {
	out, err := b.client.HeadObject(ctx, &s3.HeadObjectInput{Bucket: &b.name, Key: b.key(key)})
	if err != nil {
		return blobs.Info{}, classed(err)
	}
	return blobs.Info{
		Key: key, Size: aws.ToInt64(out.ContentLength), Modified: aws.ToTime(out.LastModified),
	}, nil
}

// mostPages bounds a listing; a page has up to 1000 objects.
const mostPages = 2000

// List implements blobs.Driver.
func (b *bucket) List(ctx context.Context, prefix string) iter.Seq2[blobs.Info, error] {
	return func(yield func(blobs.Info, error) bool) {
		pages := s3.NewListObjectsV2Paginator(b.client, &s3.ListObjectsV2Input{Bucket: &b.name, Prefix: b.key(prefix)})
		for n := 0; pages.HasMorePages(); n++ {
			if n == mostPages {
				yield(blobs.Info{}, fmt.Errorf("a listing of more than %d pages: %w", mostPages, blobs.ErrTooLarge))
				return
			}
			page, err := pages.NextPage(ctx)
			if err != nil {
				yield(blobs.Info{}, classed(err))
				return
			}
			for _, o := range page.Contents {
				i := blobs.Info{
					Key:  strings.TrimPrefix(aws.ToString(o.Key), b.prefix),
					Size: aws.ToInt64(o.Size), Modified: aws.ToTime(o.LastModified),
				}
				if !yield(i, nil) {
					return
				}
			}
		}
	}
}

// Delete implements blobs.Driver. The protocol does not tell whether there was an object.
func (b *bucket) Delete(ctx context.Context, key string) error {
	_, err := b.client.DeleteObject(ctx, &s3.DeleteObjectInput{Bucket: &b.name, Key: b.key(key)})
	return classed(err)
}
