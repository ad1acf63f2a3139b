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

	"github.com/aws/aws-sdk-go-v2/aws"
	awshttp "github.com/aws/aws-sdk-go-v2/aws/transport/http"
	"github.com/aws/aws-sdk-go-v2/service/s3"
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

// Create implements blobs.Driver. The object is sent when it is closed.
func (b *bucket) Create(ctx context.Context, key string) (blobs.Writer, error) {
	return &writer{b: b, ctx: ctx, key: key}, nil
}

type writer struct {
	bytes.Buffer
	b    *bucket
	ctx  context.Context
	key  string
	done bool
}

// Close implements blobs.Writer.
func (w *writer) Close() error {
	if w.done {
		return fs.ErrClosed
	}
	w.done = true
	return w.b.Put(w.ctx, w.key, w.Bytes())
}

// Abort implements blobs.Writer.
func (w *writer) Abort() { w.done = true }

// Put implements blobs.Putter. It sends one request with its checksum; the client retries it with the same bytes.
func (b *bucket) Put(ctx context.Context, key string, data []byte) error {
	sum := md5.Sum(data) //nolint:gosec // as above
	_, err := b.client.PutObject(ctx, &s3.PutObjectInput{
		Bucket: &b.name, Key: b.key(key), Body: bytes.NewReader(data),
		ContentLength: aws.Int64(int64(len(data))), ContentType: aws.String("application/octet-stream"),
		ContentMD5: aws.String(base64.StdEncoding.EncodeToString(sum[:])),
	})
	return classed(err)
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

// List implements blobs.Driver.
func (b *bucket) List(ctx context.Context, prefix string) iter.Seq2[blobs.Info, error] {
	return func(yield func(blobs.Info, error) bool) {
		pages := s3.NewListObjectsV2Paginator(b.client, &s3.ListObjectsV2Input{Bucket: &b.name, Prefix: b.key(prefix)})
		for pages.HasMorePages() {
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
