package document

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// model implements [engine.Model].
type model struct{}

// Apply implements [fold.Model].
func (model) Apply(old []byte, c *record.Change, loose bool) ([]byte, error) {
	return applyUpdate(old, c.Value, loose)
}

var emptyDocument = buildFields(nil)

// CheckChange implements [engine.Model]: an update is applied to an empty document,
// passing over what does not fit it, and an alteration to a definition that has nothing but what
// some alterations ask for.
func (model) CheckChange(c *record.Change) error {
	var err error
	switch c.Op {
	case record.Patch:
		_, err = applyUpdate(emptyDocument, c.Value, true)
	case record.Alter:
		series := []field{{"timeseries", docValue(emptyDocument)}}
		_, err = alterDefinition(createdDefinition("collection", series), c.Value)
	}
	if err != nil {
		ts := timestampOf(c.At)
		return fmt.Errorf("log entry at %d.%d, %s of %s: %w", ts.T, ts.I, c.Op, c.Namespace, err)
	}
	return nil
}

// Alter implements [fold.Model].
func (model) Alter(def []byte, c *record.Change) ([]byte, error) {
	return alterDefinition(def, c.Value)
}

// Implied implements [fold.Model].
func (model) Implied(name string) (kind record.Kind, def []byte) {
	kind = kindOf(name)
	return kind, createdDefinition(kind, nil)
}

// Kind implements [engine.Model].
func (model) Kind(name string) record.Kind { return kindOf(name) }

// Label returns a document's _id, as extended JSON.
func (model) Label(value []byte) string {
	v, err := bson.Raw(value).LookupErr("_id")
	if err != nil {
		return "(no _id)"
	}
	if s, ok := v.StringValueOK(); ok {
		return strconv.Quote(s)
	}
	if id, ok := v.ObjectIDOK(); ok {
		return id.Hex()
	}
	text := documentText(buildFields([]field{{"_id", rawToCore(v)}}))
	return strings.TrimSuffix(strings.TrimPrefix(text, `{"_id":`), "}")
}

// Render returns a document as relaxed extended JSON.
func (model) Render(value []byte) string { return documentText(value) }

// Changes compares top-level fields.
func (model) Changes(a, b []byte) []string {
	fa, err1 := parseFields(a)
	fb, err2 := parseFields(b)
	if err1 != nil || err2 != nil {
		return []string{"not readable"}
	}
	short := func(fs []field, i int) string {
		if i < 0 {
			return "(none)"
		}
		t := []rune(valueText(fs[i].val))
		if len(t) > 40 {
			t = append(t[:40], '…')
		}
		return string(t)
	}
	var out []string
	for i, f := range fa {
		j := indexOf(fb, f.name)
		if j < 0 || fb[j].val.Type != f.val.Type || !bytes.Equal(fb[j].val.Data, f.val.Data) {
			out = append(out, f.name+": "+short(fa, i)+" > "+short(fb, j))
		}
	}
	for j, f := range fb {
		if indexOf(fa, f.name) < 0 {
			out = append(out, f.name+": (none) > "+short(fb, j))
		}
	}
	if out == nil {
		out = []string{"the order of its fields"}
	}
	return out
}

// Describe implements [engine.Model].
func (model) Describe(def []byte) []string { return describeDefinition(def) }

// Portable returns a definition without the index version, which differs between
// servers, and without how it is spread over shards, which is the business of
// each cluster.
func (model) Portable(def []byte) []byte {
	d, err := decodeDefinition(def)
	if err != nil {
		return def
	}
	d.sharding = nil
	for i := range d.indexes {
		fs, err := parseFields(d.indexes[i].spec)
		if err != nil {
			return def
		}
		var keep []field
		for _, f := range fs {
			if f.name != "v" {
				keep = append(keep, f)
			}
		}
		d.indexes[i].spec = buildFields(keep)
	}
	return d.encode()
}

// FormatPosition returns a cluster time as SECONDS.INCREMENT.
func (model) FormatPosition(p record.Position) string {
	if len(p) != 8 {
		return p.Hex()
	}
	ts := timestampOf(p)
	return fmt.Sprintf("%d.%d", ts.T, ts.I)
}

// ParsePosition reads SECONDS.INCREMENT.
func (model) ParsePosition(s string) (record.Position, error) {
	a, b, ok := strings.Cut(s, ".")
	t, err1 := strconv.ParseUint(a, 10, 32)
	i, err2 := strconv.ParseUint(b, 10, 32)
	if !ok || err1 != nil || err2 != nil {
		return "", fmt.Errorf("%q is no log position of a document cluster, such as 1763979244.12", s)
	}
	return position(uint32(t), uint32(i)), nil
}

// Traits implements [engine.Model].
func (model) Traits() engine.Traits {
	return engine.Traits{ServedAs: "mongodb://%s/?directConnection=true"}
}

// Staged implements [engine.Model].
func (model) Staged(name string) bool {
	_, coll, _ := strings.Cut(name, ".")
	return strings.HasPrefix(coll, StagePrefix)
}

// CheckName implements [engine.Model].
func (model) CheckName(name string) error {
	db, coll, ok := strings.Cut(name, ".")
	switch {
	case !ok || db == "" || coll == "":
		return fmt.Errorf("%q is no name for it: a name is DATABASE.COLLECTION", name)
	case db == "admin" || db == "local" || db == "config" || strings.HasPrefix(coll, "system.") && coll != "system.js":
		return fmt.Errorf("%q is a name of the server's own", name)
	case strings.HasPrefix(coll, StagePrefix) || isOwn(db, coll):
		return fmt.Errorf("%q is a name that Dexamen uses itself while it restores", name)
	case strings.ContainsAny(db, "$ /\\\"\x00") || strings.ContainsAny(coll, "$\x00"):
		return fmt.Errorf("%q is no name for it: it has characters that servers do not take", name)
	}
	return nil
}
