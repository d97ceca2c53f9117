package document

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/document/bsonkey"
)

// Forms implements [engine.Exporter].
func (model) Forms() []engine.Form {
	return []engine.Form{{Name: "bson", Usage: "BSON documents, one after the other"},
		{Name: "jsonl", Usage: "canonical Extended JSON, one document a line"}}
}

// AppendExported implements [engine.Exporter].
func (model) AppendExported(dst []byte, form, _ string, r record.Record) ([]byte, error) {
	if form == "bson" {
		return append(dst, r.Value...), nil
	}
	line, err := bson.MarshalExtJSON(bson.Raw(r.Value), true, false)
	if err == nil {
		var back []byte
		if back, err = parseExtended(line); err == nil && bytes.Equal(back, r.Value) {
			return append(append(dst, line...), '\n'), nil
		}
	}
	// Extended JSON has no form for it: a field's name is one that it uses itself, a name is in
	// it twice.
	line, err = json.Marshal(asBSON{r.Value})
	return append(append(dst, line...), '\n'), err
}

// asBSON is a line for a document that Extended JSON has no form for.
type asBSON struct {
	BSON []byte `json:"_bson"` // in base64
}

func parseExtended(line []byte) ([]byte, error) {
	var raw asBSON
	if bytes.HasPrefix(line, []byte(`{"_bson":`)) && json.Unmarshal(line, &raw) == nil && raw.BSON != nil {
		return raw.BSON, bson.Raw(raw.BSON).Validate()
	}
	var doc bson.D
	if err := bson.UnmarshalExtJSON(line, true, &doc); err != nil {
		return nil, err
	}
	return bson.Marshal(doc)
}

// maxDocument is more than any document has, in bytes.
const maxDocument = 64 << 20

// ReadExported implements [engine.Exporter].
func (model) ReadExported(in *bufio.Reader, form, _ string, fn func(record.Record) error) error {
	for n := 1; ; n++ {
		doc, err := nextDocument(in, form)
		if errors.Is(err, io.EOF) {
			return nil
		}
		var key []byte
		if err == nil {
			key, err = bsonkey.Of(doc)
		}
		if err != nil {
			return fmt.Errorf("document %d: %w", n, err)
		}
		if err := fn(record.Record{Key: key, Value: doc}); err != nil {
			return err
		}
	}
}

// nextDocument reads one document; io.EOF where there is none.
func nextDocument(in *bufio.Reader, form string) ([]byte, error) {
	if form == "bson" {
		head, err := in.Peek(4)
		if len(head) == 0 && errors.Is(err, io.EOF) {
			return nil, io.EOF
		}
		if err != nil {
			return nil, fmt.Errorf("it is cut short: %w", io.ErrUnexpectedEOF)
		}
		size := binary.LittleEndian.Uint32(head)
		if size < 5 || size > maxDocument {
			return nil, fmt.Errorf("a length of %d bytes is none of a document", size)
		}
		doc := make([]byte, size)
		if _, err := io.ReadFull(in, doc); err != nil {
			return nil, fmt.Errorf("it is cut short: %w", io.ErrUnexpectedEOF)
		}
		return doc, bson.Raw(doc).Validate()
	}
	for {
		line, err := in.ReadBytes('\n')
		if len(bytes.TrimSpace(line)) == 0 {
			if err != nil {
				return nil, err
			}
			continue
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
		return parseExtended(line)
	}
}

// DefinitionJSON implements [engine.Exporter].
func (model) DefinitionJSON(def []byte) (json.RawMessage, error) {
	return bson.MarshalExtJSON(bson.Raw(def), true, false)
}

// ParseDefinition implements [engine.Exporter].
func (model) ParseDefinition(raw json.RawMessage) ([]byte, error) {
	var doc bson.D
	if err := bson.UnmarshalExtJSON(raw, true, &doc); err != nil {
		return nil, err
	}
	b, err := bson.Marshal(doc)
	if err != nil {
		return nil, err
	}
	_, err = decodeDefinition(b)
	return b, err
}
