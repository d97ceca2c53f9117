package document

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// RestoreOptions implements [engine.RestoreChooser].
func (Driver) RestoreOptions() []engine.RestoreOption { return []engine.RestoreOption{expiryOption} }

const expiryOff = "off"

var expiryOption = engine.RestoreOption{Name: "ttl", Values: []string{"as-it-was", expiryOff},
	Usage: "what expires in document clusters: as it was, or off, so that what is over stays until it is turned on"}

// expiry is a rule by which servers remove documents once they are over ("TTL Indexes").
type expiry struct {
	what  string // for people
	field string
	after time.Duration
	on    string // the command that turns it on again
}

// Fit implements [engine.Fitter]. Servers remove what is over by a TTL index within a minute of its restore: how much
// that is is said beforehand, and with ttl off nothing expires before somebody turns it on.
func (w *writer) Fit(_ context.Context, ns record.Namespace, _ string, chosen map[string]string) (engine.Fitted,
	error) {
	out := engine.Fitted{Definition: ns.Definition}
	d, err := decodeDefinition(ns.Definition)
	if err != nil {
		return out, fmt.Errorf("%s: %w", ns.Name, err)
	}
	if d.capped() {
		out.Notes = append(out.Notes, ns.Name+" is capped: its documents come back in the order of their _id, "+
			"which is that of their insertion only where these grow")
	}
	rules, err := d.expiries(ns)
	if err != nil || len(rules) == 0 {
		return out, err
	}
	if chosen[expiryOption.Name] == expiryOff {
		if err := d.withoutExpiry(); err != nil {
			return out, err
		}
		out.Definition = d.encode()
		for _, r := range rules {
			out.Notes = append(out.Notes, fmt.Sprintf("%s: %s is off; turn it on with: %s", ns.Name, r.what, r.on))
		}
		return out, nil
	}
	now := time.Now()
	out.Notice = func(value []byte) string {
		for _, r := range rules {
			if r.over(value, now) {
				return "over by " + r.what + ": servers remove that within a minute or so; --ttl off keeps it"
			}
		}
		return ""
	}
	return out, nil
}

// capped reports whether it is of a capped collection, which keeps the order of insertion.
func (d *definition) capped() bool {
	i := indexOf(d.options, "capped")
	return i >= 0 && truthOf(d.options[i].val)
}

// InOrder implements [engine.Sequencer]: what a capped collection forgets first is what was written first.
func (w *writer) InOrder(ns record.Namespace) bool {
	d, err := decodeDefinition(ns.Definition)
	return err == nil && d.capped()
}

// expiries returns the rules of a namespace.
func (d *definition) expiries(ns record.Namespace) ([]expiry, error) {
	db, coll, _ := strings.Cut(ns.Name, ".")
	command := func(more string) string {
		return fmt.Sprintf("db.getSiblingDB(%q).runCommand({ collMod: %q, %s })", db, coll, more)
	}
	var out []expiry
	for _, s := range d.indexes {
		fs, err := parseFields(s.spec)
		if err != nil {
			return nil, err
		}
		i, key := indexOf(fs, "expireAfterSeconds"), mustElements(bsoncore.Document(s.spec).Lookup("key"))
		if i < 0 || len(key) != 1 {
			continue
		}
		n, _ := fs[i].val.AsInt64OK()
		out = append(out, expiry{"index " + s.name, key[0].Key(), time.Duration(n) * time.Second,
			command(fmt.Sprintf("index: { name: %q, expireAfterSeconds: %d }", s.name, n))})
	}
	if i := indexOf(d.options, "expireAfterSeconds"); i >= 0 {
		n, _ := d.options[i].val.AsInt64OK()
		field := "_id"
		if at := indexOf(d.options, "timeseries"); at >= 0 {
			name, _ := bsoncore.Document(d.options[at].val.Data).Lookup("timeField").StringValueOK()
			field = "control.max." + name
		}
		out = append(out, expiry{"the collection's expiry", field, time.Duration(n) * time.Second,
			command("expireAfterSeconds: " + strconv.FormatInt(n, 10))})
	}
	return out, nil
}

// withoutExpiry takes all rules away.
func (d *definition) withoutExpiry() error {
	d.set("expireAfterSeconds", nil)
	for i, s := range d.indexes {
		fs, err := parseFields(s.spec)
		if err != nil {
			return err
		}
		fs = slices.DeleteFunc(fs, func(f field) bool { return f.name == "expireAfterSeconds" })
		d.indexes[i] = canonicalIndex(fs)
	}
	return nil
}

// over reports whether a document is over: its date, or the earliest of an array's, is older than the rule allows.
func (r expiry) over(doc []byte, now time.Time) bool {
	v := bsoncore.Document(doc).Lookup(strings.Split(r.field, ".")...)
	dates := []bsoncore.Value{v}
	if list, ok := v.ArrayOK(); ok {
		dates, _ = list.Values()
	}
	return slices.ContainsFunc(dates, func(v bsoncore.Value) bool {
		ms, ok := v.DateTimeOK()
		return ok && time.UnixMilli(ms).Add(r.after).Before(now)
	})
}
