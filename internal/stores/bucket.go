package stores

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/credentials"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/aws/smithy-go"

	"reshard/internal/blobs"
	"reshard/internal/blobs/s3blobs"
	"reshard/internal/core/fault"
	"reshard/internal/line"
	"reshard/internal/records"
	"reshard/internal/vault"
)

// The kinds of stores.
const (
	KindFiles = "files"
	KindS3    = "s3"
)

// patience is how long one blob may take to be written or read.
const patience = 5 * time.Minute

// tries is how often a request to a store is made that fails in a way that may pass.
const tries = 3

// bucket is a store that is open. It is safe for concurrent use.
type bucket struct {
	name string
	blobs.Store
	// adding: it is not on record yet.
	adding bool
}

// The operations that errors tell of, with what an access key may not do then.
const (
	opening   = "open"
	reading   = "read from"
	writingTo = "write to"
	listing   = "list"
	removing  = "delete in"
)

// check says what is wrong with where a store is said to be.
func check(name string, s records.StoreSettings, secret string) error {
	bad := func(format string, args ...any) error {
		return fault.New(fault.Invalid, "add store", name, format, args...)
	}
	switch s.Kind {
	case KindFiles:
		if !filepath.IsAbs(s.Folder) {
			return bad("%q is no absolute path on the service's machine", s.Folder)
		}
	case KindS3:
		u, err := url.Parse(s.Endpoint)
		switch {
		case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.User != nil ||
			strings.Trim(u.Path, "/") != "":
			return bad("%q is no address of a store; it looks like https://s3.example", s.Endpoint)
		case u.Scheme == "http" && !s.Private:
			return fault.New(fault.Invalid, "add store", name, "%s is not encrypted: others on the network could "+
				"read the data", s.Endpoint).
				With("Use an https:// address. For a private network that you trust, add --private.")
		case s.Bucket == "" || s.User == "" || secret == "":
			return bad("a bucket, an access key's id and its secret are needed")
		}
	default:
		return bad("%q is no kind of store; files and s3 are", s.Kind)
	}
	return nil
}

// openFolder opens a store that is a folder. One that is not there is not made: it may be a disk that is not mounted.
func openFolder(name, folder string) (*bucket, error) {
	b, err := blobs.DurableFiles(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.New(fault.Unreachable, "open", "store "+name, "folder %s does not exist", folder).
			With("If its disk is not mounted, mount it: sending resumes automatically.")
	}
	if err != nil {
		return nil, fault.Wrap(fault.Unreachable, "open", "store "+name, err)
	}
	return &bucket{name: name, Store: b}, nil
}

// openS3 opens a store that is a bucket.
func openS3(name string, s records.StoreSettings, secret string) *bucket {
	region := s.Region
	if region == "" {
		region = "us-east-1" // what a store without regions takes
	}
	client := s3.New(s3.Options{
		Region: region, BaseEndpoint: aws.String(s.Endpoint), UsePathStyle: true,
		Credentials: credentials.NewStaticCredentialsProvider(s.User, secret, ""), RetryMaxAttempts: tries,
		RequestChecksumCalculation: aws.RequestChecksumCalculationWhenRequired,
		ResponseChecksumValidation: aws.ResponseChecksumValidationWhenRequired,
		HTTPClient: &http.Client{Transport: answering{&http.Transport{
			DialContext: line.Dialer(s.Private).DialContext, TLSHandshakeTimeout: line.DialPatience,
			MaxIdleConnsPerHost: 4,
			IdleConnTimeout:     time.Minute, ResponseHeaderTimeout: time.Minute, MaxResponseHeaderBytes: mostHeaders,
		}}},
	})
	return &bucket{name: name, Store: s3blobs.Open(client, s.Bucket, s.Prefix)}
}

// answering bounds what a store answers, but for an object's content: who reads that knows how large it is.
type answering struct{ http.RoundTripper }

// RoundTrip implements http.RoundTripper.
func (b answering) RoundTrip(r *http.Request) (*http.Response, error) {
	res, err := b.RoundTripper.RoundTrip(r)
	if err != nil {
		return res, err
	}
	// A listing is asked for with a query; another successful GET is for an object.
	lists := r.URL.Query().Has("list-type")
	if r.Method != http.MethodGet || lists || res.StatusCode >= http.StatusMultipleChoices {
		res.Body = &answeredBody{ReadCloser: res.Body, left: line.LongestListing}
	}
	return res, nil
}

type answeredBody struct {
	io.ReadCloser
	left int
}

// Read implements io.Reader.
func (b *answeredBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p[:min(len(p), b.left+1)])
	if b.left -= n; b.left < 0 {
		return 0, line.Exceeds("an answer of more than %d MB", line.LongestListing>>20)
	}
	return n, err
}

// mayPass are codes of answers that another try may get otherwise.
var mayPass = []string{"SlowDown", "ServiceUnavailable", "InternalError", "RequestTimeout", "ThrottlingException"}

// mostHeaders bounds the headers of an answer, in bytes.
const mostHeaders = 256 << 10

// wrap gives a store's error its class.
func (b *bucket) wrap(op string, err error) error {
	if err == nil {
		return nil
	}
	var coded *fault.Error
	if errors.As(err, &coded) {
		return err
	}
	var said smithy.APIError
	if bad := line.Misbehaves(op, "store "+b.name, err); bad != nil {
		return bad
	}
	says := func(code fault.Code, what string) error {
		next := "Check its settings: reshard stores show " + b.name
		if b.adding {
			next = "The store was not added. Correct the settings, then add it again."
		}
		return fault.New(code, op, "store "+b.name, "%s", what).With(next)
	}
	switch {
	case line.LongHeaders(err):
		return line.Misbehaves(op, "store "+b.name, line.Exceeds("headers of more than %d kB", mostHeaders>>10))
	case errors.Is(err, line.ErrPrivate):
		return fault.New(fault.Refused, op, "store "+b.name, "%s", line.ErrPrivate).
			With("When that is meant, add it with --private.")
	case errors.As(err, &said):
		switch said.ErrorCode() {
		case "NoSuchKey", "NotFound":
		case "SignatureDoesNotMatch", "InvalidAccessKeyId", "InvalidAccessKey":
			return says(fault.Refused, "it does not accept the access key ("+said.ErrorCode()+")")
		case "AccessDenied", "Forbidden":
			return says(fault.Refused, "the access key has no permission to "+op+" it ("+said.ErrorCode()+")")
		case "NoSuchBucket":
			return says(fault.Refused, "there is no such bucket")
		default:
			if said.ErrorFault() != smithy.FaultServer && !slices.Contains(mayPass, said.ErrorCode()) {
				return says(fault.Refused, "it does not accept what was asked ("+said.ErrorCode()+": "+
					said.ErrorMessage()+")")
			}
		}
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		return says(fault.NoSpace, "it is full")
	}
	switch {
	case errors.Is(err, blobs.ErrTooLarge):
		return fault.New(fault.Misbehaving, op, "store "+b.name, "it sends more than expected (%v)", err)
	case errors.Is(err, fs.ErrNotExist):
		return fault.New(fault.NotFound, op, "store "+b.name, "it is not there")
	case errors.Is(err, fs.ErrPermission):
		return says(fault.Refused, "the service's account has no permission to "+op+" it")
	}
	return &fault.Error{
		Code: fault.Unreachable,
		Op:   op,
		Path: "store " + b.name,
		What: "it does not answer as it should",
		Err:  err,
	}
}

// packs hands out the packs that are there.
func (b *bucket) packs(ctx context.Context, see func(id string, size int64, sealed bool) error) error {
	for o, err := range b.List(ctx, "packs/") {
		if err != nil {
			return b.wrap(listing, err)
		}
		id := strings.TrimSuffix(path.Base(o.Key), sealedEnding)
		if !vault.IsPack(id) {
			continue
		}
		if err := see(id, o.Size, strings.HasSuffix(o.Key, sealedEnding)); err != nil {
			return err
		}
	}
	return nil
}

// hasPacks reports whether there are any.
func (b *bucket) hasPacks(ctx context.Context) (some bool, err error) {
	enough := errors.New("enough")
	err = b.packs(ctx, func(string, int64, bool) error { some = true; return enough })
	if some {
		err = nil
	}
	return some, err
}

// sealedEnding ends the name of a pack that is encrypted.
const sealedEnding = ".age"

// keyOf is where a store has a pack.
func keyOf(id string, plain bool) string {
	if plain {
		return vault.PackKey(id)
	}
	return vault.PackKey(id) + sealedEnding
}
