package blob

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
)

// Versioned is a backend that keeps what was deleted or overwritten, as buckets
// with object lock do: there a deletion hides, and somebody with the
// credentials can put other bytes on top, but what was locked stays below.
type Versioned interface {
	// Hidden calls fn with objects that were deleted and are kept below: when what
	// is kept was made, and until when it is locked, as far as the server tells
	// that of versions.
	Hidden(ctx context.Context, prefix string, fn func(name string, made, until time.Time) error) error
	// Unhide takes a deletion back.
	Unhide(ctx context.Context, name string) error
	// Older returns the versions of an object below the newest one, newest
	// first, until fn answers true.
	Older(ctx context.Context, name string, fn func(data []byte) bool) error
	// PutOver makes an object's newest version, whatever is there, locked until a
	// time.
	PutOver(ctx context.Context, name string, data []byte, until time.Time) error
}

// Hidden implements Versioned.
func (s *S3) Hidden(ctx context.Context, prefix string, fn func(name string, made, until time.Time) error) error {
	// Servers list markers among the versions or after them.
	hidden, newest := map[string]bool{}, map[string]minio.ObjectInfo{}
	err := s.versions(ctx, prefix, func(o minio.ObjectInfo) error {
		name := strings.TrimPrefix(o.Key, s.prefix)
		switch {
		case CheckName(name) != nil:
		case o.IsDeleteMarker:
			hidden[name] = hidden[name] || o.IsLatest
		case newest[name].Key == "":
			newest[name] = o
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(hidden)) {
		if !hidden[name] || newest[name].Key == "" {
			continue
		}
		until, err := s.lockedUntil(ctx, name, newest[name].VersionID)
		if err == nil {
			err = fn(name, newest[name].LastModified, until)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Unhide implements Versioned.
func (s *S3) Unhide(ctx context.Context, name string) error {
	return s.versions(ctx, name, func(o minio.ObjectInfo) error {
		if o.Key != s.prefix+name || !o.IsLatest || !o.IsDeleteMarker {
			return nil
		}
		return s.fail("take back the deletion of", name,
			s.client.RemoveObject(ctx, s.bucket, o.Key, minio.RemoveObjectOptions{VersionID: o.VersionID}))
	})
}

// Older implements Versioned.
func (s *S3) Older(ctx context.Context, name string, fn func(data []byte) bool) error {
	enough := errors.New("enough")
	err := s.versions(ctx, name, func(o minio.ObjectInfo) error {
		if o.Key != s.prefix+name || o.IsLatest || o.IsDeleteMarker {
			return nil
		}
		core := minio.Core{Client: s.client}
		r, _, _, err := core.GetObject(ctx, s.bucket, o.Key, minio.GetObjectOptions{VersionID: o.VersionID})
		if err != nil {
			return s.fail("read an older version of", name, err)
		}
		defer r.Close()
		data, err := io.ReadAll(r)
		if err == nil && fn(data) {
			err = enough
		}
		return err
	})
	if errors.Is(err, enough) {
		return nil
	}
	return err
}

func (s *S3) versions(ctx context.Context, prefix string, fn func(minio.ObjectInfo) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	for o := range s.client.ListObjects(ctx, s.bucket,
		minio.ListObjectsOptions{Prefix: s.prefix + prefix, Recursive: true, WithVersions: true}) {
		if o.Err != nil {
			return s.fail("list versions below", prefix, o.Err)
		}
		if err := fn(o); err != nil {
			return err
		}
	}
	return nil
}

// PutOver implements Versioned.
func (s *S3) PutOver(ctx context.Context, name string, data []byte, until time.Time) error {
	_, err := s.client.PutObject(ctx, s.bucket, s.prefix+name, bytes.NewReader(data), int64(len(data)),
		minio.PutObjectOptions{ContentType: "application/octet-stream", DisableMultipart: true, SendContentMd5: true,
			Mode: minio.Compliance, RetainUntilDate: until.UTC()})
	return s.fail("put over", name, err)
}

// removeVersions removes an object that no lock keeps, with all that the bucket keeps of it: a
// plain removal would hide it, and its bytes would stay for good. Where something below it is
// locked, as after somebody has put other bytes over an object, or the login may remove no
// versions, it is hidden.
func (s *S3) removeVersions(ctx context.Context, name string) error {
	until, err := s.lockedUntil(ctx, name, "")
	if err != nil {
		return err
	}
	if time.Now().Before(until) {
		return fmt.Errorf("remove %s: %w until %s", name, ErrLocked, until.Format(time.RFC3339))
	}
	var ids []string
	err = s.versions(ctx, name, func(o minio.ObjectInfo) error {
		if o.Key != s.prefix+name {
			return nil
		}
		if !o.IsDeleteMarker && !o.IsLatest {
			until, err := s.lockedUntil(ctx, name, o.VersionID)
			if err == nil && time.Now().Before(until) {
				err = errLockedBelow
			}
			if err != nil {
				return err
			}
		}
		ids = append(ids, o.VersionID)
		return nil
	})
	slices.Reverse(ids) // the newest goes last: until then nothing older comes to light
	for _, id := range ids {
		if err == nil {
			err = s.fail("remove", name,
				s.client.RemoveObject(ctx, s.bucket, s.prefix+name, minio.RemoveObjectOptions{VersionID: id}))
		}
	}
	if errors.Is(err, errLockedBelow) || errors.Is(err, errRefused) {
		err = s.fail("remove", name, s.client.RemoveObject(ctx, s.bucket, s.prefix+name, minio.RemoveObjectOptions{}))
	}
	return err
}

var errLockedBelow = errors.New("locked")

// Lock implements Locker with the server's object lock, in the mode that nobody
// can lift. The bucket must have been made for it.
func (s *S3) Lock(ctx context.Context, name string, until time.Time) error {
	mode := minio.Compliance
	until = until.UTC()
	err := s.client.PutObjectRetention(ctx, s.bucket, s.prefix+name,
		minio.PutObjectRetentionOptions{Mode: &mode, RetainUntilDate: &until})
	if r := minio.ToErrorResponse(err); err != nil &&
		(strings.Contains(r.Code, "ObjectLock") || r.Code == "InvalidRequest") {
		return fmt.Errorf(
			"lock %s: bucket %s was not made for object lock (%s): make one that is, or leave immutable_for out", name,
			s.bucket, r.Message)
	}
	s.locks.Store(true)
	return s.fail("lock", name, err)
}

// lockedUntil returns when an object's lock ends; the zero time where it has none.
// Servers tell it with the object itself; some answer the question for it alone
// in a form of their own.
func (s *S3) lockedUntil(ctx context.Context, name, version string) (time.Time, error) {
	o, err := s.client.StatObject(ctx, s.bucket, s.prefix+name, minio.StatObjectOptions{VersionID: version})
	if err != nil {
		return time.Time{}, s.fail("remove", name, err)
	}
	text := o.Metadata.Get("X-Amz-Object-Lock-Retain-Until-Date")
	if text == "" {
		return time.Time{}, nil
	}
	until, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return until, fmt.Errorf("remove %s: until when it is locked cannot be read: %w", name, err)
	}
	return until, nil
}
