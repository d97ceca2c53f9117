package sealed

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"filippo.io/age"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/remedy"
)

// FormatVersion is the version of the store's layout that this code writes.
const FormatVersion = 4

const (
	DescriptorName = "dexamen-store"
	manifestMagic  = "DXMF\x01\x00\x00\x00"
)

// Errors of opening and reading a store.
var (
	// ErrNoStore is returned when there is no store at the location.
	ErrNoStore = errors.New("no store there")
	// ErrStoreExists is returned by Create when a store, or other files, are at the
	// location.
	ErrStoreExists = errors.New("there is something there already")
	// ErrMissing is returned when a node that should be in the store is not.
	ErrMissing = errors.New("missing from the store")
	// ErrDamaged is returned when what is stored is not what was written, or cannot be
	// read.
	ErrDamaged = blob.ErrDamaged
	// ErrTooNew is returned when a later version made the store.
	ErrTooNew = errors.New("made by a later version")
	// ErrUnexpectedStore is returned when the store at the place is not the one that is
	// expected there.
	ErrUnexpectedStore = errors.New("another store than the one that is expected there")
	// ErrPlain is returned when a key is given and the store is not encrypted.
	ErrPlain = errors.New("a key is given for it, and the store there is not encrypted")
)

// Descriptor describes what a store is.
type Descriptor struct {
	ID      string    `json:"id"`
	Format  int       `json:"format"`
	Created time.Time `json:"created"`
	Tool    string    `json:"tool"`
	// Protection is "aes-256-gcm"; empty where content lies as it is.
	Protection string `json:"protection,omitempty"`
	// Parity is into how many pieces objects are cut and how many more are
	// kept, such as "8+2"; empty without.
	Parity string `json:"parity,omitempty"`
	// ImmutableFor is for how long objects are locked against removal, in
	// seconds.
	ImmutableFor int64 `json:"immutable_for,omitempty"`
	// Claims says that objects are made by the protocol for places that heed
	// no conditions (docs/reference/format.md).
	NoConditions bool `json:"no_conditions,omitempty"`
	// Cuts is "siphash": nodes end where a hash says that the store has a key for; empty in
	// stores of earlier versions, where anybody can reckon it.
	Cuts string `json:"cuts,omitempty"`
}

// keyedCuts is what the descriptor says of such cuts.
const keyedCuts = "siphash"

// CreateOptions say what a new store is to be like.
type CreateOptions struct {
	Tool string
	// Holders can open the store; Plain leaves it open to all. One of the two
	// must be given.
	Holders      []Holder
	Plain        bool
	Parity       string
	ImmutableFor time.Duration
	NoConditions bool
}

// Compress is how small nodes are made when they are written; the log is always compressed fast, as
// it must keep up.
type Compress string

// The empty one is CompressFast.
const (
	CompressFast  Compress = "fast"
	CompressAuto  Compress = "auto" // harder while what is written comes slower than it could be compressed
	CompressSmall Compress = "small"
)

// Options bound what a store uses of the machine. The zero value is usable.
type Options struct {
	// CacheBytes bounds decompressed frames held for reading (default 32 MiB).
	CacheBytes int
	// Workers compress in parallel (default: one per processor, at most 8).
	Workers int
	// WriteBytes bounds the content files that a writer holds, the one being filled and
	// those on their way (default 54 MiB).
	WriteBytes int
	// PackBytes is the size at which a content file is closed (default 16 MiB, less where
	// three would not fit into WriteBytes).
	FileBytes int
	// Compress says how small what is written is made.
	Compress Compress
	// IndexBytes bounds about what is held in memory of where nodes lie; what is more goes
	// to files (default 64 MiB).
	IndexBytes int
	// Keep is the folder of this host where such files stay for who opens the store next;
	// where it is empty they are temporary.
	Keep string
	// Temp is the folder for temporary files (the system's when empty).
	Temp string
	// Memo, where not nil, is shared by stores opened at this place.
	Memo *Memo
	// Clock tells the time; the machine's where it is not set.
	Clock Clock
	// Unlock opens an encrypted store: see [ParseSecret]. A store that is not encrypted
	// is refused then.
	Unlock []age.Identity
	// Identity, where set, is what [Objects.Identity] must return: another store is
	// refused.
	Identity string
}

func (o Options) withDefaults() Options {
	if o.CacheBytes <= 0 {
		o.CacheBytes = 32 << 20
	}
	if o.WriteBytes <= 0 {
		o.WriteBytes = 54 << 20
	}
	if o.IndexBytes <= 0 {
		o.IndexBytes = 64 << 20
	}
	if o.FileBytes <= 0 {
		o.FileBytes = min(16<<20, max(1<<20, o.WriteBytes*8/27))
	}
	return o
}

// Create makes a new store at an empty location.
func Create(ctx context.Context, b blob.Backend, o CreateOptions) (Descriptor, error) {
	d := Descriptor{ID: NewID(16), Format: FormatVersion, Created: time.Now().UTC().Truncate(time.Second), Tool: o.Tool,
		Parity: o.Parity, ImmutableFor: int64(o.ImmutableFor / time.Second), NoConditions: o.NoConditions,
		Cuts: keyedCuts}
	if o.Plain == (len(o.Holders) > 0) {
		return d, fmt.Errorf("a store is encrypted for somebody, or plain: say which")
	}
	if _, _, err := parseParity(o.Parity); err != nil {
		return d, err
	}
	if _, ok := b.(blob.Locker); !ok && o.ImmutableFor > 0 {
		return d, fmt.Errorf("%s: objects cannot be locked there", b)
	}
	if _, err := ReadDescriptor(ctx, b); err == nil {
		return d, remedy.With(fmt.Errorf("%s: %w: a store", b, ErrStoreExists), remedy.OtherPlace, "")
	}
	err := b.List(ctx, "", func(i blob.Info) error {
		if name := strings.TrimPrefix(i.Name, ParityPrefix); HasSecondCopy(name) {
			return nil // of an attempt that ended before the store was there
		}
		return remedy.With(fmt.Errorf("%s: %w: %s", b, ErrStoreExists, i.Name), remedy.OtherPlace, "")
	})
	if err != nil {
		return d, err
	}
	if !o.Plain {
		d.Protection = "aes-256-gcm"
		if err := createKeys(ctx, b, d.ID, o.Holders); err != nil {
			return d, err
		}
	}
	return d, putTwice(ctx, b, DescriptorName, d)
}

func ReadDescriptor(ctx context.Context, b blob.Backend) (d Descriptor, err error) {
	err = getTwice(ctx, b, DescriptorName, &d)
	return d, err
}
