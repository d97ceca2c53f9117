package redis

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/redis/resp"
)

// Forms implements [engine.Exporter].
func (model) Forms() []engine.Form {
	return []engine.Form{
		{Name: "resp", Usage: "commands in the servers' own protocol, which make the keys on any of them"}}
}

// AppendExported implements [engine.Exporter]. Before the commands of each record comes a
// PING that carries the record's key in hexadecimal digits, which does nothing on servers:
// of a large key it says which of its records follows, and of its head which type it is.
func (model) AppendExported(dst []byte, _, namespace string, r record.Record) ([]byte, error) {
	_, prefix, _, err := split(namespace)
	if err != nil {
		return dst, err
	}
	name := hex.EncodeToString(r.Key)
	if args, _, err := resp.ReadCommand(r.Value); err == nil && string(args[0]) == typeVerb && len(args) == 3 {
		// The head of a large key is no command of servers.
		return resp.AppendCommand(dst, []byte("PING"), []byte(name+":"+string(args[2]))), nil
	}
	dst = resp.AppendCommand(dst, []byte("PING"), []byte(name))
	err = resp.ReadCommands(r.Value, func(args [][]byte) error {
		if i := keyArg(args); i < len(args) {
			args = slices.Clone(args)
			args[i] = append(slices.Clone(prefix), args[i]...)
		}
		dst = resp.AppendCommand(dst, args...)
		return nil
	})
	return dst, err
}

// ReadExported implements [engine.Exporter]. Commands without a PING before them, which
// somebody has added, are of the key that they name.
func (model) ReadExported(in *bufio.Reader, _, namespace string, fn func(record.Record) error) error {
	_, prefix, _, err := split(namespace)
	if err != nil {
		return err
	}
	var r record.Record
	var named []byte // the key that the commands name
	end := func() error {
		if r.Key == nil {
			return nil
		}
		done := r
		r, named = record.Record{}, nil
		return fn(done)
	}
	for n := 1; ; n++ {
		args, err := readExportedCommand(in)
		if errors.Is(err, io.EOF) {
			return end()
		}
		if err != nil {
			return fmt.Errorf("command %d: %w", n, err)
		}
		if strings.EqualFold(string(args[0]), "PING") && len(args) == 2 {
			if err := end(); err != nil {
				return err
			}
			name, typ, head := strings.Cut(string(args[1]), ":")
			if r.Key, err = hex.DecodeString(name); err != nil {
				return fmt.Errorf("command %d: PING %q: %w", n, args[1], err)
			}
			_, short, err := unitOf(r.Key)
			if err != nil {
				return fmt.Errorf("command %d: PING %q: %w", n, args[1], err)
			}
			if head {
				r.Value = resp.AppendCommand(nil, []byte(typeVerb), short, []byte(typ))
			}
			continue
		}
		i := keyArg(args)
		if i >= len(args) {
			return fmt.Errorf("command %d: %s names no key", n, args[0])
		}
		short, ok := bytes.CutPrefix(args[i], prefix)
		if !ok {
			return fmt.Errorf("command %d: the key %q does not begin as %s", n, args[i], namespace)
		}
		if named != nil && !bytes.Equal(named, short) || r.Key == nil {
			if err := end(); err != nil {
				return err
			}
			r.Key = unitKey(short)
		}
		named = bytes.Clone(short)
		args[i] = short
		r.Value = resp.AppendCommand(r.Value, args...)
	}
}

// readExportedCommand reads one command; io.EOF where there is none.
func readExportedCommand(in *bufio.Reader) ([][]byte, error) {
	if _, err := in.Peek(1); err != nil {
		return nil, err
	}
	return (&resp.Wire{R: in}).Command()
}

// DefinitionJSON implements [engine.Exporter].
func (model) DefinitionJSON(def []byte) (json.RawMessage, error) { return json.Marshal(string(def)) }

// ParseDefinition implements [engine.Exporter].
func (model) ParseDefinition(raw json.RawMessage) ([]byte, error) {
	var s string
	err := json.Unmarshal(raw, &s)
	return []byte(s), err
}
