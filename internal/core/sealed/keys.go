package sealed

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"filippo.io/age"
	"github.com/zeebo/blake3"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/frame"
	"dexamen/internal/core/journal"
)

// Errors of opening an encrypted store.
var (
	// ErrNoKey is returned when the store is encrypted, and no key was given.
	ErrNoKey = errors.New("the store is encrypted, and no key is given")
	// ErrWrongKey is returned when the key given is of none of the store's holders.
	ErrWrongKey = errors.New("the key given is of none of the store's holders")
	// ErrBadHolder is returned when a holder was tampered with or is damaged.
	ErrBadHolder = errors.New("key holder is damaged or was tampered with")
	// ErrWriteOnly is returned when the key given lets write and not read content.
	ErrWriteOnly = errors.New("the key given can write to the store, and not read its content")
)

const (
	// dataKeyAge is how long a data key is used for new content.
	dataKeyAge = 30 * 24 * time.Hour
)

// DataKey is the manifest of a data key, sealed to the store's content key.
type DataKey struct {
	ID      string    `json:"id"`
	Created time.Time `json:"created"`
	Sealed  []byte    `json:"sealed"`
	// Vouch is there where somebody made it who can read: nobody else's is used for new
	// content by those who can.
	Vouch []byte `json:"vouch,omitempty"`
}

// keyVouched reports whether somebody made the key who can read, since the content key was last renewed.
func (r *keyring) keyVouched(name string, d *DataKey) bool {
	return vouches(r.vouching, d.Vouch, []byte(name), []byte(d.ID), []byte(d.Created.UTC().Format(time.RFC3339)),
		d.Sealed)
}

// keyring holds an encrypted store's keys.
//
// The list key protects names, points, headers: what a run must see of what is
// there. Content is under data keys, each sealed to the public half of the
// content key: who has only that half can write, and never read what others
// wrote, nor what it wrote itself once it has forgotten the data key.
type keyring struct {
	blob    blob.Backend
	secret  holderSecret
	list    *frame.Key
	names   [32]byte
	public  *age.X25519Recipient
	content *age.X25519Identity // nil where the holder lets write only
	// vouching is what somebody vouches with who can read; zero where the holder cannot.
	vouching [32]byte
	// older are the content keys before this one, the newest first: what was written under them is
	// read, and nothing new is.
	older []olderKey

	// making is filled while somebody finds or makes the key for new content.
	making chan struct{}

	mu      sync.Mutex
	data    map[frame.KeyID]*frame.Key
	current *frame.Key
	stored  map[frame.KeyID]string // names of data keys known to be there
}

// olderKey is a content key that was renewed.
type olderKey struct {
	content  *age.X25519Identity
	vouching [32]byte
}

func newKeyring(b blob.Backend, sec holderSecret) (*keyring, error) {
	r := &keyring{blob: b, secret: sec, data: map[frame.KeyID]*frame.Key{}, making: make(chan struct{}, 1)}
	if len(sec.List) != 32 {
		return nil, fmt.Errorf("%w: it holds no list key", ErrBadHolder)
	}
	var list [32]byte
	blake3.DeriveKey("dexamen store list key", sec.List, list[:])
	blake3.DeriveKey("dexamen store names", sec.List, r.names[:])
	r.list = frame.NewKey(frame.KeyID{}, list)
	var err error
	if r.public, err = age.ParseX25519Recipient(sec.Public); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrBadHolder, err)
	}
	if sec.Content != "" {
		if r.content, err = age.ParseX25519Identity(sec.Content); err != nil {
			return nil, fmt.Errorf("%w: %w", ErrBadHolder, err)
		}
		if r.content.Recipient().String() != r.public.String() {
			return nil, fmt.Errorf("%w: the two halves of its content key do not belong together", ErrBadHolder)
		}
		r.vouching = newVouchKey(sec.Content)
	}
	for _, text := range sec.Older {
		was, err := age.ParseX25519Identity(text)
		if err != nil || r.content == nil {
			return nil, fmt.Errorf("%w: a content key that was renewed: %w", ErrBadHolder, err)
		}
		r.older = append(r.older, olderKey{was, newVouchKey(text)})
	}
	return r, nil
}

// ring is a keyring for the time of one call: keys that are not at hand are fetched
// as long as its context lets it.
type ring struct {
	*keyring
	ctx context.Context
}

// Key implements [frame.Ring].
func (r ring) Key(id frame.KeyID) (*frame.Key, error) { return r.key(r.ctx, id) }

// key returns a data key, from memory or from the store. No lock is held while it is
// fetched: two calls may fetch the same one.
func (r *keyring) key(ctx context.Context, id frame.KeyID) (*frame.Key, error) {
	if id == r.list.ID {
		return r.list, nil
	}
	r.mu.Lock()
	k, name := r.data[id], r.stored[id]
	r.mu.Unlock()
	if k != nil {
		return k, nil
	}
	if r.content == nil {
		return nil, fmt.Errorf("%w: %w", frame.ErrLocked, ErrWriteOnly)
	}
	if name == "" {
		// Keys come seldom: one for thirty days of runs.
		stored, err := r.listData(ctx)
		if err != nil {
			return nil, err
		}
		name = stored[id]
	}
	if name == "" {
		return nil, fmt.Errorf("%w: data key %x: %w", frame.ErrLocked, id, ErrMissing)
	}
	_, k, err := r.load(ctx, name)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", frame.ErrLocked, err)
	}
	if k.ID != id {
		return nil, fmt.Errorf("%w: %s: %w: it is another key", frame.ErrLocked, name, ErrDamaged)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.data[id] = k
	return k, nil
}

// listData finds which data keys are there, and returns their names.
func (r *keyring) listData(ctx context.Context) (map[frame.KeyID]string, error) {
	stored := map[frame.KeyID]string{}
	err := listTwice(ctx, r.blob, DataKeysPrefix, func(i blob.Info) error {
		_, text, _ := strings.Cut(strings.TrimPrefix(i.Name, DataKeysPrefix), "-")
		if id, err := hex.DecodeString(text); err == nil && len(id) == len(frame.KeyID{}) {
			stored[frame.KeyID(id)] = i.Name
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.stored = stored
	return stored, nil
}

func (r *keyring) load(ctx context.Context, name string) (created time.Time, k *frame.Key, err error) {
	var d DataKey
	if err := getTwice(ctx, r.blob, name, &d); err != nil {
		return created, nil, err
	}
	return r.OpenData(name, &d)
}

// OpenData opens a data key.
func (r *keyring) OpenData(name string, d *DataKey) (created time.Time, k *frame.Key, err error) {
	ids := []age.Identity{r.content}
	for _, was := range r.older {
		ids = append(ids, was.content)
	}
	secret, err := unseal(d.Sealed, ids...)
	id, err2 := hex.DecodeString(d.ID)
	if err := errors.Join(err, err2); err != nil || len(secret) != 32 || len(id) != len(frame.KeyID{}) {
		return created, nil, fmt.Errorf("%s: %w: %w", name, ErrDamaged,
			errors.Join(err, errors.New("it is no data key of this store")))
	}
	return d.Created, frame.NewKey(frame.KeyID(id), [32]byte(secret)), nil
}

// writeKey returns the data key for new content: who can read takes up the newest one of
// somebody who can while it is fresh; otherwise one is made.
func (r *keyring) writeKey(ctx context.Context,
	put func(ctx context.Context, name string, v any) error) (*frame.Key, error) {
	select {
	case r.making <- struct{}{}:
		defer func() { <-r.making }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	r.mu.Lock()
	k := r.current
	r.mu.Unlock()
	if k != nil {
		return k, nil
	}
	k, err := r.freshKey(ctx)
	if err == nil && k == nil {
		k, err = r.makeKey(ctx, put)
	}
	if err != nil {
		return nil, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.current, r.data[k.ID] = k, k
	return k, nil
}

// freshKey returns the newest data key that somebody made who can read, where it is still to
// be used; nil where it is not, or cannot be read.
func (r *keyring) freshKey(ctx context.Context) (*frame.Key, error) {
	if r.content == nil {
		return nil, nil
	}
	stored, err := r.listData(ctx)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, name := range stored {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range slices.Backward(names) {
		// One that somebody made who can only write is known to a host that is not to
		// read what is written here. A damaged one is no reason to stop.
		var d DataKey
		if err := getTwice(ctx, r.blob, name, &d); err != nil || !r.keyVouched(name, &d) {
			continue
		}
		created, k, err := r.OpenData(name, &d)
		if err != nil || time.Since(created) >= dataKeyAge || time.Until(created) > ClockTolerance {
			return nil, nil // another is made
		}
		return k, nil
	}
	return nil, nil
}

// makeKey makes a data key and stores it.
func (r *keyring) makeKey(ctx context.Context,
	put func(ctx context.Context, name string, v any) error) (*frame.Key, error) {
	var secret [32]byte
	var id frame.KeyID
	_, _ = rand.Read(secret[:])
	for id == (frame.KeyID{}) {
		_, _ = rand.Read(id[:])
	}
	sealed, err := sealTo(r.public, secret[:])
	if err != nil {
		return nil, err
	}
	now := time.Now().UTC()
	d := DataKey{ID: hex.EncodeToString(id[:]), Created: now.Truncate(time.Second), Sealed: sealed}
	name := DataKeysPrefix + now.Format("20060102T150405") + "-" + d.ID
	d.Vouch = r.vouch([]byte(name), []byte(d.ID), []byte(d.Created.Format(time.RFC3339)), d.Sealed)
	if err := put(ctx, name, d); err != nil {
		return nil, err
	}
	return frame.NewKey(id, secret), nil
}

// Encrypted reports whether the store is.
func (s *Objects) Encrypted() bool { return s.Keyring != nil }

// WriteOnly reports that the key the store was opened with cannot read content.
func (s *Objects) WriteOnly() bool { return s.Keyring != nil && s.Keyring.content == nil }

// Ring returns the keys for opening frames, for one call: keys that are not at hand
// are fetched as long as ctx lets it. It is nil in a plain store.
func (s *Objects) Ring(ctx context.Context) frame.Ring {
	if s.Keyring == nil {
		return nil
	}
	return ring{s.Keyring, ctx}
}

func (s *Objects) ListKey() *frame.Key {
	if s.Keyring == nil {
		return nil
	}
	return s.Keyring.list
}

// ContentKey returns the key for new content; nil where the store is plain.
func (s *Objects) ContentKey(ctx context.Context) (*frame.Key, error) {
	if s.Keyring == nil {
		return nil, nil
	}
	return s.Keyring.writeKey(ctx, func(ctx context.Context, name string, v any) error {
		return s.PutObject(ctx, nil, name, v)
	})
}

// SegmentKeys returns the keys for new log segments.
func (s *Objects) SegmentKeys(ctx context.Context) (journal.Keys, error) {
	body, err := s.ContentKey(ctx)
	return journal.Keys{Head: s.ListKey(), Body: body, Vouch: s.Vouch}, err
}

// NamePart returns a name's form as part of an object name: in an encrypted store a
// keyed hash, so that the outside tells nothing of clusters and shards.
func (s *Objects) NamePart(kind, name string) string {
	if s.Keyring == nil {
		return name
	}
	h, err := blake3.NewKeyed(s.Keyring.names[:])
	if err != nil {
		panic(err) // the length is right
	}
	_, _ = h.Write([]byte(kind + "\x00" + name))
	return hex.EncodeToString(h.Sum(nil)[:15])
}
