package document

import (
	"bytes"
	"context"
	"errors"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.mongodb.org/mongo-driver/v2/mongo/writeconcern"
	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"

	"dexamen/internal/core/record"
)

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
	return nil
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
