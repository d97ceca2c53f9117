// Package blob is where a store's bytes lie: named, immutable objects in a
// folder, in memory or on an object store.
//
// An object is created whole or not at all, never changed, and never silently
// replaced. Every backend passes the suite in package blobtest.
package blob

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"path"
	"strings"
	"time"
)

// MaxObject is how large an object can be, in bytes: several times what is ever written as one.
const MaxObject = 1 << 30

// errTooLarge is the cause where an object is larger.
var errTooLarge = fmt.Errorf("it is larger than %d MiB, which nothing in a store is", MaxObject>>20)

// Errors a backend answers with, wrapped in what was being done and to which
// object.
var (
	// ErrExists is returned by Create when an object of that name is there; it is
	// untouched.
	ErrExists = errors.New("object exists already")
	// ErrNotFound is returned when there is no object of that name.
	ErrNotFound = errors.New("no such object")
	// ErrName is returned when an object cannot have the name.
	ErrName = errors.New("bad object name")
	// ErrRange is returned by ReadAt when the object does not have those bytes.
	ErrRange = errors.New("object is shorter than asked for")
	// ErrLocked is returned by Remove when the object is locked.
	ErrLocked = errors.New("object is locked")
	// ErrDamaged is returned when an object is there and cannot be read, for a
	// reason of its own: an I/O error, its permissions, a loop of links. The rest
	// of the store may be sound.
	ErrDamaged = errors.New("damaged in the store")
	// ErrGone is returned when the place no longer holds the store that was
	// opened there.
	ErrGone = errors.New("the store is gone")
	// ErrLink is returned when a folder or file of a store is a symbolic link.
	ErrLink = errors.New("a symbolic link in the store")
)

// Info describes an object.
type Info struct {
	Name string
	Size int64 // bytes
	// Made is when the backend says it was made, by its own clock; where an
	// object is locked, not before that ends.
	Made time.Time
}

// Backend keeps objects. Names are slash-separated, as [CheckName] allows. All
// methods may be called from many goroutines and processes at once.
type Backend interface {
	// Create makes an object with this content. When it returns nil the
	// object is durable; when it returns an error, the object is whole or
	// absent, never part of it.
	Create(ctx context.Context, name string, data []byte) error
	// Read returns the whole object, of at most [MaxObject] bytes: one that is larger is
	// [ErrDamaged], and costs no more than a small one.
	Read(ctx context.Context, name string) ([]byte, error)
	// ReadAt returns exactly n bytes from off; a negative off counts from the
	// end. Asking for what is not there is [ErrRange].
	ReadAt(ctx context.Context, name string, off int64, n int) ([]byte, error)
	// List calls fn with every object whose name begins with prefix, in
	// order of names. Objects made meanwhile may be missed.
	List(ctx context.Context, prefix string, fn func(Info) error) error
	// Remove deletes an object; [ErrNotFound] when there is none.
	Remove(ctx context.Context, name string) error
	// String returns the location, for people; it holds no secrets.
	String() string
}

// Locker is a backend that can lock objects against removal.
type Locker interface {
	// UseLocks declares that objects of the store that lies here are locked. It is
	// called when the store is opened.
	UseLocks()
	// Lock keeps an object from being removed until a time; an earlier time
	// than it is locked to already changes nothing.
	Lock(ctx context.Context, name string, until time.Time) error
}

// Anchored is a backend that notices when its place no longer holds the store
// that was opened there.
type Anchored interface {
	// Anchor takes an object, or a copy of it, as the sign that the store is
	// there.
	Anchor(ctx context.Context, name string, copies ...string) error
	// Present returns [ErrGone] when the store that Anchor was called for is not
	// there. Create and Remove do the same.
	Present(ctx context.Context) error
}

// Roomy is a backend that knows how many bytes there is room for.
type Roomy interface{ Free() (int64, error) }

// Remote is a backend of which every read is a request to a server: reading more
// at once is worth it.
type Remote interface{ Remote() bool }

// Claimer is a backend that can do without conditions: see S3.UseReservations.
type Reserver interface{ UseReservations() }

// CheckName refuses names that some backend could not keep.
func CheckName(name string) error {
	if name == "" || len(name) > 512 || path.Clean(name) != name || name[0] == '/' {
		return fmt.Errorf("%w: %q", ErrName, name)
	}
	for _, part := range strings.Split(name, "/") {
		if part == "." || part == ".." || strings.HasPrefix(part, ".") || len(part) > 200 {
			return fmt.Errorf("%w: %q", ErrName, name)
		}
		for _, c := range []byte(part) {
			ok := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' ||
				strings.IndexByte("-_.=", c) >= 0
			if !ok {
				return fmt.Errorf("%w: %q has %q", ErrName, name, c)
			}
		}
	}
	return nil
}

// Open returns the backend for a location that needs nothing else: file:///path
// or mem:.
func Open(location string) (Backend, error) {
	u, err := url.Parse(location)
	if err != nil {
		return nil, fmt.Errorf("store location %q is none", shown(location))
	}
	switch {
	case u.Scheme == "file" && u.Host == "" && path.IsAbs(u.Path):
		return NewDir(u.Path), nil
	case u.Scheme == "mem":
		return NewMemory(), nil
	case u.Scheme == "file":
		return nil, fmt.Errorf("store location %q: a folder is written file:///absolute/path", shown(location))
	}
	return nil, fmt.Errorf(
		"store location %q: a folder is written file:///absolute/path, an object store s3://BUCKET/PREFIX",
		shown(location))
}

// shown returns a location without what may be a secret in it.
func shown(location string) string {
	scheme, rest, ok := strings.Cut(location, "://")
	if !ok {
		return location
	}
	rest, _, _ = strings.Cut(rest, "?")
	return scheme + "://" + rest[strings.LastIndexByte(rest, '@')+1:]
}
