package stores

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"net"
	"net/http"
	"net/url"
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
}

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
			return bad("%s is not encrypted: everybody on the way could read what it is signed in with", s.Endpoint)
		case s.Bucket == "" || s.User == "" || secret == "":
			return bad("a bucket, an access key's id and its secret are needed")
		}
	default:
		return bad("%q is no kind of store; files and s3 are", s.Kind)
	}
	return nil
}

// openBucket opens a store.
func openBucket(name string, s records.StoreSettings, secret string) (*bucket, error) {
	if s.Kind == KindFiles {
		b, err := vault.Files(s.Folder)
		if err != nil {
			return nil, fault.Wrap(fault.Unreachable, "open store", name, err)
		}
		return &bucket{name, b}, nil
	}
	dialer := &net.Dialer{Timeout: line.DialPatience, Control: func(_, address string, _ syscall.RawConn) error {
		return line.MayReach(address, s.Private)
	}}
	region := s.Region
	if region == "" {
		region = "us-east-1" // what a store without regions takes
	}
	client := s3.New(s3.Options{
		Region: region, BaseEndpoint: aws.String(s.Endpoint), UsePathStyle: true,
		Credentials: credentials.NewStaticCredentialsProvider(s.User, secret, ""), RetryMaxAttempts: tries,
		RequestChecksumCalculation: aws.RequestChecksumCalculationWhenRequired,
		ResponseChecksumValidation: aws.ResponseChecksumValidationWhenRequired,
		HTTPClient: &http.Client{Transport: &http.Transport{
			DialContext: dialer.DialContext, TLSHandshakeTimeout: line.DialPatience, MaxIdleConnsPerHost: 4,
			IdleConnTimeout: time.Minute, ResponseHeaderTimeout: time.Minute, MaxResponseHeaderBytes: 256 << 10,
		}},
	})
	return &bucket{name, s3blobs.Open(client, s.Bucket, s.Prefix)}, nil
}

// mayPass are codes of answers that another try may get otherwise.
var mayPass = []string{"SlowDown", "ServiceUnavailable", "InternalError", "RequestTimeout", "ThrottlingException"}

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
	says := func(code fault.Code, what string) error {
		return fault.New(code, op, "store "+b.name, "%s", what).
			With("Look at what it was added with: reshard stores show " + b.name)
	}
	switch {
	case errors.Is(err, line.ErrPrivate):
		return fault.New(fault.Refused, op, "store "+b.name, "%s", line.ErrPrivate).
			With("When that is meant, add it with --private.")
	case errors.As(err, &said):
		switch said.ErrorCode() {
		case "NoSuchKey", "NotFound":
		case "SignatureDoesNotMatch", "InvalidAccessKeyId", "InvalidAccessKey", "AccessDenied", "Forbidden":
			return says(fault.Refused, "it does not accept the access key ("+said.ErrorCode()+")")
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
		return fault.New(fault.Damaged, op, "store "+b.name, "%v", err)
	case errors.Is(err, fs.ErrNotExist):
		return fault.New(fault.NotFound, op, "store "+b.name, "it is not there")
	case errors.Is(err, fs.ErrPermission):
		return says(fault.Refused, "it does not allow that")
	}
	return &fault.Error{
		Code: fault.Unreachable,
		Op:   op,
		Path: "store " + b.name,
		What: "it does not answer as it should",
		Err:  err,
	}
}

// mark is what every store has, beside its packs: whose it is.
type mark struct {
	Reshard string    `json:"reshard"`
	Vault   string    `json:"vault"`
	Plain   bool      `json:"plain"`
	Made    time.Time `json:"made"`
}

const (
	markFormat = "store/1"
	markKey    = "reshard-store.json"
)

// marked reads whose a store is; nil: nobody's yet.
func (b *bucket) marked(ctx context.Context) (*mark, error) {
	ctx, done := context.WithTimeout(ctx, patience)
	defer done()
	data, err := b.ReadAll(ctx, markKey, 64<<10)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, b.wrap("read", err)
	}
	var m mark
	if json.Unmarshal(data, &m) != nil || m.Reshard != markFormat {
		return nil, fault.New(fault.Exists, "read", "store "+b.name, "its %s is none of Reshard's", markKey)
	}
	return &m, nil
}

func (b *bucket) setMark(ctx context.Context, m mark) error {
	data, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return fault.Wrap(fault.Internal, "mark", "store "+b.name, err)
	}
	return b.put(ctx, markKey, data)
}

// put writes a blob, which the store verifies by its MD5.
func (b *bucket) put(ctx context.Context, key string, data []byte) error {
	ctx, done := context.WithTimeout(ctx, patience)
	defer done()
	err := b.WriteAll(ctx, key, data)
	if err == nil && b.Sync != nil {
		err = b.Sync()
	}
	return b.wrap("write to", err)
}

// get reads a blob whole.
func (b *bucket) get(ctx context.Context, key string) ([]byte, error) {
	ctx, done := context.WithTimeout(ctx, patience)
	defer done()
	data, err := b.ReadAll(ctx, key, vault.LargestPack)
	return data, b.wrap("read from", err)
}
