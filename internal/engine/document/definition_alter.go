package document

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"
)

// viewChange names, in the value of an Alter, what an entry did to the document that a server keeps of
// a view.
const viewChange = "view"

// alterDefinition applies the o document of an entry that changes indexes or options, or a change of
// a view. It can be applied twice.
func alterDefinition(def, o []byte) ([]byte, error) {
	d, err := decodeDefinition(def)
	if err != nil {
		return nil, err
	}
	fs, err := parseFields(o)
	if err != nil {
		return nil, err
	}
	if len(fs) == 0 {
		return nil, fmt.Errorf("empty command entry")
	}
	switch fs[0].name {
	case viewChange:
		if err := d.changeView(fs[0].val.Data); err != nil {
			return nil, err
		}
	case "createIndexes":
		d.put(canonicalIndex(fs))
	case "startIndexBuild", "commitIndexBuild", "abortIndexBuild":
		if err := d.build(fs[0].name, o); err != nil {
			return nil, err
		}
	case "dropIndexes", "deleteIndexes":
		name, ok := bsoncore.Document(o).Lookup("index").StringValueOK()
		if !ok {
			return nil, fmt.Errorf("dropIndexes entry names no index")
		}
		d.indexes = slices.DeleteFunc(d.indexes, func(s indexSpec) bool {
			return s.name == name || name == "*" && s.name != "_id_"
		})
	case "collMod":
		if err := d.modify(fs[1:]); err != nil {
			return nil, err
		}
	default:
		return nil, fmt.Errorf("unknown command entry %q; a newer server may have written it", fs[0].name)
	}
	return d.encode(), nil
}

// build applies an entry about an index build ("Index Builds on Populated Collections"). An index counts
// from the commit of its build: one that was listed while it was built is taken out where its
// build is seen to begin, or to be aborted.
func (d *definition) build(command string, o []byte) error {
	list, ok := bsoncore.Document(o).Lookup("indexes").ArrayOK()
	if !ok {
		return fmt.Errorf("%s entry names no indexes", command)
	}
	vals, err := list.Values()
	if err != nil {
		return err
	}
	for _, v := range vals {
		sub, err := parseFields(v.Data)
		if err != nil {
			return err
		}
		s := canonicalIndex(sub)
		if command == "commitIndexBuild" {
			d.put(s)
			continue
		}
		d.indexes = slices.DeleteFunc(d.indexes, func(x indexSpec) bool { return x.name == s.name })
	}
	return nil
}

// changeView applies an update of a view's document: a replacement, or what updates any document.
func (d *definition) changeView(o []byte) error {
	doc := o
	if _, err := bsoncore.Document(o).LookupErr("_id"); err != nil {
		if doc, err = applyUpdate(buildFields(d.options), o, false); err != nil {
			return err
		}
	}
	fs, err := parseFields(doc)
	if err != nil {
		return err
	}
	fs = slices.DeleteFunc(fs, func(f field) bool { return f.name == "_id" })
	d.options = canonicalOptions(kindView, fs)
	return nil
}

// set gives an option another value; nil takes it away.
func (d *definition) set(name string, v *bsoncore.Value) {
	d.options = slices.DeleteFunc(d.options, func(x field) bool { return x.name == name })
	if v != nil {
		d.options = canonicalOptions("", append(d.options, field{name, *v}))
	}
}

// modify applies what a collMod entry says ("collMod"): as servers list it afterwards, not as it was
// asked for.
func (d *definition) modify(fs []field) error {
	for _, f := range fs {
		switch f.name {
		case "index":
			if !isDocument(f.val) {
				return fmt.Errorf("collMod entry: index is no document")
			}
			if err := d.modifyIndex(f.val.Data); err != nil {
				return err
			}
		case "cappedSize":
			d.set("size", &f.val)
		case "cappedMax":
			d.set("max", &f.val)
		case "expireAfterSeconds":
			if off, ok := f.val.StringValueOK(); ok && off == "off" {
				d.set(f.name, nil)
			} else {
				d.set(f.name, &f.val)
			}
		case "timeseries":
			if err := d.modifySeries(f.val); err != nil {
				return err
			}
		case "validator", "validationLevel", "validationAction", "changeStreamPreAndPostImages", "recordPreImages",
			"viewOn", "pipeline":
			d.set(f.name, &f.val)
		default:
			if optionsLeftOut[f.name] || strings.HasPrefix(f.name, "$") {
				continue
			}
			return fmt.Errorf("collMod entry: what %q changes is not known; a newer server may have written it", f.name)
		}
	}
	return nil
}

// spans holds the longest time that a bucket of a granularity covers, in seconds ("Set Granularity for
// Time Series Data").
var spans = map[string]int32{"seconds": 3600, "minutes": 86_400, "hours": 2_592_000}

// modifySeries changes how a time series groups its measurements: its fields stay as they are.
func (d *definition) modifySeries(v bsoncore.Value) error {
	i := indexOf(d.options, "timeseries")
	if i < 0 || !isDocument(v) || !isDocument(d.options[i].val) {
		return fmt.Errorf("collMod entry: timeseries of what is no time series")
	}
	is, err := parseFields(d.options[i].val.Data)
	if err != nil {
		return err
	}
	to, err := parseFields(v.Data)
	if err != nil {
		return err
	}
	grouping := func(name string) bool {
		return name == "granularity" || name == "bucketMaxSpanSeconds" || name == "bucketRoundingSeconds"
	}
	is = slices.DeleteFunc(is, func(f field) bool { return grouping(f.name) || indexOf(to, f.name) >= 0 })
	is = append(is, to...)
	if g := indexOf(to, "granularity"); g >= 0 && indexOf(to, "bucketMaxSpanSeconds") < 0 {
		name, _ := to[g].val.StringValueOK()
		span, ok := spans[name]
		if !ok {
			return fmt.Errorf("collMod entry: granularity %q is not known", name)
		}
		is = append(is, field{"bucketMaxSpanSeconds",
			bsoncore.Value{Type: bsoncore.TypeInt32, Data: bsoncore.AppendInt32(nil, span)}})
	}
	val := docValue(buildFields(is))
	d.set("timeseries", &val)
	return nil
}

// modifyIndex applies collMod's index part: the index is named, or known by
// its key; everything else replaces what it had.
func (d *definition) modifyIndex(mod []byte) error {
	fs, err := parseFields(mod)
	if err != nil {
		return err
	}
	for i := range d.indexes {
		spec, err := parseFields(d.indexes[i].spec)
		if err != nil {
			return err
		}
		hit := false
		for _, f := range fs {
			switch f.name {
			case "name":
				s, _ := f.val.StringValueOK()
				hit = hit || s == d.indexes[i].name
			case "keyPattern":
				k := indexOf(spec, "key")
				hit = hit || k >= 0 && bytes.Equal(spec[k].val.Data, f.val.Data)
			}
		}
		if !hit {
			continue
		}
		for _, f := range fs {
			if f.name == "name" || f.name == "keyPattern" {
				continue
			}
			spec = slices.DeleteFunc(spec, func(x field) bool {
				// An index that has become unique is prepared for it no longer.
				return x.name == f.name || x.name == "prepareUnique" && f.name == "unique" && truthOf(f.val)
			})
			spec = append(spec, f)
		}
		d.indexes[i] = canonicalIndex(spec)
	}
	return nil
}
