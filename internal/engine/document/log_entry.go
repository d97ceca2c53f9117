package document

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"

	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
	"dexamen/internal/engine/document/bsonkey"
)

// ErrEntry means that a log entry has a form this version does not know.
var ErrEntry = errors.New("log entry of an unknown form")

// position makes a log position of a cluster time.
func position(t, i uint32) record.Position {
	return record.Position(binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, t), i))
}

// timestampOf returns the cluster time of a position.
func timestampOf(p record.Position) bson.Timestamp {
	if len(p) != 8 {
		return bson.Timestamp{}
	}
	return bson.Timestamp{T: binary.BigEndian.Uint32([]byte(p)), I: binary.BigEndian.Uint32([]byte(p[4:]))}
}

// markOf returns an entry's position and time.
func markOf(entry bson.Raw) (record.Mark, error) {
	t, i, ok := entry.Lookup("ts").TimestampOK()
	if !ok {
		return record.Mark{}, fmt.Errorf("%w: no ts", ErrEntry)
	}
	m := record.Mark{Position: position(t, i)}
	if term, ok := entry.Lookup("t").AsInt64OK(); ok {
		m.Entry = fmt.Sprintf("%d.%d/%d", t, i, term)
	}
	if wall, ok := entry.Lookup("wall").TimeOK(); ok {
		m.Wall = wall.UTC()
	} else {
		m.Wall = time.Unix(int64(t), 0).UTC()
	}
	return m, nil
}

// changesOf returns what a log entry does to protected namespaces. The changes'
// bytes are copies.
func changesOf(r role, entry bson.Raw) (record.Mark, []record.Change, error) {
	m, err := markOf(entry)
	if err != nil {
		return m, nil, err
	}
	chs, err := changesAt(reading{role: r, settings: true}, m, entry)
	return m, chs, err
}

// reading says of which servers a log is, and for what it is read.
type reading struct {
	role role
	// forgets: the servers do not log what capped collections forget.
	forgets bool
	// settings: users and roles are protected too.
	settings bool
}

// changesAt returns what entries do together, as of a mark.
func changesAt(of reading, m record.Mark, entries ...bson.Raw) ([]record.Change, error) {
	c := converter{mark: m, reading: of}
	for _, e := range entries {
		if err := c.entry(bsoncore.Document(e)); err != nil {
			t, i, _ := e.Lookup("ts").TimestampOK()
			return nil, fmt.Errorf("log entry at %d.%d: %w", t, i, err)
		}
	}
	return c.out, nil
}

type converter struct {
	reading
	mark record.Mark
	// moved is [record.Moved] while an entry is read by which a migration writes.
	moved string
	out   []record.Change
}

func (c *converter) emit(ch record.Change) {
	ch.At, ch.Wall = c.mark.Position, c.mark.Wall.UnixMilli()
	c.out = append(c.out, ch)
}

// entry converts an entry. What one of a single namespace's, or of a single database's, did that is not
// understood is a change of that, too: what others hold is known still.
func (c *converter) entry(e bsoncore.Document) error {
	before := len(c.out)
	err := c.convert(e)
	if err == nil {
		return nil
	}
	op, _ := e.Lookup("op").StringValueOK()
	ns, _ := e.Lookup("ns").StringValueOK()
	db, coll, _ := strings.Cut(ns, ".")
	ch := record.Change{Op: record.Unknown, Ident: uuidOf(e.Lookup("ui")), Value: []byte(err.Error())}
	var command unknownCommand
	var made unprotectedError
	switch {
	case errors.As(err, &command):
		ch.Namespace, ch.Key, ch.Ident = db+".*", []byte(db+"."), nil
	case errors.As(err, &made):
		ch.Namespace = made.name
	case op == "c", coll == viewsColl:
		return err
	default:
		var kind record.Kind
		if ch.Namespace, kind, _ = c.role.content(db, coll); !kind.IsContent() {
			return err
		}
	}
	c.out = c.out[:before]
	c.emit(ch)
	return nil
}

// unknownCommand is the name of a command that an entry of a user's database has, which servers do not document.
type unknownCommand string

func (u unknownCommand) Error() string { return fmt.Sprintf("%v: command %q", ErrEntry, string(u)) }

func (unknownCommand) Unwrap() error { return ErrEntry }

// unprotectedError is returned when something is made that is not protected.
type unprotectedError struct{ name, what string }

func (u unprotectedError) Error() string {
	return fmt.Sprintf("%s is made as a %s; take a new snapshot, which leaves it out and says so", u.name, u.what)
}

// convert appends the changes of an entry; those that it appended before an error are to be taken back.
func (c *converter) convert(e bsoncore.Document) error {
	op, _ := e.Lookup("op").StringValueOK()
	ns, _ := e.Lookup("ns").StringValueOK()
	o, ok := e.Lookup("o").DocumentOK()
	if !ok {
		return fmt.Errorf("%w: no o", ErrEntry)
	}
	if op == "n" {
		return nil
	}
	db, coll, _ := strings.Cut(ns, ".")
	if op != "c" && coll == viewsColl {
		return c.view(op, e, o)
	}
	if op == "c" {
		if _, err := o.LookupErr("applyOps"); err == nil {
			return c.applyOps(o)
		}
		return c.command(db, e, o)
	}
	ns, kind, _ := c.role.content(db, coll)
	if kind == "" || kind == record.KindSettings && !c.settings {
		return nil
	}
	ident := uuidOf(e.Lookup("ui"))
	c.moved = ""
	if moved, _ := e.Lookup("fromMigrate").BooleanOK(); moved {
		c.moved = record.Moved
	}
	switch op {
	case "i":
		return c.put(ns, ident, o)
	case "d":
		key, err := bsonkey.Of(o)
		if err != nil {
			return fmt.Errorf("%w: %w", ErrEntry, err)
		}
		c.emit(record.Change{Op: record.Delete, Namespace: ns, Ident: ident, Key: key, Value: bytes.Clone(o),
			To: c.moved})
		return nil
	case "u":
		return c.update(ns, ident, e, o)
	}
	return fmt.Errorf("%w: op %q", ErrEntry, op)
}

func (c *converter) put(ns string, ident []byte, doc []byte) error {
	key, err := bsonkey.Of(doc)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrEntry, err)
	}
	c.emit(record.Change{Op: record.Put, Namespace: ns, Ident: ident, Key: key, Value: bytes.Clone(doc), To: c.moved})
	return nil
}

func (c *converter) update(ns string, ident []byte, e, o bsoncore.Document) error {
	if _, err := o.LookupErr("_id"); err == nil {
		return c.put(ns, ident, o) // a replacement
	}
	if set, ok := o.Lookup("$set").DocumentOK(); ok {
		// No server sets _id, which cannot change; one that names it there
		// logs the whole document.
		if _, err := set.LookupErr("_id"); err == nil {
			return c.put(ns, ident, set)
		}
	}
	o2, ok := e.Lookup("o2").DocumentOK()
	if !ok {
		return fmt.Errorf("%w: update without o2", ErrEntry)
	}
	key, err := bsonkey.Of(o2)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrEntry, err)
	}
	c.emit(record.Change{Op: record.Patch, Namespace: ns, Ident: ident, Key: key, Value: bytes.Clone(o)})
	return nil
}

// viewsColl is the collection in which servers keep the views of a database.
const viewsColl = "system.views"

// kindView is of views.
const kindView record.Kind = "view"

// view: servers keep views as documents {_id: "db.view", viewOn, pipeline} of
// system.views, and log them so ("Views"). Time-series collections have such a document
// too; of them their buckets tell, and what is said here of a name is of views only.
func (c *converter) view(op string, e, o bsoncore.Document) error {
	of := o
	if op == "u" {
		of, _ = e.Lookup("o2").DocumentOK()
	}
	name, ok := of.Lookup("_id").StringValueOK()
	if !ok {
		return fmt.Errorf("%w: view without name", ErrEntry)
	}
	db, coll, _ := strings.Cut(name, ".")
	if _, kind, _ := c.role.content(db, coll); kind == "" {
		return nil
	}
	if on, _ := o.Lookup("viewOn").StringValueOK(); strings.HasPrefix(on, bucketPrefix) {
		return nil
	}
	switch op {
	case "i":
		fs, err := parseFields(o)
		if err != nil {
			return err
		}
		c.emit(record.Change{Op: record.Create, Namespace: name, Value: fold.JoinCreate(kindView, viewDefinition(fs))})
	case "u":
		c.emit(record.Change{Op: record.Alter, Namespace: name, To: string(kindView),
			Value: buildFields([]field{{viewChange, docValue(bytes.Clone(o))}})})
	case "d":
		c.emit(record.Change{Op: record.Drop, Namespace: name, To: string(kindView)})
	default:
		return fmt.Errorf("%w: op %q of a view", ErrEntry, op)
	}
	return nil
}

func viewDefinition(opts []field) []byte {
	var keep []field
	for _, f := range opts {
		if f.name != "_id" {
			keep = append(keep, f)
		}
	}
	d := definition{options: canonicalOptions("view", keep)}
	return d.encode()
}

// applyOps expands an entry that holds several operations, which count as one.
// Whether they count at all is for the caller to know (see transaction.go).
func (c *converter) applyOps(o bsoncore.Document) error {
	ops, ok := o.Lookup("applyOps").ArrayOK()
	if !ok {
		return fmt.Errorf("%w: applyOps is no array", ErrEntry)
	}
	vals, err := ops.Values()
	if err != nil {
		return err
	}
	for _, v := range vals {
		sub, ok := v.DocumentOK()
		if !ok {
			return fmt.Errorf("%w: applyOps holds no documents", ErrEntry)
		}
		if err := c.entry(sub); err != nil {
			return err
		}
	}
	return nil
}

// command expands an entry about a namespace as a whole.
func (c *converter) command(db string, e, o bsoncore.Document) error {
	fs, err := parseFields(o)
	if err != nil {
		return err
	}
	if len(fs) == 0 {
		return fmt.Errorf("%w: empty command", ErrEntry)
	}
	ident := uuidOf(e.Lookup("ui"))
	name, _ := fs[0].val.StringValueOK()
	ns, kind, _ := c.role.content(db, name)
	skip := kind == "" || kind == record.KindSettings && !c.settings
	switch fs[0].name {
	case "create":
		if i := indexOf(fs, "viewOn"); i >= 0 || skip {
			return nil // a view comes as a document of system.views
		}
		if i := indexOf(fs, "capped"); i >= 0 && c.forgets && truthOf(fs[i].val) {
			return unprotectedError{ns, forgetful}
		}
		if indexOf(fs, "timeseries") >= 0 && kind != kindSeries {
			return unprotectedError{ns, bucketless}
		}
		c.emit(record.Change{Op: record.Create, Namespace: ns, Ident: ident,
			Value: fold.JoinCreate(kind, createdDefinition(kind, fs))})
	case "drop":
		if name == viewsColl && db != "admin" && db != "config" && db != "local" {
			// With the database, or by hand: all its views go.
			c.emit(record.Change{Op: record.Drop, Namespace: ns, To: string(kindView), Key: []byte(db + ".")})
		} else if !skip {
			c.emit(record.Change{Op: record.Drop, Namespace: ns, Ident: ident})
		}
	case "renameCollection":
		to, _ := o.Lookup("to").StringValueOK()
		if to == "" {
			return fmt.Errorf("%w: rename to nowhere", ErrEntry)
		}
		fromDB, fromColl, _ := strings.Cut(name, ".")
		toDB, toColl, _ := strings.Cut(to, ".")
		if _, kind, _ := c.role.content(fromDB, fromColl); kind == "" {
			return nil
		}
		if _, kind, _ := c.role.content(toDB, toColl); kind == "" {
			return fmt.Errorf("%w: %s is renamed to %s, which belongs to the server", ErrEntry, name, to)
		}
		target := o.Lookup("dropTarget")
		if b, isBool := target.BooleanOK(); target.Type != 0 && (!isBool || b) {
			c.emit(record.Change{Op: record.Drop, Namespace: to, Ident: uuidOf(target)})
		}
		c.emit(record.Change{Op: record.Rename, Namespace: name, Ident: ident, To: to})
	case "createIndexes", "startIndexBuild", "commitIndexBuild", "abortIndexBuild", "dropIndexes", "deleteIndexes",
		"collMod":
		if !skip {
			c.emit(record.Change{Op: record.Alter, Namespace: ns, Ident: ident, Value: bytes.Clone(o)})
		}
	case "emptycapped":
		if !skip {
			c.emit(record.Change{Op: record.Empty, Namespace: ns, Ident: ident})
		}
	case "dropDatabase":
		// Before a dropDatabase entry each collection's drop is logged.
	case "commitTransaction", "abortTransaction":
		// What they decide is known from looking ahead.
	default:
		servers := db == "admin" || db == "config" || db == "local"
		if skip && servers {
			return nil
		}
		if _, user, _ := c.role.content(db, "any"); servers || user == "" {
			return fmt.Errorf("%w: command %q", ErrEntry, fs[0].name)
		}
		return unknownCommand(fs[0].name)
	}
	return nil
}

// forgetful is why a capped collection of an old server is not protected ("Capped Collections").
const forgetful = "capped collection on servers that do not log what such a collection forgets, as none before 5.0 does"

// bucketless is why a time series is not protected that newer servers keep in another way than in a collection of its
// buckets ("Time Series Collections").
const bucketless = "time series without a collection of its buckets, which this version does not know how to read"

func uuidOf(v bsoncore.Value) []byte {
	if _, b, ok := v.BinaryOK(); ok && len(b) == 16 {
		return bytes.Clone(b)
	}
	return nil
}
