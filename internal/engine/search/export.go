package search

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// Forms implements [engine.Exporter].
func (model) Forms() []engine.Form {
	return []engine.Form{{Name: "ndjson", Usage: "one document a line, with its _id, routing and version"}}
}

// exportedDocument is a document as it is exported. A source that is not one line is in
// SourceText.
type exportedDocument struct {
	ID         string          `json:"_id"`
	Routing    string          `json:"routing,omitempty"`
	Version    int64           `json:"version"`
	Generation int64           `json:"generation,omitempty"`
	Source     json.RawMessage `json:"_source,omitempty"`
	SourceText string          `json:"_source_text,omitempty"`
}

// AppendExported implements [engine.Exporter]: the source is byte for byte as the server
// had it.
func (model) AppendExported(dst []byte, _, _ string, r record.Record) ([]byte, error) {
	d, err := readValue(r.Value)
	if err != nil {
		return dst, err
	}
	head, err := encodeJSON(exportedDocument{
		ID: d.ID, Routing: d.Routing, Version: d.Version, Generation: d.Generation})
	if err != nil {
		return dst, err
	}
	dst = append(dst, bytes.TrimRight(head, "}\n")...)
	if bytes.ContainsAny(d.source, "\r\n") || !json.Valid(d.source) {
		text, err := encodeJSON(string(d.source))
		if err != nil {
			return dst, err
		}
		dst = append(append(dst, `,"_source_text":`...), bytes.TrimSpace(text)...)
	} else {
		dst = append(append(dst, `,"_source":`...), d.source...)
	}
	return append(dst, "}\n"...), nil
}

// ReadExported implements [engine.Exporter].
func (model) ReadExported(in *bufio.Reader, _, _ string, fn func(record.Record) error) error {
	dec := json.NewDecoder(in)
	for n := 1; dec.More(); n++ {
		var e exportedDocument
		if err := dec.Decode(&e); err != nil {
			return fmt.Errorf("document %d: %w", n, err)
		}
		d := document{ID: e.ID, Routing: e.Routing, Version: e.Version, Generation: e.Generation, source: e.Source}
		if e.SourceText != "" {
			d.source = []byte(e.SourceText)
		}
		if err := fn(record.Record{Key: d.key(nil), Value: d.appendValue(nil)}); err != nil {
			return err
		}
	}
	return nil
}

// DefinitionJSON implements [engine.Exporter].
func (model) DefinitionJSON(def []byte) (json.RawMessage, error) { return def, nil }

// ParseDefinition implements [engine.Exporter].
func (model) ParseDefinition(raw json.RawMessage) ([]byte, error) {
	d, err := decodeDefinition(raw)
	if err != nil {
		return nil, err
	}
	return d.encode(), nil
}
