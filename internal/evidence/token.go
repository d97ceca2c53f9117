package evidence

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
)

// ErrForged is returned when a line is not what its signature was made for, or no line at all.
var ErrForged = errors.New("it is not as it was signed")

// MaxLine bounds a line, in bytes.
const MaxLine = 16 << 20

// header is the protected header of a line. Its fields are in this order, so that there is one
// text of it for each key.
type header struct {
	Algorithm string `json:"alg"`
	Type      string `json:"typ"`
	Key       jwk    `json:"jwk"`
}

// jwk is an Ed25519 public key as RFC 8037 has it. Its fields are in the order that RFC 7638
// has them in for a thumbprint.
type jwk struct {
	Curve string `json:"crv"`
	Type  string `json:"kty"`
	X     string `json:"x"`
}

const tokenType = "dexamen-evidence"

// strict refuses texts that stand for the same bytes and are written otherwise.
var strict = base64.RawURLEncoding.Strict()

func keyOf(public ed25519.PublicKey) jwk { return jwk{"Ed25519", "OKP", strict.EncodeToString(public)} }

// Thumbprint names a public key: the SHA-256 of its JSON form (RFC 7638), in base64url.
func Thumbprint(public ed25519.PublicKey) string {
	raw, _ := json.Marshal(keyOf(public)) // never fails for strings
	sum := sha256.Sum256(raw)
	return strict.EncodeToString(sum[:])
}

// Sign returns a statement as a line, without its end.
func Sign(key ed25519.PrivateKey, s *Statement) (string, error) {
	head, err := json.Marshal(header{"EdDSA", tokenType, keyOf(key.Public().(ed25519.PublicKey))})
	if err != nil {
		return "", err
	}
	said := *s
	said.Key = ""
	body, err := json.Marshal(said)
	if err != nil {
		return "", err
	}
	signed := strict.EncodeToString(head) + "." + strict.EncodeToString(body)
	return signed + "." + strict.EncodeToString(ed25519.Sign(key, []byte(signed))), nil
}

// Parse reads a line and checks its signature by the key that the line itself names: whose key
// that is must be known otherwise. [ErrForged] is returned where it is not as it was signed.
func Parse(line string) (*Statement, ed25519.PublicKey, error) {
	parts := strings.Split(line, ".")
	if len(parts) != 3 {
		return nil, nil, fmt.Errorf("%w: a line has three parts, and this has %d", ErrForged, len(parts))
	}
	var raw [3][]byte
	for i, p := range parts {
		var err error
		// A decoder passes over line ends, and there is one text of each line.
		if raw[i], err = strict.DecodeString(p); err != nil || strings.ContainsAny(p, "\r\n") {
			return nil, nil, fmt.Errorf("%w: part %d is no base64url", ErrForged, i+1)
		}
	}
	var h header
	if err := decode(raw[0], &h); err != nil || h.Algorithm != "EdDSA" || h.Type != tokenType {
		return nil, nil, fmt.Errorf("%w: its header is not of evidence signed with Ed25519", ErrForged)
	}
	public, err := strict.DecodeString(h.Key.X)
	if err != nil || len(public) != ed25519.PublicKeySize || keyOf(public) != h.Key {
		return nil, nil, fmt.Errorf("%w: its header has no Ed25519 key", ErrForged)
	}
	if !ed25519.Verify(public, []byte(parts[0]+"."+parts[1]), raw[2]) {
		return nil, nil, fmt.Errorf("%w: the signature is of something else", ErrForged)
	}
	s := new(Statement)
	if err := json.Unmarshal(raw[1], s); err != nil {
		return nil, nil, fmt.Errorf("%w: %w", ErrForged, err)
	}
	if s.Format != Format {
		return nil, nil, fmt.Errorf("its form is %d, and this program knows %d; take a newer one", s.Format, Format)
	}
	if s.Key != "" {
		return nil, nil, fmt.Errorf("%w: it names its own key", ErrForged)
	}
	s.Key = Thumbprint(public)
	return s, public, nil
}

// decode reads JSON that has these fields only.
func decode(raw []byte, v any) error {
	d := json.NewDecoder(bytes.NewReader(raw))
	d.DisallowUnknownFields()
	return d.Decode(v)
}

// Digest returns what the line after this one calls it.
func Digest(line string) string {
	sum := sha256.Sum256([]byte(line))
	return hex.EncodeToString(sum[:])
}
