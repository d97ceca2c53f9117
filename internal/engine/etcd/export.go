package etcd

import (
	"bufio"
	"encoding/json"
	"fmt"
	"strings"
	"unicode/utf8"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/keyprefix"
)

// Forms implements [engine.Exporter].
func (model) Forms() []engine.Form {
	return []engine.Form{{Name: "jsonl", Usage: "one line of JSON a key"}}
}

// exportedKey is a key as it is exported. What is no UTF-8 is in the fields in base64.
type exportedKey struct {
	Key         string `json:"key,omitempty"`
	KeyBase64   []byte `json:"key_base64,omitempty"`
	Value       string `json:"value,omitempty"`
	ValueBase64 []byte `json:"value_base64,omitempty"`
	Lease       int64  `json:"lease,omitempty"`
}

// AppendExported implements [engine.Exporter]: keys are whole, as servers know them.
func (model) AppendExported(dst []byte, _, namespace string, r record.Record) ([]byte, error) {
	_, v, lease, err := readValue(r.Value)
	if err != nil {
		return dst, err
	}
	prefix, _, err := keyprefix.Cut{Sep: '/'}.Range(namespace)
	if err != nil {
		return dst, err
	}
	key := string(prefix) + string(r.Key)
	e := exportedKey{Lease: lease}
	if e.Key = key; !utf8.ValidString(key) {
		e.Key, e.KeyBase64 = "", []byte(key)
	}
	if e.Value = string(v); !utf8.Valid(v) {
		e.Value, e.ValueBase64 = "", v
	}
	line, err := json.Marshal(e)
	return append(append(dst, line...), '\n'), err
}

// ReadExported implements [engine.Exporter].
func (model) ReadExported(in *bufio.Reader, _, namespace string, fn func(record.Record) error) error {
	prefix, _, err := keyprefix.Cut{Sep: '/'}.Range(namespace)
	if err != nil {
		return err
	}
	dec := json.NewDecoder(in)
	for n := 1; dec.More(); n++ {
		var e exportedKey
		if err := dec.Decode(&e); err != nil {
			return fmt.Errorf("key %d: %w", n, err)
		}
		key, value := e.Key, e.ValueBase64
		if e.KeyBase64 != nil {
			key = string(e.KeyBase64)
		}
		if value == nil {
			value = []byte(e.Value)
		}
		short, ok := strings.CutPrefix(key, string(prefix))
		if !ok {
			return fmt.Errorf("key %d, %q, does not begin as %s", n, key, namespace)
		}
		if err := fn(record.Record{Key: []byte(short),
			Value: appendValue(nil, []byte(short), value, e.Lease)}); err != nil {
			return err
		}
	}
	if _, err := dec.Token(); err == nil {
		return fmt.Errorf("something follows the last key")
	}
	return nil
}

// DefinitionJSON implements [engine.Exporter].
func (model) DefinitionJSON(def []byte) (json.RawMessage, error) { return json.Marshal(string(def)) }

// ParseDefinition implements [engine.Exporter].
func (model) ParseDefinition(raw json.RawMessage) ([]byte, error) {
	var s string
	err := json.Unmarshal(raw, &s)
	return []byte(s), err
}
