package etcd

import (
	"strings"

	"dexamen/internal/engine/keyprefix"
)

// KeysNamed implements [engine.Inspector]: a key may be named whole, or without the
// beginning that is its namespace's name.
func (model) KeysNamed(namespace, text string) [][]byte {
	out := [][]byte{[]byte(text)}
	if prefix, _, err := (keyprefix.Cut{Sep: '/'}).Range(namespace); err == nil && len(prefix) > 0 &&
		strings.HasPrefix(text, string(prefix)) {
		out = [][]byte{[]byte(text[len(prefix):]), []byte(text)}
	}
	return out
}

// Fields implements [engine.Inspector]: key, value, lease (0: none).
func (model) Fields(value []byte) (map[string]any, bool, error) {
	key, v, lease, err := readValue(value)
	if err != nil {
		if _, ok := settingText(value); ok {
			return nil, false, nil
		}
		return nil, false, err
	}
	return map[string]any{"key": string(key), "value": string(v), "lease": lease}, true, nil
}
