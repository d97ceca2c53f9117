package frame

import (
	"bytes"
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestXAES gives what the specification's examples give.
func TestXAES(t *testing.T) {
	for _, c := range []struct {
		key       byte
		aad, want string
	}{
		{1, "", "ce546ef63c9cc60765923609b33a9a1974e96e52daf2fcf7075e2271"},
		{3, "c2sp.org/XAES-256-GCM", "986ec1832593df5443a179437fd083bf3fdb41abd740a21f71eb769d"},
	} {
		k := NewKey(KeyID{}, [32]byte(bytes.Repeat([]byte{c.key}, 32)))
		nonce := []byte("ABCDEFGHIJKLMNOPQRSTUVWX")
		got := k.derived(nonce).Seal(nil, nonce[nonceSize:], []byte("XAES-256-GCM"), []byte(c.aad))
		require.Equal(t, c.want, hex.EncodeToString(got))
	}
}
