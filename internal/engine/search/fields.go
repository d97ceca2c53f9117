package search

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
)

// KeysNamed implements [engine.Inspector]: a text is an _id, or an _id with its routing as
// [model.Label] writes it. Of a data stream's documents it is of any of its first
// generations.
func (model) KeysNamed(_, text string) [][]byte {
	var out [][]byte
	id, routing, ok := strings.Cut(strings.TrimSuffix(text, ")"), " (routing ")
	if ok && strings.HasSuffix(text, ")") {
		out = append(out, appendKey(nil, id, routing))
	}
	out = append(out, appendKey(nil, text, ""))
	const generations = 100
	for g := int64(1); g <= generations; g++ {
		d := document{ID: text, Generation: g}
		out = append(out, d.key(nil))
	}
	return out
}

// Fields implements [engine.Inspector]: the fields of the source, and _id, _routing and
// _version. Numbers that are whole are so.
func (model) Fields(value []byte) (map[string]any, bool, error) {
	if _, ok := definedName(value); ok {
		return nil, false, nil
	}
	d, err := readValue(value)
	if err != nil {
		return nil, false, err
	}
	dec := json.NewDecoder(bytes.NewReader(d.source))
	dec.UseNumber()
	fields := map[string]any{}
	if err := dec.Decode(&fields); err != nil {
		return nil, false, fmt.Errorf("document %s: its source is not readable: %w", d.ID, err)
	}
	for k, v := range fields {
		fields[k] = plainNumbers(v)
	}
	fields["_id"], fields["_routing"], fields["_version"] = d.ID, d.Routing, d.Version
	return fields, true, nil
}

// plainNumbers makes numbers of a decoded source integers where they are whole.
func plainNumbers(v any) any {
	switch v := v.(type) {
	case json.Number:
		if n, err := v.Int64(); err == nil {
			return n
		}
		if f, err := v.Float64(); err == nil {
			return f
		}
		return v.String()
	case []any:
		for i := range v {
			v[i] = plainNumbers(v[i])
		}
	case map[string]any:
		for k := range v {
			v[k] = plainNumbers(v[k])
		}
	}
	return v
}
