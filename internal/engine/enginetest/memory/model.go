package memory

import (
	"bytes"
	"errors"
	"fmt"
	"strings"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

const contentKind record.Kind = "map"

var definition = []byte("a map")

// model implements [engine.Model].
type model struct{}

func (model) Apply([]byte, *record.Change, bool) ([]byte, error) {
	return nil, errors.New("it logs no patches")
}
func (model) Alter(def []byte, _ *record.Change) ([]byte, error) { return def, nil }
func (model) Implied(string) (record.Kind, []byte)               { return contentKind, definition }
func (model) Traits() engine.Traits                              { return engine.Traits{} }
func (model) CheckChange(*record.Change) error                   { return nil }
func (model) Kind(string) record.Kind                            { return contentKind }
func (model) Staged(name string) bool                            { return strings.HasPrefix(name, stagePrefix) }
func (model) Render(value []byte) string                         { return string(value) }
func (model) Changes(a, b []byte) []string                       { return []string{string(a) + " → " + string(b)} }
func (model) Describe(def []byte) []string                       { return []string{string(def)} }
func (model) Portable(def []byte) []byte                         { return def }
func (model) FormatPosition(p record.Position) string            { return string(p) }

func (model) CheckName(name string) error {
	if name == "" || strings.HasPrefix(name, stagePrefix) {
		return fmt.Errorf("%q is no name of a map", name)
	}
	return nil
}

func (model) Label(value []byte) string {
	key, _, _ := bytes.Cut(value, []byte("="))
	return string(key)
}

func (model) ParsePosition(s string) (record.Position, error) {
	if len(s) != 8 || strings.Trim(s, "0123456789") != "" {
		return "", fmt.Errorf("%q is no position: eight digits are", s)
	}
	return record.Position(s), nil
}

// KeysNamed implements [engine.Inspector].
func (model) KeysNamed(_, text string) [][]byte { return [][]byte{[]byte(text)} }

// Fields implements [engine.Inspector]: the value.
func (model) Fields(value []byte) (map[string]any, bool, error) {
	return map[string]any{"value": string(value)}, true, nil
}
