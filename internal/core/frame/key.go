package frame

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
)

// ErrLocked means that a frame is encrypted and its key is not at hand.
var ErrLocked = errors.New("encrypted, and the key at hand does not open it")

const (
	plain     = 0
	aes256gcm = 1

	nonceSize = 12
	tagSize   = 16
	// protected is what encryption adds to a payload.
	protected = keyIDSize + nonceSize + tagSize
	keyIDSize = 8
)

// KeyID names a key. It is part of every frame the key protects, in the clear.
type KeyID [keyIDSize]byte

// Key encrypts frames with AES-256-GCM. A nil Key leaves them as they are.
//
// Nonces are random, 96 bits long: a key is good for 2^32 frames, which at the
// usual sizes is some hundred TiB.
type Key struct {
	ID   KeyID
	aead cipher.AEAD
}

// NewKey makes a key of 32 secret bytes.
func NewKey(id KeyID, secret [32]byte) *Key {
	block, err := aes.NewCipher(secret[:])
	if err != nil {
		panic(err) // the length is right
	}
	aead, err := cipher.NewGCM(block)
	if err != nil {
		panic(err) // the block size is right
	}
	return &Key{id, aead}
}

// Ring finds the keys of frames that are opened. With a nil Ring only frames
// that are not encrypted open; with another only those that are, so that
// nothing can be slipped in without a key.
type Ring interface {
	// Key returns a key, or an error that wraps [ErrLocked].
	Key(id KeyID) (*Key, error)
}

// seal encrypts the payload at the end of f, whose header's first bytes say
// what it will be.
func (k *Key) seal(f []byte) []byte {
	payload := f[HeaderSize:]
	var nonce [nonceSize]byte
	_, _ = rand.Read(nonce[:]) // never fails, by its contract
	out := make([]byte, 0, len(f)+protected)
	out = append(out, f[:HeaderSize]...)
	putLengths(out, headerRaw(f), len(payload)+protected)
	out = append(out, k.ID[:]...)
	out = append(out, nonce[:]...)
	return k.aead.Seal(out, nonce[:], payload, append(out[:12:12], k.ID[:]...))
}

// open returns the payload of an encrypted frame whose checksum is right.
func open(ring Ring, f []byte) ([]byte, error) {
	if ring == nil {
		return nil, ErrLocked
	}
	p := f[HeaderSize:]
	if len(p) < protected {
		return nil, fmt.Errorf("%w: too short to be encrypted", ErrDamaged)
	}
	id := KeyID(p[:keyIDSize])
	k, err := ring.Key(id)
	if err != nil {
		return nil, err
	}
	nonce, sealed := p[keyIDSize:keyIDSize+nonceSize], p[keyIDSize+nonceSize:]
	raw, err := k.aead.Open(nil, nonce, sealed, append(f[:12:12], id[:]...))
	if err != nil {
		return nil, fmt.Errorf("%w: it was not sealed with the store's key %x", ErrDamaged, id)
	}
	return raw, nil
}
