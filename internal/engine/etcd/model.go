package etcd

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"google.golang.org/protobuf/encoding/protowire"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/keyprefix"
)

// Kinds and names of namespaces. Those of keys end in a separator, or are names
// that package engine reserves; these do not.
const (
	keysKind record.Kind = "keys"

	leasesName = "leases"
	usersName  = "users"
	rolesName  = "roles"
)

// definition is that of every namespace: a stretch of keys has no options.
var definition = []byte("keys in order")

// Fields of the servers' KeyValue message that a record has.
const (
	fieldKey   = 1
	fieldValue = 5
	fieldLease = 6
)

// appendValue appends a record's value: a KeyValue message.
func appendValue(b, key, value []byte, lease int64) []byte {
	b = protowire.AppendTag(b, fieldKey, protowire.BytesType)
	b = protowire.AppendBytes(b, key)
	b = protowire.AppendTag(b, fieldValue, protowire.BytesType)
	b = protowire.AppendBytes(b, value)
	if lease != 0 {
		b = protowire.AppendTag(b, fieldLease, protowire.VarintType)
		b = protowire.AppendVarint(b, uint64(lease))
	}
	return b
}

// readValue takes a record's value apart. The slices point into b.
func readValue(b []byte) (key, value []byte, lease int64, err error) {
	for len(b) > 0 {
		num, typ, n := protowire.ConsumeTag(b)
		if n < 0 {
			return nil, nil, 0, protowire.ParseError(n)
		}
		b = b[n:]
		switch {
		case typ == protowire.BytesType && (num == fieldKey || num == fieldValue):
			v, n := protowire.ConsumeBytes(b)
			if n < 0 {
				return nil, nil, 0, protowire.ParseError(n)
			}
			if b = b[n:]; num == fieldKey {
				key = v
			} else {
				value = v
			}
		case typ == protowire.VarintType && num == fieldLease:
			v, n := protowire.ConsumeVarint(b)
			if n < 0 {
				return nil, nil, 0, protowire.ParseError(n)
			}
			b, lease = b[n:], int64(v)
		default:
			return nil, nil, 0, fmt.Errorf("field %d is none of a key's record", num)
		}
	}
	return key, value, lease, nil
}

// model implements [engine.RestoreRewriter].
type model struct{ keyprefix.Model }

// Traits implements [engine.Model].
func (model) Traits() engine.Traits {
	return engine.Traits{DropsEmpty: true, Unlogged: []record.Kind{record.KindSettings, record.KindSupport},
		ServedAs: "etcd://%s"}
}

// Apply implements [fold.Model].
func (model) Apply([]byte, *record.Change, bool) ([]byte, error) {
	return nil, errors.New("a log of etcd holds whole values, no changes to them")
}

// Alter implements [fold.Model].
func (model) Alter([]byte, *record.Change) ([]byte, error) {
	return nil, errors.New("a log of etcd holds no changes to definitions")
}

// Implied implements [fold.Model].
func (m model) Implied(name string) (record.Kind, []byte) {
	kind := m.Kind(name)
	if kind == keysKind {
		return kind, definition
	}
	return kind, nil
}

// Staged implements [engine.Model]: content is written in place.
func (model) Staged(string) bool { return false }

// CheckChange implements [engine.Model]: the forms of changes are the adapter's own.
func (model) CheckChange(*record.Change) error { return nil }

// Kind implements [engine.Model].
func (model) Kind(name string) record.Kind {
	switch name {
	case leasesName:
		return record.KindSupport
	case usersName, rolesName:
		return record.KindSettings
	}
	return keysKind
}

// CheckName implements [engine.Model].
func (m model) CheckName(name string) error {
	if m.Kind(name) != keysKind {
		return fmt.Errorf("%q is no beginning of keys", name)
	}
	_, _, err := keyprefix.Cut{Sep: '/'}.Range(name)
	return err
}

// Label returns the key below its namespace's prefix.
func (model) Label(value []byte) string {
	if key, _, _, err := readValue(value); err == nil {
		return text(key, 200)
	}
	if name, ok := settingLabel(value); ok {
		return name
	}
	return "(not readable)"
}

// Render implements [engine.Model].
func (m model) Render(value []byte) string {
	key, v, lease, err := readValue(value)
	if err != nil {
		if s, ok := settingText(value); ok {
			return s
		}
		return "(not readable)"
	}
	out := text(key, 200) + " = " + text(v, 2000)
	if lease != 0 {
		out += fmt.Sprintf("  lease %x", lease)
	}
	return out
}

// text shows bytes as they are where they print, else quoted.
func text(b []byte, most int) string { return keyprefix.Shown(b, most, true) }

// Changes implements [engine.Model].
func (model) Changes(a, b []byte) []string {
	_, va, la, err1 := readValue(a)
	_, vb, lb, err2 := readValue(b)
	if err1 != nil || err2 != nil {
		return []string{"not readable"}
	}
	var out []string
	if !bytes.Equal(va, vb) {
		out = append(out, "value: "+text(va, 60)+" > "+text(vb, 60))
	}
	if la != lb {
		out = append(out, fmt.Sprintf("lease: %x > %x", la, lb))
	}
	return out
}

// FormatPosition returns the revision, the time in milliseconds of one after which
// nothing had happened yet, and which history it is of where that is not the first.
func (model) FormatPosition(pos record.Position) string {
	p, ok := placeOf(pos)
	if !ok {
		return pos.Hex()
	}
	s := strconv.FormatInt(p.rev, 10)
	if p.idle > 0 {
		s += "." + strconv.FormatUint(p.idle, 10)
	}
	if p.epoch > 0 {
		s += "-" + strconv.FormatUint(p.epoch, 10)
	}
	return s
}

// ParsePosition implements [engine.Model].
func (model) ParsePosition(s string) (record.Position, error) {
	var p place
	rest, epoch, later := strings.Cut(s, "-")
	head, idle, still := strings.Cut(rest, ".")
	var err, err2, err3 error
	p.rev, err = strconv.ParseInt(head, 10, 64)
	if still {
		p.idle, err2 = strconv.ParseUint(idle, 10, 63)
	}
	if later {
		p.epoch, err3 = strconv.ParseUint(epoch, 10, 63)
	}
	if errors.Join(err, err2, err3) != nil || p.rev < 0 {
		return "", fmt.Errorf("%q is no revision of an etcd cluster, such as 48211", s)
	}
	return p.position(), nil
}

// Expires implements [engine.Expiring]: a key goes with its lease.
func (model) Expires(value []byte) (time.Time, bool) {
	_, _, lease, err := readValue(value)
	return time.Time{}, err == nil && lease != 0
}

// keyLeases is the choice of what becomes of keys that are bound to a lease.
var keyLeases = engine.RestoreOption{Name: "key-leases", Values: []string{"recreate", "drop", "skip"},
	Usage: "keys bound to a lease: recreate it, drop it (the key stays for good), or skip the key"}

// RestoreOptions implements [engine.RestoreChooser].
func (Driver) RestoreOptions() []engine.RestoreOption { return []engine.RestoreOption{keyLeases} }

// RewriteForRestore implements [engine.RestoreRewriter].
func (model) RewriteForRestore(chosen map[string]string, value []byte) (out []byte, keep bool, note string) {
	how := chosen[keyLeases.Name]
	if how != "drop" && how != "skip" {
		return value, true, ""
	}
	key, v, lease, err := readValue(value)
	switch {
	case err != nil || lease == 0:
		return value, true, ""
	case how == "skip":
		return nil, false, "bound to a lease, left out"
	}
	return appendValue(nil, key, v, 0), true, "bound to a lease, restored without it"
}
