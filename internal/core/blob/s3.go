package blob

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"path"
	"strings"
	"sync/atomic"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"dexamen/internal/core/wait"
)

// S3Options say how to reach an object store that speaks the S3 protocol.
type S3Options struct {
	// Location is s3://BUCKET/PREFIX.
	Location string
	// Endpoint is the server's address, https://HOST:PORT; Amazon's when empty.
	Endpoint string
	Region   string
	// PathStyle puts the bucket into the path rather than into the host's name,
	// as servers without a name for each bucket need it.
	PathStyle bool
	// Access and Secret are the credentials; where they are empty those of the
	// environment, of the usual files or of the machine are taken.
	Access, Secret string
}

// S3 keeps objects in a bucket. That none is ever replaced rests on conditional
// puts (If-None-Match); a server that does not heed them is found out by
// store.Probe.
type S3 struct {
	client         *minio.Client
	bucket, prefix string
	reservations   atomic.Bool // the server heeds no conditions
	locks          atomic.Bool // objects here have been locked, or may have been
}

// Remote implements Remote.
func (s *S3) Remote() bool { return true }

// UseClaims has objects made without conditions: see reserve.go.
func (s *S3) UseReservations() { s.reservations.Store(true) }

// UseLocks implements Locker.
func (s *S3) UseLocks() { s.locks.Store(true) }

// NewS3 returns the backend; nothing is asked of the server yet.
func NewS3(o S3Options) (*S3, error) {
	bad := func(format string, args ...any) error {
		return fmt.Errorf("store location %q: %s", shown(o.Location), fmt.Sprintf(format, args...))
	}
	u, err := url.Parse(o.Location)
	if err != nil || u.Scheme != "s3" || u.Host == "" || u.User != nil || u.RawQuery != "" {
		return nil, bad("an object store is written s3://BUCKET/PREFIX, and its login under login")
	}
	prefix := strings.Trim(u.Path, "/")
	if prefix != "" {
		if err := CheckName(prefix); err != nil {
			return nil, bad("%v", err)
		}
		prefix += "/"
	}
	host, secure := "s3.amazonaws.com", true
	if o.Endpoint != "" {
		e, err := url.Parse(o.Endpoint)
		if err != nil || e.Host == "" || e.Scheme != "http" && e.Scheme != "https" || strings.Trim(e.Path, "/") != "" {
			return nil, bad("endpoint %q: give it as https://HOST:PORT", o.Endpoint)
		}
		host, secure = e.Host, e.Scheme == "https"
	}
	transport, err := minio.DefaultTransport(secure)
	if err != nil {
		return nil, bad("%v", err)
	}
	opt := &minio.Options{Secure: secure, Region: o.Region, MaxRetries: 6, Transport: answers{transport}}
	if o.PathStyle {
		opt.BucketLookup = minio.BucketLookupPath
	}
	if o.Access != "" {
		opt.Creds = credentials.NewStaticV4(o.Access, o.Secret, "")
	} else {
		opt.Creds = credentials.NewChainCredentials([]credentials.Provider{
			&credentials.EnvAWS{}, &credentials.FileAWSCredentials{}, &credentials.IAM{}})
	}
	client, err := minio.New(host, opt)
	if err != nil {
		return nil, bad("%v", err)
	}
	return &S3{client: client, bucket: u.Host, prefix: prefix}, nil
}

// String implements Backend.
func (s *S3) String() string { return "s3://" + path.Join(s.bucket, s.prefix) }

var errRefused = errors.New("refuses the credentials")

// fail reports what a server's answer means.
func (s *S3) fail(what, name string, err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	if errors.Is(err, errEndless) {
		return fmt.Errorf("%s %s: %w: %w", what, name, ErrDamaged, err)
	}
	r := minio.ToErrorResponse(err)
	switch {
	case r.Code == "NoSuchKey" || r.Code == "" && r.StatusCode == http.StatusNotFound:
		err = ErrNotFound
	case r.StatusCode == http.StatusPreconditionFailed || r.Code == "PreconditionFailed":
		err = ErrExists
	case r.StatusCode == http.StatusRequestedRangeNotSatisfiable || r.Code == "InvalidRange":
		err = ErrRange
	case r.Code == "NoSuchBucket":
		err = fmt.Errorf("there is no bucket %s at %s: make it, or mend the location", s.bucket,
			s.client.EndpointURL().Host)
	case r.Code == "AccessDenied" || r.Code == "InvalidAccessKeyId" || r.Code == "SignatureDoesNotMatch":
		err = fmt.Errorf("%s %w (%s): check the store's login and what it may do in bucket %s",
			s.client.EndpointURL().Host, errRefused, r.Code, s.bucket)
	case r.Code == "RequestTimeTooSkewed":
		err = fmt.Errorf("%s says this machine's clock is wrong: set it right", s.client.EndpointURL().Host)
	case r.StatusCode == http.StatusInsufficientStorage || r.Code == "QuotaExceeded" || r.Code == "XMinioStorageFull":
		err = fmt.Errorf("%s has no room left (%s): make room, store reclaim may give some back",
			s.client.EndpointURL().Host, r.Message)
	case r.StatusCode == 0:
		err = fmt.Errorf("%s does not answer: %w", s.client.EndpointURL().Host, err)
	}
	return fmt.Errorf("%s %s: %w", what, name, err)
}

// Create implements Backend.
func (s *S3) Create(ctx context.Context, name string, data []byte) error {
	if err := CheckName(name); err != nil {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if s.reservations.Load() {
		return s.createReserved(ctx, name, data)
	}
	opt := minio.PutObjectOptions{ContentType: "application/octet-stream", DisableMultipart: true, SendContentMd5: true}
	opt.SetMatchETagExcept("*")
	var err error
	for pause := 50 * time.Millisecond; ; pause *= 2 {
		_, err = s.client.PutObject(ctx, s.bucket, s.prefix+name, bytes.NewReader(data), int64(len(data)), opt)
		// Another put of that name is going on at the same time: which of them is first is not
		// decided, and the next try tells.
		if minio.ToErrorResponse(err).StatusCode != http.StatusConflict || pause > 4*time.Second {
			break
		}
		if werr := wait.For(ctx, pause); werr != nil {
			return werr
		}
	}
	err = s.fail("create", name, err)
	if !errors.Is(err, ErrExists) {
		return err
	}
	// A put whose answer was lost is tried again and then finds itself.
	if was, rerr := s.Read(ctx, name); rerr == nil && len(was) > 0 && bytes.Equal(was, data) {
		return nil
	}
	return err
}

// Read implements Backend.
func (s *S3) Read(ctx context.Context, name string) ([]byte, error) {
	data, err := s.get(ctx, name, 0, minio.GetObjectOptions{})
	return data, s.fail("read", name, err)
}

// get reads an object, or a range of it; about is how many bytes are thought to come.
func (s *S3) get(ctx context.Context, name string, about int, opt minio.GetObjectOptions) ([]byte, error) {
	if err := CheckName(name); err != nil {
		return nil, err
	}
	core := minio.Core{Client: s.client} // one request, and no other to learn the size
	o, _, _, err := core.GetObject(ctx, s.bucket, s.prefix+name, opt)
	if err != nil {
		return nil, err
	}
	defer o.Close()
	var b bytes.Buffer
	b.Grow(min(about, 16<<20) + bytes.MinRead) // what comes is copied once
	_, err = b.ReadFrom(o)
	return b.Bytes(), err
}

// ReadAt implements Backend.
func (s *S3) ReadAt(ctx context.Context, name string, off int64, n int) ([]byte, error) {
	if n == 0 {
		_, err := s.client.StatObject(ctx, s.bucket, s.prefix+name, minio.StatObjectOptions{})
		return []byte{}, s.fail("read", name, err)
	}
	var opt minio.GetObjectOptions
	var err error
	if off < 0 {
		err = opt.SetRange(0, off) // the last bytes
	} else {
		err = opt.SetRange(off, off+int64(n)-1)
	}
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", name, err)
	}
	data, err := s.get(ctx, name, n, opt)
	if err != nil {
		return nil, s.fail("read", name, err)
	}
	if off < 0 && int64(len(data)) != -off || len(data) < n {
		return nil, fmt.Errorf("read %s: %w", name, ErrRange)
	}
	return data[:n], nil
}

// List implements Backend.
func (s *S3) List(ctx context.Context, prefix string, fn func(Info) error) error {
	ctx, cancel := context.WithCancel(ctx) // ends the listing's own goroutine
	defer cancel()
	for o := range s.client.ListObjects(ctx, s.bucket,
		minio.ListObjectsOptions{Prefix: s.prefix + prefix, Recursive: true}) {
		if o.Err != nil {
			return s.fail("list", prefix, o.Err)
		}
		if CheckName(strings.TrimPrefix(o.Key, s.prefix)) != nil {
			continue // a claim, or somebody else's
		}
		if err := fn(Info{Name: strings.TrimPrefix(o.Key, s.prefix), Size: o.Size, Made: o.LastModified}); err != nil {
			return err
		}
	}
	return nil
}

// Remove implements Backend.
func (s *S3) Remove(ctx context.Context, name string) error {
	if s.locks.Load() {
		return s.removeVersions(ctx, name)
	}
	if _, err := s.client.StatObject(ctx, s.bucket, s.prefix+name, minio.StatObjectOptions{}); err != nil {
		return s.fail("remove", name, err)
	}
	return s.fail("remove", name, s.client.RemoveObject(ctx, s.bucket, s.prefix+name, minio.RemoveObjectOptions{}))
}
