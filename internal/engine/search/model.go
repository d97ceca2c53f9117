package search

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// model implements [engine.Model].
type model struct{}

var errNoLog = errors.New("search servers keep no log of changes")

func (model) Apply([]byte, *record.Change, bool) ([]byte, error) { return nil, errNoLog }
func (model) Alter([]byte, *record.Change) ([]byte, error)       { return nil, errNoLog }
func (m model) Implied(name string) (record.Kind, []byte)        { return m.Kind(name), nil }
func (model) Traits() engine.Traits {
	return engine.Traits{Incremental: true, SettingsFirst: true}
}
func (model) CheckChange(*record.Change) error        { return nil }
func (model) Staged(name string) bool                 { return strings.HasPrefix(name, stagePrefix) }
func (model) FormatPosition(p record.Position) string { return p.Hex() }
func (model) ParsePosition(s string) (record.Position, error) {
	return "", fmt.Errorf("%q: %w", s, errNoLog)
}

// Kind implements [engine.Model]: no index begins with an underscore.
func (model) Kind(name string) record.Kind {
	if strings.HasPrefix(name, "_") {
		return record.KindSettings
	}
	return indexKind
}

// CheckName implements [engine.Model], by the servers' rules.
func (model) CheckName(name string) error {
	switch {
	case name == "" || name == "." || name == ".." || len(name) > 255:
		return fmt.Errorf("%q is no name of an index: it must have 1 to 255 bytes", name)
	case strings.ContainsAny(name, "\\/*?\"<>| ,#:"):
		return fmt.Errorf(`%q is no name of an index: \ / * ? " < > | space , # and : may not be in one`, name)
	case strings.ContainsAny(name[:1], "-_+"):
		return fmt.Errorf("%q is no name of an index: it may not begin with %s", name, name[:1])
	case strings.ToLower(name) != name:
		return fmt.Errorf("%q is no name of an index: letters in it must be small", name)
	case strings.HasPrefix(name, stagePrefix) || name == workIndex:
		return fmt.Errorf("%q is a name of Dexamen's own", name)
	}
	return nil
}

// Label returns a document's _id, with its routing where it has one.
func (model) Label(value []byte) string {
	if name, ok := definedName(value); ok {
		return name
	}
	d, err := readValue(value)
	if err != nil {
		return "(not readable)"
	}
	if d.Routing != "" {
		return d.ID + " (routing " + d.Routing + ")"
	}
	return d.ID
}

// Render returns the document's line and its source, on one line.
func (model) Render(value []byte) string {
	if _, ok := definedName(value); ok {
		return string(value)
	}
	d, err := readValue(value)
	if err != nil {
		return "(not readable)"
	}
	head := string(value[:len(value)-len(d.source)-1])
	var b bytes.Buffer
	if json.Compact(&b, d.source) != nil {
		return head + " " + strings.ReplaceAll(string(d.source), "\n", " ")
	}
	return head + " " + b.String()
}

// Changes compares top-level fields.
func (model) Changes(a, b []byte) []string {
	da, err1 := readValue(a)
	db, err2 := readValue(b)
	if err1 != nil || err2 != nil {
		return []string{clip(string(a)) + " > " + clip(string(b))}
	}
	var out []string
	if da.Version != db.Version {
		out = append(out, fmt.Sprintf("version: %d > %d", da.Version, db.Version))
	}
	var fa, fb map[string]json.RawMessage
	if json.Unmarshal(da.source, &fa) != nil || json.Unmarshal(db.source, &fb) != nil {
		return append(out, "source: "+clip(string(da.source))+" > "+clip(string(db.source)))
	}
	all := maps.Clone(fa)
	if all == nil {
		all = map[string]json.RawMessage{}
	}
	maps.Copy(all, fb)
	n := len(out)
	for _, k := range slices.Sorted(maps.Keys(all)) {
		va, ina := fa[k]
		vb, inb := fb[k]
		switch {
		case !ina:
			out = append(out, k+": (none) > "+clip(string(vb)))
		case !inb:
			out = append(out, k+": "+clip(string(va))+" > (none)")
		case !bytes.Equal(va, vb):
			out = append(out, k+": "+clip(string(va))+" > "+clip(string(vb)))
		}
	}
	if len(out) == n && !bytes.Equal(da.source, db.source) {
		out = append(out, "source: the same fields, written otherwise")
	}
	return out
}

// clip shortens a text for a line.
func clip(s string) string {
	const most = 60
	if len(s) <= most {
		return s
	}
	n := most
	for n > 0 && !utf8.RuneStart(s[n]) {
		n--
	}
	return s[:n] + "…"
}

// Describe implements [engine.Model].
func (model) Describe(def []byte) []string {
	d, err := decodeDefinition(def)
	if err != nil {
		return []string{"(not readable)"}
	}
	return d.portable().describe()
}

// Portable implements [engine.Model].
func (model) Portable(def []byte) []byte {
	d, err := decodeDefinition(def)
	if err != nil {
		return def
	}
	return d.portable().encode()
}
