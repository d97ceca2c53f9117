package docsim

import (
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// Odd is how a stand-in behaves otherwise than the documentation says, as some
// servers do that speak the protocol their own way.
type Odd struct {
	// RenameLoses: a collection loses its options when it is renamed.
	// RenameElsewhere: it comes to have another name than was asked for.
	// RenameRefuses: names that hold this are refused.
	RenameLoses     bool
	RenameElsewhere bool
	RenameRefuses   string
	// ListsAll: listCollections does not heed its filter.
	ListsAll bool
	// OneIdent: the log tells one uuid for all collections.
	OneIdent bool
	// SharedPositions: a transaction's operations are entries of their own, under
	// one timestamp.
	SharedPositions bool
	// RawOperators: an update is logged as it was asked for.
	RawOperators bool
	// ClockRunsOn: the optimes go on while nothing is written; no entry has them.
	ClockRunsOn bool
	// HidesLog: the log can be read and is not listed. DeniesLog: it is listed
	// and may not be read.
	HidesLog, DeniesLog bool
	// Silent: what concerns a namespace as a whole is not logged.
	Silent bool
	// Hides leaves entries out of the log: OP:NAME, where NAME is what is done ("c:collMod") or how the name of the
	// collection begins ("i:system.buckets."); "d:" are all deletes.
	Hides string
	// RolesForNothing: whoever is let in may do everything.
	RolesForNothing bool
	// Wire is the newest version of the wire protocol that it speaks; 21 when zero.
	Wire int
	// BreaksReading and BreaksWriting are the _id of a document over which the server breaks the
	// connection off, when it is read or written.
	BreaksReading, BreaksWriting string
	// LosesAnswer is the _id of a document after whose insertion the server breaks the connection off.
	LosesAnswer string
}

// breaks breaks the connection off over a document of this _id.
func (s *session) breaks(doc bson.Raw, at string) bool {
	if id, ok := doc.Lookup("_id").StringValueOK(); !ok || at == "" || id != at {
		return false
	}
	_ = s.conn.Close()
	return true
}

func (o Odd) wire() int32 {
	if o.Wire != 0 {
		return int32(o.Wire)
	}
	return 21
}

// renamed returns the name that a collection really gets.
func (o *Odd) renamed(to string) (string, error) {
	if o.RenameRefuses != "" && strings.Contains(to, o.RenameRefuses) {
		return "", refuse(73, "InvalidNamespace", "Invalid collection name: %s", to)
	}
	if o.RenameElsewhere {
		to += "_moved"
	}
	return to, nil
}

// logged returns an entry as an odd server writes it; nil where it writes none.
func (o *Odd) logged(fields bson.D) bson.D {
	op, _ := lookup(fields, "op").(string)
	if kind, what, ok := strings.Cut(o.Hides, ":"); ok && kind == op {
		name := ""
		if ns, _ := lookup(fields, "ns").(string); op != "c" {
			_, name, _ = strings.Cut(ns, ".")
		} else if doc, ok := lookup(fields, "o").(bson.D); ok && len(doc) > 0 {
			name = doc[0].Key
		}
		if strings.HasPrefix(name, what) {
			return nil
		}
	}
	if doc, ok := lookup(fields, "o").(bson.D); o.Silent && op == "c" && ok && lookup(doc, "applyOps") == nil {
		return nil
	}
	if !o.OneIdent {
		return fields
	}
	out := make(bson.D, len(fields))
	copy(out, fields)
	for i, e := range out {
		if e.Key == "ui" {
			out[i].Value = uuidValue([16]byte{1, 2, 3})
		}
	}
	return out
}

// optime returns the time that a server tells where its last entry has another.
func (o *Odd) optime(ts bson.Timestamp) bson.Timestamp {
	if o.ClockRunsOn && ts.T > 0 {
		return bson.Timestamp{T: max(ts.T, uint32(time.Now().Unix())),
			I: ts.I + 1 + uint32(time.Now().Nanosecond()/1e6)}
	}
	return ts
}
