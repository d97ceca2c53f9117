package evidence

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"dexamen/internal/core/blob"
)

const (
	privateBlock = "PRIVATE KEY" // PKCS #8, RFC 5958
	publicBlock  = "PUBLIC KEY"  // SubjectPublicKeyInfo, RFC 5280
)

// ParseKey reads an Ed25519 private key in PEM, as HostKey writes it, and as openssl genpkey does.
func ParseKey(text []byte) (ed25519.PrivateKey, error) {
	block, _ := pem.Decode(text)
	if block == nil || block.Type != privateBlock {
		return nil, errors.New("it is no private key in PEM; make one with: openssl genpkey -algorithm ed25519")
	}
	k, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, err
	}
	key, ok := k.(ed25519.PrivateKey)
	if !ok {
		return nil, errors.New("it is a key of another kind than Ed25519; make one with: openssl genpkey " +
			"-algorithm ed25519")
	}
	return key, nil
}

// ParsePublic reads the Ed25519 public keys of a text in PEM, as [PublicText] writes it.
func ParsePublic(text []byte) (out []ed25519.PublicKey, err error) {
	for block, rest := pem.Decode(text); block != nil; block, rest = pem.Decode(rest) {
		if block.Type != publicBlock {
			return nil, fmt.Errorf("it holds a %s; dexamen evidence key prints the public key", block.Type)
		}
		k, err := x509.ParsePKIXPublicKey(block.Bytes)
		if err != nil {
			return nil, err
		}
		key, ok := k.(ed25519.PublicKey)
		if !ok {
			return nil, errors.New("it is a key of another kind than Ed25519")
		}
		out = append(out, key)
	}
	if len(out) == 0 {
		return nil, errors.New("there is no public key in PEM in it; dexamen evidence key prints one")
	}
	return out, nil
}

// PublicText returns a public key in PEM.
func PublicText(key ed25519.PublicKey) string {
	der, err := x509.MarshalPKIXPublicKey(key)
	if err != nil {
		panic(err) // of no Ed25519 key
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: publicBlock, Bytes: der}))
}

// HostKey returns the key that this host's user keeps in a folder; it is made where there is none.
func HostKey(folder string) (ed25519.PrivateKey, error) {
	file := filepath.Join(folder, "key.pem")
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		if err := makeKey(folder, file); err != nil {
			return nil, fmt.Errorf("a key that evidence is signed with cannot be made: %w", err)
		}
		text, err = os.ReadFile(file)
	}
	if err != nil {
		return nil, err
	}
	key, err := ParseKey(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return key, nil
}

// makeKey writes a new key; where another process was faster its key stays.
func makeKey(folder, file string) error {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(folder, ".new-*") // of mode 0600
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(f.Name()) }()
	_, err = f.Write(pem.EncodeToMemory(&pem.Block{Type: privateBlock, Bytes: der}))
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Link(f.Name(), file); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return blob.SyncFolder(folder)
}
