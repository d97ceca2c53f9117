package search

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
)

// document is a document as a record has it.
type document struct {
	ID      string `json:"_id"`
	Routing string `json:"routing,omitempty"`
	Version int64  `json:"version"`
	// Generation is that of the index of a data stream; 0 elsewhere.
	Generation int64  `json:"generation,omitempty"`
	source     []byte // as the server has it
}

// key returns the key: the generation in data streams, the _id, and the routing, which
// belongs to the identity. Zero bytes are escaped, so that keys order as ids do.
func (d *document) key(dst []byte) []byte {
	if d.Generation > 0 {
		dst = binary.BigEndian.AppendUint64(dst, uint64(d.Generation))
	}
	return appendKey(dst, d.ID, d.Routing)
}

func appendKey(dst []byte, id, routing string) []byte {
	for i := range len(id) {
		if dst = append(dst, id[i]); id[i] == 0 {
			dst = append(dst, 0xFF)
		}
	}
	if routing != "" {
		dst = append(append(dst, 0, 0), routing...)
	}
	return dst
}

// appendValue appends the record's value: a line about the document, and its source.
func (d *document) appendValue(dst []byte) []byte {
	dst = append(dst, `{"_id":`...)
	dst = appendText(dst, d.ID)
	if d.Routing != "" {
		dst = append(dst, `,"routing":`...)
		dst = appendText(dst, d.Routing)
	}
	dst = append(dst, `,"version":`...)
	dst = strconv.AppendInt(dst, d.Version, 10)
	if d.Generation > 0 {
		dst = append(dst, `,"generation":`...)
		dst = strconv.AppendInt(dst, d.Generation, 10)
	}
	return append(append(dst, "}\n"...), d.source...)
}

func appendText(dst []byte, s string) []byte {
	for i := range len(s) {
		if c := s[i]; c < ' ' || c == '"' || c == '\\' || c > '~' {
			b, _ := encodeJSON(s) // of a string there always is one
			return append(dst, b...)
		}
	}
	return append(append(append(dst, '"'), s...), '"')
}

// readValue takes a record's value apart. The source points into b.
func readValue(b []byte) (d document, err error) {
	line, source, ok := bytes.Cut(b, []byte("\n"))
	if !ok {
		return d, errors.New("a record has no line about its document")
	}
	if err := json.Unmarshal(line, &d); err != nil {
		return d, fmt.Errorf("a record's line about its document: %w", err)
	}
	d.source = source
	return d, nil
}

// bulkable reports whether a source can be a line of a bulk request: one with a line
// break in it, or that ends in a carriage return, would not come back as it is.
func bulkable(source []byte) bool {
	return bytes.IndexByte(source, '\n') < 0 && !bytes.HasSuffix(source, []byte("\r"))
}
