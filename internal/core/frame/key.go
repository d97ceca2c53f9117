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
	plain      = 0
	aes256gcm  = 1 // written by earlier versions
	xaes256gcm = 2

	nonceSize  = 12 // of AES-256-GCM
	xnonceSize = 24 // of XAES-256-GCM
	tagSize    = 16
	keyIDSize  = 8
	// protected is what encryption adds to a payload.
	protected = keyIDSize + xnonceSize + tagSize
)

// KeyID names a key. It is part of every frame the key protects, in the clear.
type KeyID [keyIDSize]byte

// Key encrypts frames with XAES-256-GCM, and opens those of AES-256-GCM too. A nil Key leaves
// frames as they are.
//
// Nonces are random, 192 bits long: half of one makes the frame's own AES key, the other half is
// the nonce under that, so that no two frames come to share both however many there are.
//
// Source: C2SP, XAES-256-GCM (c2sp.org/XAES-256-GCM).
type Key struct {
	ID    KeyID
	block cipher.Block
	mask  [aes.BlockSize]byte // K1 of the key derivation
	aead  cipher.AEAD         // of AES-256-GCM under the key itself
}

// NewKey makes a key of 32 secret bytes.
func NewKey(id KeyID, secret [32]byte) *Key {
	k := &Key{ID: id}
	var err error
	if k.block, err = aes.NewCipher(secret[:]); err != nil {
		panic(err) // the length is right
	}
	k.aead = newGCM(k.block)
	// K1 is the encrypted zero block, doubled in GF(2^128), as in CMAC.
	k.block.Encrypt(k.mask[:], k.mask[:])
	var carry byte
	for i := len(k.mask) - 1; i >= 0; i-- {
		k.mask[i], carry = k.mask[i]<<1|carry, k.mask[i]>>7
	}
	k.mask[len(k.mask)-1] ^= carry * 0x87
	return k
}

func newGCM(block cipher.Block) cipher.AEAD {
	aead, err := cipher.NewGCM(block)
	if err != nil {
		panic(err) // the block size is right
	}
	return aead
}

// derived returns the AES-GCM under the key that the first half of a nonce makes.
func (k *Key) derived(nonce []byte) cipher.AEAD {
	var secret [32]byte
	for i := range 2 {
		half := secret[i*aes.BlockSize : (i+1)*aes.BlockSize]
		copy(half, []byte{0, byte(i + 1), 'X', 0})
		copy(half[4:], nonce[:nonceSize])
		for j := range half {
			half[j] ^= k.mask[j]
		}
		k.block.Encrypt(half, half)
	}
	block, err := aes.NewCipher(secret[:])
	if err != nil {
		panic(err) // the length is right
	}
	return newGCM(block)
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
	var nonce [xnonceSize]byte
	_, _ = rand.Read(nonce[:]) // never fails, by its contract
	out := make([]byte, 0, len(f)+protected)
	out = append(out, f[:HeaderSize]...)
	putLengths(out, headerRaw(f), len(payload)+protected)
	out = append(out, k.ID[:]...)
	out = append(out, nonce[:]...)
	return k.derived(nonce[:]).Seal(out, nonce[nonceSize:], payload, append(out[:12:12], k.ID[:]...))
}

// open returns the payload of an encrypted frame whose checksum is right.
func open(ring Ring, f []byte) ([]byte, error) {
	if ring == nil {
		return nil, ErrLocked
	}
	p := f[HeaderSize:]
	n := nonceSize
	if f[2] == xaes256gcm {
		n = xnonceSize
	}
	if len(p) < keyIDSize+n+tagSize {
		return nil, fmt.Errorf("%w: too short to be encrypted", ErrDamaged)
	}
	id := KeyID(p[:keyIDSize])
	k, err := ring.Key(id)
	if err != nil {
		return nil, err
	}
	nonce, sealed, aead := p[keyIDSize:keyIDSize+n], p[keyIDSize+n:], k.aead
	if f[2] == xaes256gcm {
		aead, nonce = k.derived(nonce), nonce[nonceSize:]
	}
	raw, err := aead.Open(nil, nonce, sealed, append(f[:12:12], id[:]...))
	if err != nil {
		return nil, fmt.Errorf("%w: it was not sealed with the store's key %x", ErrDamaged, id)
	}
	return raw, nil
}
