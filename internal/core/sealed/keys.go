package sealed

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"filippo.io/age"
	"github.com/zeebo/blake3"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/frame"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/remedy"
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

// Access is what a key holder lets do.
type Access string

// Read lets read and write; Write lets write, and see what is there, but not
// read content.
const (
	Read  Access = "read"
	Write Access = "write"
)

// KeyHolder is one way to open a store.
type KeyHolder struct {
	ID     string    `json:"id"`
	Access Access    `json:"access"`
	For    string    `json:"for"` // the recipient, or "passphrase"
	Label  string    `json:"label,omitempty"`
	Added  time.Time `json:"added"`
	Sealed []byte    `json:"sealed,omitempty"` // an age file
}

// holderSecret is what a holder's age file holds.
type holderSecret struct {
	Store   string `json:"store"`
	List    []byte `json:"list"`
	Public  string `json:"public"`
	Content string `json:"content,omitempty"` // absent in a holder that lets write only
}

// DataKey is the manifest of a data key, sealed to the store's content key.
type DataKey struct {
	ID      string    `json:"id"`
	Created time.Time `json:"created"`
	Sealed  []byte    `json:"sealed"`
}

// Holder is somebody who can open a store.
type Holder struct {
	Recipient age.Recipient
	For       string // the recipient as text, or "passphrase"
	Label     string
	Access    Access
}

// NewHolder reads a public key (age1…).
func NewHolder(text, label string, a Access) (Holder, error) {
	r, err := age.ParseX25519Recipient(strings.TrimSpace(text))
	if err != nil {
		return Holder{}, remedy.With(fmt.Errorf("%q is no public key (age1…): %w", text, err), remedy.Keys, "")
	}
	return Holder{r, r.String(), label, a}, nil
}

// passphraseWork is log2 of what trying a passphrase costs.
const passphraseWork = 17

// HolderOf returns the holder of a secret: the public key of a key, or a
// passphrase.
func HolderOf(secret, label string, a Access) (Holder, error) {
	ids, err := ParseSecret(secret)
	if err != nil {
		return Holder{}, err
	}
	if x, ok := ids[0].(*age.X25519Identity); ok {
		return Holder{x.Recipient(), x.Recipient().String(), label, a}, nil
	}
	r, err := age.NewScryptRecipient(strings.TrimSpace(secret))
	if err != nil {
		return Holder{}, err
	}
	r.SetWorkFactor(passphraseWork)
	return Holder{r, "passphrase", label, a}, nil
}

// ParseSecret reads what opens a store: the text of a key file (lines with
// AGE-SECRET-KEY-1…), or a passphrase.
func ParseSecret(text string) ([]age.Identity, error) {
	text = strings.TrimSpace(text)
	if strings.Contains(text, "AGE-SECRET-KEY-") {
		return age.ParseIdentities(strings.NewReader(text))
	}
	if len(text) < 8 {
		return nil, fmt.Errorf("a passphrase of %d characters is too short; use eight or more, or a key file",
			len(text))
	}
	id, err := age.NewScryptIdentity(text)
	if err != nil {
		return nil, err
	}
	return []age.Identity{id}, nil
}

// NewSecret makes a key and gives its public part too.
func NewSecret() (secret, public string, err error) {
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return "", "", err
	}
	return id.String(), id.Recipient().String(), nil
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

	// making is filled while somebody finds or makes the key for new content.
	making chan struct{}

	mu      sync.Mutex
	data    map[frame.KeyID]*frame.Key
	current *frame.Key
	stored  map[frame.KeyID]string // names of data keys known to be there
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
	}
	return r, nil
}

// createKeys makes the keys of a new store and a holder for every holder.
func createKeys(ctx context.Context, b blob.Backend, storeID string, holders []Holder) error {
	if !slices.ContainsFunc(holders, func(h Holder) bool { return h.Access == Read }) {
		return errors.New("an encrypted store needs somebody who can read it")
	}
	content, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	sec := holderSecret{Store: storeID, List: make([]byte, 32), Public: content.Recipient().String(),
		Content: content.String()}
	_, _ = rand.Read(sec.List)
	for _, h := range holders {
		if _, err := putHolder(ctx, b, sec, h); err != nil {
			return err
		}
	}
	return nil
}

func putHolder(ctx context.Context, b blob.Backend, sec holderSecret, h Holder) (KeyHolder, error) {
	holder := KeyHolder{ID: NewID(4), Access: h.Access, For: h.For, Label: h.Label,
		Added: time.Now().UTC().Truncate(time.Second)}
	if h.Access == Write {
		sec.Content = ""
	}
	raw, err := json.Marshal(sec)
	if err != nil {
		return holder, err
	}
	if holder.Sealed, err = sealTo(h.Recipient, raw); err != nil {
		return holder, err
	}
	return holder, putTwice(ctx, b, HoldersPrefix+holder.ID, holder)
}

func sealTo(r age.Recipient, raw []byte) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, r)
	if err == nil {
		_, err = w.Write(raw)
	}
	if err == nil {
		err = w.Close()
	}
	return out.Bytes(), err
}

func unseal(sealed []byte, ids ...age.Identity) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(sealed), ids...)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}

// readHolders returns the holders, and errors for those that cannot be read.
func readHolders(ctx context.Context, b blob.Backend) (holders []KeyHolder, bad []error, err error) {
	read := func(i blob.Info) error {
		var s KeyHolder
		err := getTwice(ctx, b, i.Name, &s)
		switch {
		case err == nil && slices.ContainsFunc(holders, func(o KeyHolder) bool { return o.ID == s.ID }):
		case errors.Is(err, ErrDamaged):
			bad = append(bad, fmt.Errorf("%w: %w", ErrBadHolder, err))
		case errors.Is(err, blob.ErrNotFound):
		case err != nil:
			return err
		default:
			holders = append(holders, s)
		}
		return nil
	}
	if err = listTwice(ctx, b, HoldersPrefix, read); err == nil {
		err = b.List(ctx, RepairedPrefix+HoldersPrefix, read) // repairing may have been interrupted
	}
	return holders, bad, err
}

// openKeyring opens a store's keys. Trouble with one holder is no reason to fail where
// another opens.
func openKeyring(ctx context.Context, b blob.Backend, storeID string, ids []age.Identity) (*keyring, error) {
	if len(ids) == 0 {
		return nil, ErrNoKey
	}
	holders, bad, err := readHolders(ctx, b)
	if err != nil {
		return nil, err
	}
	var best *keyring
	for _, holder := range holders {
		raw, err := unseal(holder.Sealed, ids...)
		var none *age.NoIdentityMatchError
		if errors.As(err, &none) {
			continue
		}
		var sec holderSecret
		if err == nil {
			err = json.Unmarshal(raw, &sec)
		}
		if err == nil && sec.Store != storeID {
			err = errors.New("it is of another store")
		}
		if err != nil {
			bad = append(bad, fmt.Errorf("%w: %s%s: %w", ErrBadHolder, HoldersPrefix, holder.ID, err))
			continue
		}
		r, err := newKeyring(b, sec)
		if err != nil {
			bad = append(bad, fmt.Errorf("%s%s: %w", HoldersPrefix, holder.ID, err))
			continue
		}
		if best != nil && !bytes.Equal(best.secret.List, sec.List) {
			return nil, fmt.Errorf("%w: the holders that open hold different keys", ErrBadHolder)
		}
		if best == nil || best.content == nil {
			best = r
		}
	}
	switch {
	case best != nil:
		return best, nil
	case len(bad) > 0:
		return nil, errors.Join(bad...)
	case len(holders) == 0:
		return nil, fmt.Errorf("%w: there is none left below %s", ErrBadHolder, HoldersPrefix)
	}
	var have []string
	for _, s := range holders {
		have = append(have, strings.TrimSpace(s.ID+" for "+s.For+" "+s.Label))
	}
	return nil, fmt.Errorf("%w: %s", ErrWrongKey, strings.Join(have, "; "))
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
	secret, err := unseal(d.Sealed, r.content)
	id, err2 := hex.DecodeString(d.ID)
	if err := errors.Join(err, err2); err != nil || len(secret) != 32 || len(id) != len(frame.KeyID{}) {
		return created, nil, fmt.Errorf("%s: %w: %w", name, ErrDamaged,
			errors.Join(err, errors.New("it is no data key of this store")))
	}
	return d.Created, frame.NewKey(frame.KeyID(id), [32]byte(secret)), nil
}

// writeKey returns the data key for new content: who can read takes up the
// newest one while it is fresh; otherwise one is made.
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

// freshKey returns the newest data key where it is still to be used; nil where it is
// not, or cannot be read.
func (r *keyring) freshKey(ctx context.Context) (*frame.Key, error) {
	if r.content == nil {
		return nil, nil
	}
	stored, err := r.listData(ctx)
	if err != nil {
		return nil, err
	}
	newest := ""
	for _, name := range stored {
		newest = max(newest, name)
	}
	if newest == "" {
		return nil, nil
	}
	created, k, err := r.load(ctx, newest)
	if err != nil || time.Since(created) >= dataKeyAge {
		return nil, nil // a damaged one is no reason to stop: another is made
	}
	return k, nil
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
	if err := put(ctx, DataKeysPrefix+now.Format("20060102T150405")+"-"+d.ID, d); err != nil {
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
	return journal.Keys{Head: s.ListKey(), Body: body}, err
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

// KeyHolders lists who can open the store. Those that cannot be read are errors.
func (s *Objects) KeyHolders(ctx context.Context) ([]KeyHolder, []error, error) {
	return readHolders(ctx, s.Blob)
}

// AddHolder lets somebody else open the store. Nothing is rewritten.
func (s *Objects) AddHolder(ctx context.Context, h Holder) (KeyHolder, error) {
	if s.Keyring == nil {
		return KeyHolder{}, errors.New("the store is not encrypted; it has no keys")
	}
	if h.Access == Read && s.Keyring.content == nil {
		return KeyHolder{}, fmt.Errorf("%w: it cannot give what it does not have", ErrWriteOnly)
	}
	return putHolder(ctx, s.Blob, s.Keyring.secret, h)
}

// DropHolder takes a holder away. The last that lets read stays. Who has opened the
// store with it before may have kept its keys: dropping a holder keeps nobody out
// who has been in.
func (s *Objects) DropHolder(ctx context.Context, id string) error {
	holders, _, err := readHolders(ctx, s.Blob)
	if err != nil {
		return err
	}
	readers, found := 0, KeyHolder{}
	for _, holder := range holders {
		if holder.Access == Read {
			readers++
		}
		if holder.ID == id {
			found = holder
		}
	}
	switch {
	case found.ID == "":
		return remedy.Plain("there is no key holder "+id, remedy.Keys, "STORE")
	case found.Access == Read && readers == 1:
		return fmt.Errorf("holder %s is the last that lets the store be read; add another first", id)
	}
	return s.RemoveObject(ctx, HoldersPrefix+id)
}
