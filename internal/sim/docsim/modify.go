package docsim

import (
	"slices"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// What collMod changes ("collMod"), and what is then listed.

// createOptions are what create takes, and modifiable what collMod takes; anything else is refused.
var (
	createOptions = []string{"capped", "size", "max", "validator", "validationLevel", "validationAction", "viewOn",
		"pipeline", "collation", "timeseries", "expireAfterSeconds", "clusteredIndex", "changeStreamPreAndPostImages",
		"storageEngine", "indexOptionDefaults", "encryptedFields", "autoIndexId", "recordPreImages"}
	modifiable = []string{"index", "validator", "validationLevel", "validationAction", "viewOn", "pipeline",
		"expireAfterSeconds", "timeseries", "cappedSize", "cappedMax", "changeStreamPreAndPostImages",
		"recordPreImages"}
)

func unknownField(command string, known []string, name string) error {
	if slices.Contains(known, name) {
		return nil
	}
	return refuse(40415, "Location40415", "BSON field '%s.%s' is an unknown field.", command, name)
}

func collMod(s *session, db string, req bson.Raw) (bson.D, error) {
	ns, err := namespaceOf(db, first(req))
	if err != nil {
		return nil, err
	}
	c := s.now().colls[ns]
	if c == nil {
		return nil, refuse(26, "NamespaceNotFound", "ns does not exist: %s", ns)
	}
	var asked bson.D
	for _, e := range toD(req)[1:] {
		if generic(e.Key) {
			continue
		}
		if err := unknownField("collMod", modifiable, e.Key); err != nil {
			return nil, err
		}
		asked = append(asked, e)
	}
	switch c.kind {
	case "view":
		return bson.D{}, s.modifyView(c, req)
	case "timeseries":
		return bson.D{}, s.modifySeries(c, asked)
	}
	return bson.D{}, s.modify(c, asked)
}

// modify logs a collMod as it was asked for, and does it.
func (s *session) modify(c *collection, asked bson.D) error {
	u, ns := c.uuid, c.db+"."+c.name
	var changes []func(*collection)
	for _, e := range asked {
		change, err := s.modification(c, e)
		if err != nil {
			return err
		}
		changes = append(changes, change)
	}
	s.command(c.db, &u, append(bson.D{{Key: "collMod", Value: c.name}}, asked...),
		effectModify(ns, func(c *collection) {
			for _, f := range changes {
				f(c)
			}
		}))
	return nil
}

func (c *collection) option(name string, v any) {
	c.options = slices.DeleteFunc(slices.Clone(c.options), func(e bson.E) bool { return e.Key == name })
	if v != nil {
		c.options = append(c.options, bson.E{Key: name, Value: v})
	}
}

// modification returns what one field of collMod does.
func (s *session) modification(c *collection, e bson.E) (func(*collection), error) {
	v := value(e.Value)
	switch e.Key {
	case "index":
		var mod bson.D
		if err := bson.Unmarshal(v.Document(), &mod); err != nil {
			return nil, refuse(9, "FailedToParse", "index: %v", err)
		}
		if yes := lookup(mod, "unique"); yes != nil && truthy(value(yes)) {
			for _, ix := range c.indexes {
				if indexName(ix) == lookup(mod, "name") && c.twice(ix) {
					return nil, refuse(359, "CannotConvertIndexToUnique",
						"Cannot convert the index to unique. Please resolve conflicting documents first.")
				}
			}
		}
		return func(c *collection) { modifyIndex(c, mod) }, nil
	case "cappedSize", "cappedMax":
		if lookup(c.options, "capped") == nil {
			return nil, refuse(72, "InvalidOptions", "%s is for capped collections", e.Key)
		}
		to := map[string]string{"cappedSize": "size", "cappedMax": "max"}[e.Key]
		return func(c *collection) { c.option(to, e.Value) }, nil
	case "changeStreamPreAndPostImages":
		if !truthy(v.Document().Lookup("enabled")) {
			return func(c *collection) { c.option(e.Key, nil) }, nil
		}
	case "recordPreImages":
		if !truthy(v) {
			return func(c *collection) { c.option(e.Key, nil) }, nil
		}
	case "expireAfterSeconds":
		if lookup(c.options, "timeseries") == nil && lookup(c.options, "clusteredIndex") == nil {
			return nil, refuse(72, "InvalidOptions", "expireAfterSeconds is for clustered and time-series collections")
		}
		if off, ok := v.StringValueOK(); ok && off == "off" {
			return func(c *collection) { c.option(e.Key, nil) }, nil
		}
		return func(c *collection) { c.option(e.Key, e.Value) }, nil
	case "timeseries":
		if lookup(c.options, "timeseries") == nil {
			return nil, refuse(72, "InvalidOptions", "collMod of timeseries is for time-series collections")
		}
		return func(c *collection) {
			ts := toD(value(lookup(c.options, "timeseries")).Document())
			c.option("timeseries", regranulated(ts, toD(v.Document())))
		}, nil
	case "validator":
		if len(v.Value) <= 5 {
			return func(c *collection) { c.option("validator", nil) }, nil
		}
		return func(c *collection) {
			c.option("validator", e.Value)
			// Servers then list what counts where nothing was said.
			for _, o := range []bson.E{{Key: "validationLevel", Value: "strict"},
				{Key: "validationAction", Value: "error"}} {
				if lookup(c.options, o.Key) == nil {
					c.option(o.Key, o.Value)
				}
			}
		}, nil
	}
	return func(c *collection) { c.option(e.Key, e.Value) }, nil
}

func modifyIndex(c *collection, mod bson.D) {
	c.indexes = slices.Clone(c.indexes)
	byKey := lookup(mod, "keyPattern")
	for i, ix := range c.indexes {
		if indexName(ix) != lookup(mod, "name") && (byKey == nil || string(value(byKey).Value) !=
			string(value(lookup(ix, "key")).Value)) {
			continue
		}
		next := slices.DeleteFunc(slices.Clone(ix), func(e bson.E) bool {
			return e.Key != "name" && e.Key != "key" && lookup(mod, e.Key) != nil ||
				e.Key == "prepareUnique" && lookup(mod, "unique") != nil
		})
		for _, e := range mod {
			yes, isBool := e.Value.(bool)
			switch {
			case e.Key == "name" || e.Key == "keyPattern":
			case isBool && !yes: // hidden, prepareUnique
			default:
				next = append(next, e)
			}
		}
		c.indexes[i] = next
		c.unique = nil
	}
}

// spans holds how long a bucket lasts by granularity, and to what its beginning is rounded, in
// seconds ("Set Granularity for Time Series Data").
var spans = map[string][2]int32{"seconds": {3600, 60}, "minutes": {86400, 3600}, "hours": {2592000, 86400}}

// regranulated returns the options of a time series after collMod.
func regranulated(ts, mod bson.D) bson.D {
	out := slices.DeleteFunc(slices.Clone(ts), func(e bson.E) bool {
		return lookup(mod, e.Key) != nil || e.Key == "bucketMaxSpanSeconds" || e.Key == "bucketRoundingSeconds" ||
			e.Key == "granularity"
	})
	out = append(out, mod...)
	if g, ok := value(lookup(mod, "granularity")).StringValueOK(); ok {
		out = append(out, bson.E{Key: "bucketMaxSpanSeconds", Value: spans[g][0]})
	}
	return out
}

// modifySeries changes the buckets of a time series, and what its name stands for.
func (s *session) modifySeries(c *collection, asked bson.D) error {
	buckets := s.now().colls[c.db+"."+bucketsOf+c.name]
	if mod := lookup(asked, "timeseries"); mod != nil {
		g, ok := value(mod).Document().Lookup("granularity").StringValueOK()
		if ok && spans[g][0] == 0 {
			return refuse(2, "BadValue", "granularity %q is not known", g)
		}
	}
	if err := s.modify(buckets, asked); err != nil {
		return err
	}
	now := slices.Clone(s.now().colls[c.db+"."+bucketsOf+c.name].options)
	now = slices.DeleteFunc(now, func(e bson.E) bool { return e.Key == "validator" || e.Key == "clusteredIndex" })
	s.redefine(c, now, seriesDocument(c.db+"."+c.name, c.name, value(lookup(now, "timeseries"))))
	return nil
}
