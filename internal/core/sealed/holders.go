package sealed

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
	passwordvalidator "github.com/wagslane/go-password-validator"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/remedy"
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
	// Vouch is there where somebody added it who can read.
	Vouch []byte `json:"vouch,omitempty"`
	// Vouched says that it is right, or that the key at hand cannot tell.
	Vouched bool `json:"-"`
	// Refused is since when it opens no more, where it was dropped and its lock goes on.
	Refused time.Time `json:"refused,omitzero"`
}

// vouches returns what somebody who can read vouches for.
func (h *KeyHolder) vouches() [][]byte {
	return [][]byte{[]byte(HoldersPrefix + h.ID), []byte(h.Access), []byte(h.For), []byte(h.Label),
		[]byte(h.Added.UTC().Format(time.RFC3339)), h.Sealed}
}

// holderSecret is what a holder's age file holds.
type holderSecret struct {
	Store   string `json:"store"`
	List    []byte `json:"list"`
	Public  string `json:"public"`
	Content string `json:"content,omitempty"` // absent in a holder that lets write only
	// Older are the content keys before, the newest first; of who can read.
	Older []string `json:"older,omitempty"`
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

// passphraseBits is how many bits a new passphrase is worth at least, reckoned by its length, the
// kinds of its characters, and what repeats or follows in order in it.
const passphraseBits = 60

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
	secret = strings.TrimSpace(secret)
	if bits := passwordvalidator.GetEntropy(secret); bits < passphraseBits {
		return Holder{}, fmt.Errorf("a passphrase worth %.0f bits is too easy to guess, where %d are asked for: use "+
			"five words or more that do not belong together, or a key file", bits, passphraseBits)
	}
	r, err := age.NewScryptRecipient(secret)
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
	id.SetMaxWorkFactor(passphraseWork) // a holder that asks for more would cost gigabytes
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
	ring, err := newKeyring(b, sec)
	if err != nil {
		return err
	}
	for _, h := range holders {
		if _, err := putHolder(ctx, ring, h); err != nil {
			return err
		}
	}
	return nil
}

// putHolder gives somebody what the keyring holds; only as much as writing takes where h is
// to write only.
func putHolder(ctx context.Context, ring *keyring, h Holder) (KeyHolder, error) {
	sec := ring.secret
	holder := KeyHolder{ID: NewID(4), Access: h.Access, For: h.For, Label: h.Label,
		Added: time.Now().UTC().Truncate(time.Second)}
	if h.Access == Write {
		sec.Content, sec.Older = "", nil
	}
	raw, err := json.Marshal(sec)
	if err != nil {
		return holder, err
	}
	if holder.Sealed, err = sealTo(h.Recipient, raw); err != nil {
		return holder, err
	}
	holder.Vouch, holder.Vouched = ring.vouch(holder.vouches()...), true
	return holder, putTwice(ctx, ring.blob, HoldersPrefix+holder.ID, holder)
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
// another opens. Locks says that holders are locked, so that those that were dropped may be there.
func openKeyring(ctx context.Context, b blob.Backend, storeID string, locks bool, ids []age.Identity) (*keyring,
	error) {
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
		if err == nil && (r.content != nil) != (holder.Access == Read) {
			err = fmt.Errorf("%w: it says %q and holds something else", ErrBadHolder, holder.Access)
		}
		if err != nil {
			bad = append(bad, fmt.Errorf("%s%s: %w", HoldersPrefix, holder.ID, err))
			continue
		}
		if locks {
			at, err := refusedSince(ctx, r, holder.ID)
			if err != nil {
				return nil, err
			}
			if !at.IsZero() {
				bad = append(bad, fmt.Errorf("%w: holder %s was dropped on %s", ErrWrongKey, holder.ID,
					at.Format(time.DateOnly)))
				continue
			}
		}
		if best, err = better(best, r); err != nil {
			return nil, err
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

// better returns which of two keyrings counts that one key opens. Where they differ, one is from before the
// content key was renewed: the other then holds the one before. Nobody can say so who did not have that: a
// thief of a write-only key could plant one with a content key of his own, to read what is written for it.
func better(best, r *keyring) (*keyring, error) {
	switch {
	case best == nil:
		return r, nil
	case bytes.Equal(best.secret.List, r.secret.List) && best.secret.Public == r.secret.Public:
		if best.content == nil {
			return r, nil
		}
		return best, nil
	case bytes.Equal(best.secret.List, r.secret.List) && r.renewed(best):
		return r, nil
	case bytes.Equal(best.secret.List, r.secret.List) && best.renewed(r):
		return best, nil
	}
	return nil, fmt.Errorf("%w: the holders that open hold different keys: one is planted, or the keys are being "+
		"renewed", ErrBadHolder)
}

// renewed reports whether the content key took the place of another one.
func (r *keyring) renewed(other *keyring) bool {
	return slices.ContainsFunc(r.older,
		func(was olderKey) bool { return was.content.Recipient().String() == other.public.String() })
}

// KeyHolders lists who can open the store. Those that cannot be read are errors.
func (s *Objects) KeyHolders(ctx context.Context) ([]KeyHolder, []error, error) {
	holders, bad, err := readHolders(ctx, s.Blob)
	for i := range holders {
		h := &holders[i]
		h.Vouched = s.Keyring == nil || s.Keyring.content == nil || s.Keyring.vouched(h.Vouch, h.vouches()...)
		h.Refused = time.Time{}
		if err == nil && s.Keyring != nil && s.ImmutableFor > 0 {
			h.Refused, err = refusedSince(ctx, s.Keyring, h.ID)
		}
	}
	return holders, bad, err
}

// AddHolder lets somebody else open the store. Nothing is rewritten.
func (s *Objects) AddHolder(ctx context.Context, h Holder) (KeyHolder, error) {
	if s.Keyring == nil {
		return KeyHolder{}, errNoKeys
	}
	if h.Access == Read && s.Keyring.content == nil {
		return KeyHolder{}, fmt.Errorf("%w: it cannot give what it does not have", ErrWriteOnly)
	}
	return putHolder(ctx, s.Keyring, h)
}

var errNoKeys = errors.New("the store is not encrypted; it has no keys")

// DropHolder takes a holder away. The last that lets read stays. One that is locked is refused from now
// on, and kept says so. Who has opened the store with it before may have kept its keys: dropping a holder
// keeps nobody out who has been in.
func (s *Objects) DropHolder(ctx context.Context, id string) (kept bool, err error) {
	holders, _, err := s.KeyHolders(ctx)
	if err != nil {
		return false, err
	}
	readers, found := 0, KeyHolder{}
	for _, holder := range holders {
		if holder.Access == Read && holder.Refused.IsZero() {
			readers++
		}
		if holder.ID == id {
			found = holder
		}
	}
	switch {
	case found.ID == "":
		return false, remedy.Plain("there is no key holder "+id, remedy.Keys, "STORE")
	case found.Access == Read && readers == 1 && found.Refused.IsZero():
		return false, fmt.Errorf("holder %s is the last that lets the store be read; add another first", id)
	}
	err = s.RemoveObject(ctx, HoldersPrefix+id)
	if !errors.Is(err, blob.ErrLocked) {
		return false, err
	}
	return true, s.refuse(ctx, id)
}
