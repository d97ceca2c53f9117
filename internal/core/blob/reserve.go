package blob

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	mrand "math/rand/v2"
	"time"

	"dexamen/internal/core/wait"

	"github.com/minio/minio-go/v7"
)

// Where a server heeds no conditions, objects are made by reservations.
//
// Who wants to make an object first puts a reservation for its name, under a name of
// the reservation's own, and then lists the reservations for that name. Is there any other,
// both step back and try again after a random while; so of any two only one can
// have seen its own alone, as servers list what was put before. Then it looks
// whether the object is there, puts it, and removes the reservation. A reservation that a
// crash left behind counts for reservationTime by the server's clock; who holds one
// begins to put nothing later than half of that after it.
const (
	reservationTime = 2 * time.Minute
	reservedDir     = ".reserved/" // no object's name begins so
)

func (s *S3) createReserved(ctx context.Context, name string, data []byte) error {
	own := make([]byte, 8)
	_, _ = rand.Read(own) // never fails, by its contract
	prefix := s.prefix + reservedDir + name + "="
	mine := prefix + hex.EncodeToString(own)
	for pause := 40 * time.Millisecond; ; pause = min(2*pause, 2*time.Second) {
		done, err := s.tryReserved(ctx, name, prefix, mine, data)
		if done || err != nil {
			return err
		}
		if err := wait.For(ctx, time.Duration(mrand.Int64N(int64(pause)))); err != nil {
			return err
		}
	}
}

// tryReserved makes the object if nobody else is about to.
func (s *S3) tryReserved(ctx context.Context, name, prefix, mine string, data []byte) (done bool, err error) {
	if err := s.absent(ctx, name); err != nil {
		return false, err
	}
	began := time.Now()
	version, err := s.put(ctx, mine, []byte("reservation"))
	if err != nil {
		return false, s.fail("create", name, err)
	}
	defer func() {
		_ = s.client.RemoveObject(context.WithoutCancel(ctx), s.bucket, mine,
			minio.RemoveObjectOptions{VersionID: version})
	}()
	alone, err := s.alone(ctx, prefix, mine)
	if err != nil {
		return false, s.fail("create", name, err)
	}
	if !alone {
		return false, nil
	}
	// Only now is it sure that nobody makes it meanwhile.
	if err := s.absent(ctx, name); err != nil {
		return false, err
	}
	if time.Since(began) > reservationTime/2 {
		return false, nil
	}
	ctx, cancel := context.WithDeadline(ctx, began.Add(reservationTime*3/4))
	defer cancel()
	_, err = s.put(ctx, s.prefix+name, data)
	return true, s.fail("create", name, err)
}

// absent is nil where there is no such object.
func (s *S3) absent(ctx context.Context, name string) error {
	_, err := s.client.StatObject(ctx, s.bucket, s.prefix+name, minio.StatObjectOptions{})
	if err == nil {
		return fmt.Errorf("create %s: %w", name, ErrExists)
	}
	if err = s.fail("create", name, err); errors.Is(err, ErrNotFound) {
		return nil
	}
	return err
}

// put makes an object, whatever is there, and returns the version that a bucket which keeps
// versions gave it.
func (s *S3) put(ctx context.Context, key string, data []byte) (version string, err error) {
	info, err := s.client.PutObject(ctx, s.bucket, key, bytes.NewReader(data), int64(len(data)),
		minio.PutObjectOptions{ContentType: "application/octet-stream", DisableMultipart: true, SendContentMd5: true})
	return info.VersionID, err
}

// alone reports whether no reservation but this one counts. Those that are over are
// removed.
func (s *S3) alone(ctx context.Context, prefix, mine string) (bool, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var now time.Time
	var others []minio.ObjectInfo
	for o := range s.client.ListObjects(ctx, s.bucket, minio.ListObjectsOptions{Prefix: prefix, Recursive: true}) {
		switch {
		case o.Err != nil:
			return false, o.Err
		case o.Key == mine:
			now = o.LastModified // the server's own clock
		default:
			others = append(others, o)
		}
	}
	if now.IsZero() {
		return false, nil // somebody took it for one that is over
	}
	alone := true
	for _, o := range others {
		if now.Sub(o.LastModified) > reservationTime {
			_ = s.client.RemoveObject(ctx, s.bucket, o.Key, minio.RemoveObjectOptions{})
			continue
		}
		alone = false
	}
	return alone, nil
}
