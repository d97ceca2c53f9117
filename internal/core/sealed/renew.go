package sealed

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"filippo.io/age"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/remedy"
)

// RenewKeys has what is stored from now on be readable for those alone who open the store now: a new
// content key is made, and each holder made anew with it. The store's identity is another one then; other
// hosts refuse it until they are told. What is there stays readable for who had the content key before.
//
// A holder of a passphrase can be made anew where secret is that; else it is an error. Renewed are the new
// holders, in order of the old ones; kept are those of the old ones that are locked, and refused from now
// on. It may end anywhere and be begun again.
func (s *Objects) RenewKeys(ctx context.Context, secret string) (renewed []KeyHolder, kept int, err error) {
	switch {
	case s.Keyring == nil:
		return nil, 0, errNoKeys
	case s.Keyring.content == nil:
		return nil, 0, fmt.Errorf("%w: it cannot give what it does not have", ErrWriteOnly)
	}
	was, bad, err := s.KeyHolders(ctx)
	if err == nil {
		err = errors.Join(bad...)
	}
	if err != nil {
		return nil, 0, err
	}
	was = slices.DeleteFunc(was, func(h KeyHolder) bool { return !h.Refused.IsZero() })
	var to []Holder
	for _, h := range was {
		if !h.Vouched {
			return nil, 0, remedy.With(fmt.Errorf("holder %s for %s was added by nobody who can read: drop it, or add "+
				"it again", h.ID, h.For), remedy.Keys, "")
		}
		next := Holder{For: h.For, Label: h.Label, Access: h.Access}
		if r, perr := age.ParseX25519Recipient(h.For); perr == nil {
			next.Recipient = r
		} else if next.Recipient, err = passphraseOf(h, secret); err != nil {
			return nil, 0, err
		}
		to = append(to, next)
	}
	content, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, 0, err
	}
	sec := s.Keyring.secret
	sec.Older = append([]string{sec.Content}, sec.Older...)
	sec.Content, sec.Public = content.String(), content.Recipient().String()
	ring, err := newKeyring(s.Blob, sec)
	if err != nil {
		return nil, 0, err
	}
	// Whoever does this is first: where it ends in the middle, they open the store by the new holder, and so
	// know the others that are there already.
	order := make([]int, 0, len(to))
	for _, mine := range []bool{true, false} {
		for i := range to {
			_, err := unseal(was[i].Sealed, s.Limits.Unlock...)
			if mine == (err == nil) {
				order = append(order, i)
			}
		}
	}
	renewed = make([]KeyHolder, len(to))
	for _, i := range order {
		if renewed[i], err = putHolder(ctx, ring, to[i]); err == nil {
			err = s.LockObject(ctx, HoldersPrefix+renewed[i].ID)
		}
		if err != nil {
			return renewed, 0, err
		}
	}
	s.Keyring = ring
	for _, h := range was {
		err := s.RemoveObject(ctx, HoldersPrefix+h.ID)
		if errors.Is(err, blob.ErrLocked) {
			kept++
			err = s.refuse(ctx, h.ID)
		}
		if err != nil && !errors.Is(err, blob.ErrNotFound) {
			return renewed, kept, err
		}
	}
	return renewed, kept, nil
}

// passphraseOf returns the recipient of a holder whose passphrase a secret is.
func passphraseOf(h KeyHolder, secret string) (age.Recipient, error) {
	ids, err := ParseSecret(secret)
	if err == nil {
		_, err = unseal(h.Sealed, ids...)
	}
	if err != nil {
		return nil, remedy.With(fmt.Errorf("holder %s opens with a passphrase that is not at hand: drop it, and add "+
			"it again afterwards", h.ID), remedy.Keys, "")
	}
	mine, err := HolderOf(secret, h.Label, h.Access)
	return mine.Recipient, err
}
