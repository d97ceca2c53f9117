package document

import (
	"bytes"
	"context"
	"errors"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.mongodb.org/mongo-driver/v2/mongo/writeconcern"
	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"

	"dexamen/internal/core/record"
)

// commandBytes bounds the documents of one insert: a command is no larger than a document may be, of 16 MiB.
const commandBytes = 12 << 20

// insert writes documents to a stage, in any order. They are sent as they are: the driver's own way to insert
// encodes each anew, which costs seven times what sending them does. It is used where that way can do more: for
// what does not fit into a command, for time series, and to try again.
func (w *writer) insert(ctx context.Context, stage string, recs []record.Record, bypass bool) error {
	w.mu.Lock()
	series := w.kinds[stage] == kindSeries
	w.mu.Unlock()
	if series || len(recs) == 1 && len(recs[0].Value) >= commandBytes {
		return w.insertAnew(ctx, stage, recs, bypass)
	}
	db, coll := w.physical(stage)
	cmd := insertCommand(coll, recs, bypass)
	err := w.cl.Database(db).RunCommand(ctx, bson.Raw(cmd)).Err()
	var waited mongo.WriteException
	undone := errors.As(err, &waited) && waited.WriteConcernError != nil && len(waited.WriteErrors) == 0
	if err == nil || !retriable(err) && !undone || ctx.Err() != nil {
		return err
	}
	return w.insertAgain(ctx, stage, recs, bypass)
}

// insertAgain writes documents some of which may be there. A stage is nobody else's, so that whatever has one of
// their _ids is one of them; all are read back afterwards.
func (w *writer) insertAgain(ctx context.Context, stage string, recs []record.Record, bypass bool) error {
	err := w.insertAnew(ctx, stage, recs, bypass)
	var all mongo.BulkWriteException
	if !errors.As(err, &all) || all.WriteConcernError != nil || len(all.WriteErrors) == 0 {
		return err
	}
	for _, e := range all.WriteErrors {
		if !mongo.IsDuplicateKeyError(e.WriteError) {
			return err
		}
	}
	return nil
}

// insertAnew writes documents by the driver's own means, which tries again once.
func (w *writer) insertAnew(ctx context.Context, stage string, recs []record.Record, bypass bool) error {
	db, coll := w.physical(stage)
	c := w.cl.Database(db).Collection(coll, options.Collection().SetWriteConcern(writeconcern.Majority()))
	opt := options.InsertMany().SetOrdered(false)
	if bypass {
		opt.SetBypassDocumentValidation(true)
	}
	docs := make([]any, len(recs))
	for i, r := range recs {
		docs[i] = bson.Raw(r.Value)
	}
	_, err := c.InsertMany(ctx, docs, opt)
	return err
}

// insertCommand returns the command that inserts documents ("insert").
func insertCommand(coll string, recs []record.Record, bypass bool) []byte {
	size := 256 + len(coll)
	for _, r := range recs {
		size += len(r.Value) + 8 // a type, the digits of a number, a zero byte
	}
	_, b := bsoncore.AppendDocumentStart(make([]byte, 0, size))
	b = bsoncore.AppendStringElement(b, "insert", coll)
	b = bsoncore.AppendBooleanElement(b, "ordered", false)
	if bypass {
		b = bsoncore.AppendBooleanElement(b, "bypassDocumentValidation", true)
	}
	b = bsoncore.AppendDocumentElement(b, "writeConcern",
		bsoncore.BuildDocument(nil, bsoncore.AppendStringElement(nil, "w", "majority")))
	at, b := bsoncore.AppendArrayElementStart(b, "documents")
	var digits []byte
	for i, r := range recs {
		digits = strconv.AppendInt(digits[:0], int64(i), 10)
		b = append(append(append(b, byte(bsoncore.TypeEmbeddedDocument)), digits...), 0)
		b = append(b, r.Value...)
	}
	b, _ = bsoncore.AppendArrayEnd(b, at) // neither fails where it was begun
	b, _ = bsoncore.AppendDocumentEnd(b, 0)
	return b
}

// TakesRecords implements [engine.RecordWriter]: a time series has no records that could be
// written singly.
func (w *writer) TakesRecords(ns record.Namespace) bool { return ns.Kind != kindSeries }

// PutRecords implements [engine.RecordWriter]. Through a router a document is found by its
// shard key too; one whose shard key differs goes first.
func (w *writer) PutRecords(ctx context.Context, name string, recs []record.Record, was [][]byte) error {
	db, coll := w.physical(name)
	key, err := w.shardKey(ctx, name)
	if err != nil {
		return err
	}
	var models []mongo.WriteModel
	for i, r := range recs {
		at := placeOf(r.Value, key)
		if was[i] != nil {
			if old := placeOf(was[i], key); !bytes.Equal(old, at) {
				models = append(models, mongo.NewDeleteOneModel().SetFilter(bson.Raw(old)))
			}
		}
		models = append(models, mongo.NewReplaceOneModel().SetFilter(bson.Raw(at)).SetUpsert(true).
			SetReplacement(bson.Raw(r.Value)))
	}
	c := w.cl.Database(db).Collection(coll, options.Collection().SetWriteConcern(writeconcern.Majority()))
	// In order: a document that goes elsewhere leaves its old place first.
	opt := options.BulkWrite().SetOrdered(true)
	if !w.noBypass.Load() {
		opt.SetBypassDocumentValidation(true)
	}
	if _, err := c.BulkWrite(ctx, models, opt); err != nil {
		return w.fail(name, err)
	}
	return w.emptyTimestamps(ctx, name, recs, !w.noBypass.Load())
}

// emptyTimestamps puts empty timestamps back into documents that were inserted or put in the place of others: servers
// set such a field at a document's top level, but for its _id, to their time then, and leave it where an update sets it
// ("BSON Types: Timestamps").
func (w *writer) emptyTimestamps(ctx context.Context, name string, recs []record.Record, bypass bool) error {
	w.mu.Lock()
	series := w.kinds[name] == kindSeries
	w.mu.Unlock()
	if series { // no measurement is updated
		return nil
	}
	var models []mongo.WriteModel
	for _, r := range recs {
		fields := emptyTimestampsOf(r.Value)
		if len(fields) == 0 {
			continue
		}
		// By its _id alone, also through a router: the shard key may be what the server has set.
		id := bson.Raw(buildFields([]field{{"_id", bsoncore.Document(r.Value).Lookup("_id")}}))
		models = append(models, mongo.NewUpdateManyModel().SetFilter(id).SetUpdate(
			bson.D{{Key: "$set", Value: fields}}))
	}
	if len(models) == 0 {
		return nil
	}
	db, coll := w.physical(name)
	c := w.cl.Database(db).Collection(coll, options.Collection().SetWriteConcern(writeconcern.Majority()))
	opt := options.BulkWrite().SetOrdered(false)
	if bypass {
		opt.SetBypassDocumentValidation(true)
	}
	if _, err := c.BulkWrite(ctx, models, opt); err != nil {
		return w.fail(name+": empty timestamps", err)
	}
	return nil
}

// emptyTimestampsOf returns the fields at a document's top level that hold an empty timestamp, without those that no
// update can name.
func emptyTimestampsOf(doc []byte) (out bson.D) {
	if !bytes.Contains(doc, make([]byte, 9)) { // the end of a name, and eight more
		return nil
	}
	elems, _ := bsoncore.Document(doc).Elements()
	for _, e := range elems {
		t, i, ok := e.Value().TimestampOK()
		if k := e.Key(); ok && t == 0 && i == 0 && k != "_id" && k != "" && k[0] != '$' && !strings.Contains(k, ".") {
			out = append(out, bson.E{Key: k, Value: bson.Timestamp{}})
		}
	}
	return out
}

// shardKey returns the fields of a namespace's shard key; none where it is not sharded.
func (w *writer) shardKey(ctx context.Context, name string) ([]string, error) {
	if w.c.role != routers {
		return nil, nil
	}
	// "config.collections": sharded collections, by name.
	entry, err := w.cl.Database("config").Collection("collections").FindOne(ctx,
		bson.D{{Key: "_id", Value: name}}).Raw()
	if errors.Is(err, mongo.ErrNoDocuments) {
		return nil, nil
	}
	if err != nil {
		return nil, w.fail(name+": its shard key", err)
	}
	key, _ := bsoncore.Document(entry).Lookup("key").DocumentOK()
	fs, err := parseFields(key)
	if err != nil {
		return nil, w.fail(name+": its shard key", err)
	}
	var out []string
	for _, f := range fs {
		out = append(out, f.name)
	}
	return out, nil
}

// placeOf returns what finds a document: its _id and its shard key.
func placeOf(doc []byte, key []string) []byte {
	id := bsoncore.Document(doc).Lookup("_id")
	fs := []field{{"_id", id}}
	for _, k := range key {
		if k == "_id" {
			continue
		}
		v, err := bsoncore.Document(doc).LookupErr(strings.Split(k, ".")...)
		if err != nil {
			v = nullValue
		}
		fs = append(fs, field{k, v})
	}
	return buildFields(fs)
}

// RemoveNamespace implements [engine.NamespaceRemover].
func (w *writer) RemoveNamespace(ctx context.Context, ns record.Namespace) error {
	db, coll, _ := strings.Cut(ns.Name, ".")
	if err := w.run(ctx, db, bson.D{{Key: "drop", Value: coll}}); err != nil && codeOf(err) != 26 {
		return w.fail(ns.Name, err)
	}
	return nil
}
