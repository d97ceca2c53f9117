package evidence

import (
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/store"
	"dexamen/internal/pin"
)

// Book writes the statements of one installation into a store. Several processes of an installation
// may write at the same time.
type Book struct {
	Key ed25519.PrivateKey
	// Folder is where the installation notes how far its chains go, so that statements which
	// somebody took out of a store are missed; it does not where Folder is empty.
	Folder string
}

// ErrMissing is returned when statements that were written are not in the store any more.
var ErrMissing = errors.New("statements are missing in the store")

// head is how far a chain went when it was last written to.
type head struct {
	Number int64  `json:"number"`
	Digest string `json:"digest"`
}

// Append signs what is said of a run and keeps it, after the last statement of the installation in
// the store. [ErrMissing] is returned where that one, or others before it, are gone: what is said is
// kept all the same, and its chain shows what is missing from then on.
func (b *Book) Append(ctx context.Context, st *store.Store, s Statement) (*Statement, error) {
	key := Thumbprint(b.Key.Public().(ed25519.PublicKey))
	s.Format, s.Store, s.Written = Format, st.ID, time.Now().UTC().Truncate(time.Millisecond)
	for {
		// What is known is read first: what others write meanwhile is then no less than that.
		known, err := b.readHead(st)
		if err != nil {
			return nil, err
		}
		at, err := b.last(ctx, st, key)
		if err != nil {
			return nil, err
		}
		var gone error
		if known.Number > at.Number || known.Number == at.Number && known.Digest != at.Digest {
			gone, at = missing(known, at), known
		}
		s.Number, s.Previous = at.Number+1, at.Digest
		line, err := Sign(b.Key, &s)
		if err != nil {
			return nil, err
		}
		if len(line) > MaxLine {
			return nil, fmt.Errorf("what is to be said of run %s is %d bytes long, more than %d", s.Run, len(line),
				MaxLine)
		}
		err = st.PutEvidence(ctx, key, s.Number, line)
		if errors.Is(err, store.ErrThere) {
			continue // another process of this installation was faster
		}
		if err == nil {
			err = b.writeHead(st, head{s.Number, Digest(line)})
		}
		return &s, errors.Join(err, gone)
	}
}

// Missing returns [ErrMissing] where the installation has written more into a store than is there.
func (b *Book) Missing(ctx context.Context, st *store.Store) error {
	known, err := b.readHead(st) // first: see Append
	if err != nil {
		return err
	}
	at, err := b.last(ctx, st, Thumbprint(b.Key.Public().(ed25519.PublicKey)))
	if err == nil && (known.Number > at.Number || known.Number == at.Number && known.Digest != at.Digest) {
		err = missing(known, at)
	}
	return err
}

func missing(known, at head) error {
	if known.Number == at.Number {
		return fmt.Errorf("%w: statement %d is not the one that this installation wrote", ErrMissing, at.Number)
	}
	return fmt.Errorf("%w: this installation wrote %d, and the last that is there is %d", ErrMissing, known.Number,
		at.Number)
}

// last returns the end of the installation's chain in a store; the zero head where there is none.
func (b *Book) last(ctx context.Context, st *store.Store, key string) (head, error) {
	numbers, err := st.EvidenceNumbers(ctx, key)
	if err != nil || len(numbers) == 0 {
		return head{}, err
	}
	n := slices.Max(numbers)
	line, err := st.Evidence(ctx, key, n)
	if err != nil {
		return head{}, err
	}
	return head{n, Digest(line)}, nil
}

// headFile names the note of how far the chain goes in the store at a place: a mirror has the same id, and
// may be behind.
func (b *Book) headFile(st *store.Store) string {
	place := sha256.Sum256([]byte(st.Location()))
	return filepath.Join(b.Folder, st.ID+"-"+hex.EncodeToString(place[:4])+".json")
}

func (b *Book) readHead(st *store.Store) (h head, err error) {
	if b.Folder == "" {
		return h, nil
	}
	raw, err := os.ReadFile(b.headFile(st))
	if errors.Is(err, fs.ErrNotExist) {
		return h, nil
	}
	if err == nil {
		err = json.Unmarshal(raw, &h)
	}
	if err != nil {
		return h, fmt.Errorf("%s: how much evidence was written cannot be read: %w; remove it to begin anew",
			b.headFile(st), err)
	}
	return h, nil
}

// writeHead notes how far a chain goes, unless another process has noted more.
func (b *Book) writeHead(st *store.Store, h head) error {
	if was, err := b.readHead(st); b.Folder == "" || err == nil && was.Number > h.Number {
		return nil
	}
	return pin.Save(b.headFile(st), h)
}

// Lines returns all statements in a store as lines, chain by chain, each in order of its numbers. One
// that cannot be read is an error beside the rest.
func Lines(ctx context.Context, st *store.Store) (lines []string, unreadable []error, err error) {
	keys, err := st.EvidenceKeys(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, key := range keys {
		numbers, err := st.EvidenceNumbers(ctx, key)
		if err != nil {
			return nil, nil, err
		}
		for _, n := range numbers {
			line, err := st.Evidence(ctx, key, n)
			if err == nil && strings.ContainsAny(line, "\r\n") {
				err = fmt.Errorf("statement %d of key %s: %w", n, key, ErrForged)
			}
			if err != nil {
				unreadable = append(unreadable, err)
				continue
			}
			lines = append(lines, line)
		}
	}
	return lines, unreadable, nil
}
