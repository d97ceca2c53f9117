package engine

import (
	"bufio"
	"encoding/json"

	"dexamen/internal/core/record"
)

// Form is an open form in which records are exported.
type Form struct {
	// Name is also the ending of the file's name: "bson", "jsonl".
	Name string
	// Usage says for people what it is.
	Usage string
}

// Exporter is a Model whose records and definitions have open forms, which other programs
// read.
type Exporter interface {
	Model
	// Forms lists the forms, the usual one first.
	Forms() []Form
	// AppendExported appends a record of a namespace in a form.
	AppendExported(dst []byte, form, namespace string, r record.Record) ([]byte, error)
	// ReadExported calls fn with each record of a namespace that a form holds, in the order in
	// which they were appended. An error says where it is.
	ReadExported(in *bufio.Reader, form, namespace string, fn func(record.Record) error) error
	// DefinitionJSON returns a definition as JSON, and ParseDefinition what that means.
	DefinitionJSON(def []byte) (json.RawMessage, error)
	ParseDefinition(raw json.RawMessage) ([]byte, error)
}
