// Package remedy lets errors say what would help, without the words for it: the
// packages that find something wrong know neither commands nor flags. Package
// explain words it where those are known.
package remedy

import "errors"

// Kind names what would help.
type Kind string

// What can be done about an error. Of and Other of a Remedy are what is said
// behind each.
const (
	// Snapshot is to take a point of a cluster (of).
	Snapshot Kind = "snapshot"
	// FirstSnapshot is to take the first point of a cluster (of).
	FirstSnapshot Kind = "first snapshot"
	// Points is to restore what points hold (of a cluster), and to take a new one.
	Points Kind = "points"
	// Capture is to capture the log of a cluster (of).
	Capture Kind = "capture"
	// ScratchServer is to name a scratch server, or to take a point's address (of).
	ScratchServer Kind = "scratch server"
	// Salvage is to restore what can be read.
	Salvage Kind = "salvage"
	// Beside is to restore a namespace (of) under another name, or to replace what
	// is there.
	Beside Kind = "beside"
	// BesideOrDrop is to restore a namespace (of) under another name, or to drop
	// what is there first.
	BesideOrDrop Kind = "beside or drop"
	// Replace is to run a restore again, replacing what is there.
	Replace Kind = "replace"
	// ReplaceOne is that replacing would put something back.
	ReplaceOne Kind = "replace one"
	// Sharded is to restore onto a sharded cluster: of several shards, records may have one key.
	Sharded Kind = "sharded"
	// Trust is to look at a server's certificate and to trust it.
	Trust Kind = "trust"
	// TrustHost is to look at the host keys of a cluster's machines (of) and to trust them.
	TrustHost Kind = "trust host"
	// ShardLogins is to make a login of a cluster (of) on its shards too.
	ShardLogins Kind = "shard logins"
	// ChooseStore is to say which store is meant, also for a cluster (of).
	ChooseStore Kind = "choose store"
	// WriteConfig is to begin with a configuration file.
	WriteConfig Kind = "write config"
	// Reach is to see whether a cluster (of) is up, and its address right.
	Reach Kind = "reach"
	// SampleConfig is to compare with a configuration that is right.
	SampleConfig Kind = "sample config"
	// OtherPlace is to use what is there, or to name another place.
	OtherPlace Kind = "other place"
	// Keys is to make a key, or to list those that open a store (of).
	Keys Kind = "keys"
	// StoreIdentity is to find out which store is at the place, and whether it is to be used.
	StoreIdentity Kind = "store identity"
	// Scrub is to have the store looked through, and repaired.
	Scrub Kind = "scrub"
)

// Remedy is what would help.
type Remedy struct {
	Kind Kind
	Of   string
}

// Remedied is an error that knows what would help.
type Remedied interface {
	error
	Remedy() Remedy
}

type remedied struct {
	error
	r Remedy
}

func (e *remedied) Remedy() Remedy { return e.r }
func (e *remedied) Unwrap() error  { return e.error }

// With returns an error that says the same as err, and knows what would help.
func With(err error, kind Kind, of string) error { return &remedied{err, Remedy{kind, of}} }

// All returns what would help about an error and all that it wraps, without
// doubles, the outermost first.
func All(err error) []Remedy {
	var out []Remedy
	seen := map[Remedy]bool{}
	var walk func(error)
	walk = func(err error) {
		r, ok := err.(Remedied) //nolint:errorlint // every level is looked at by itself
		if ok && !seen[r.Remedy()] {
			seen[r.Remedy()] = true
			out = append(out, r.Remedy())
		}
		switch e := err.(type) { //nolint:errorlint // as above
		case interface{ Unwrap() error }:
			if in := e.Unwrap(); in != nil {
				walk(in)
			}
		case interface{ Unwrap() []error }:
			for _, in := range e.Unwrap() {
				walk(in)
			}
		}
	}
	if err != nil {
		walk(err)
	}
	return out
}

// Plain returns an error of this text that knows what would help.
func Plain(text string, kind Kind, of string) error { return With(errors.New(text), kind, of) }
