package docquery

import (
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// Projection makes of documents what is wanted of them.
type Projection struct {
	root *node
	// include: only what is named is kept; else all but what is named.
	include bool
	id      bool // _id is kept
}

// node is a name of a projection and what becomes of it.
type node struct {
	keep, drop bool
	x          expression                                 // computes the field
	f          func(bson.RawValue) (bson.RawValue, error) // makes something else of it
	order      []string                                   // of the names below
	below      map[string]*node
}

func newNode() *node { return &node{below: map[string]*node{}} }

// CompileProjection reads the projection of a find with a filter ("Project Fields to Return").
func CompileProjection(spec, filter bson.Raw) (*Projection, error) {
	return compileProjection(spec, filter, false)
}

// compileProjection reads a projection; stage: it is that of a $project.
func compileProjection(spec, filter bson.Raw, stage bool) (*Projection, error) {
	p := &Projection{root: newNode(), id: true}
	c := &projector{p: p, stage: stage, filter: filter}
	els, err := spec.Elements()
	if err != nil {
		return nil, badValue("a projection that is not readable: %v", err)
	}
	if stage && len(els) == 0 {
		return nil, Refuse(51272, "Location51272", "projection specification must have at least one field")
	}
	for _, e := range els {
		if err := c.add(parsePath(e.Key()), e.Value()); err != nil {
			return nil, err
		}
	}
	switch {
	case c.includes != "" && c.excludes != "":
		return nil, Refuse(31254, "Location31254", "Cannot do exclusion on field %s in inclusion projection",
			c.excludes)
	case c.computes && c.excludes != "":
		return nil, Refuse(31252, "Location31252", "Cannot use an expression in an exclusion projection")
	case c.includes == "" && c.excludes == "" && !c.computes && c.idOnly != nil:
		p.include = *c.idOnly && !c.slices
	default:
		p.include = c.includes != "" || c.computes
	}
	if c.idOnly != nil {
		p.id = *c.idOnly
	}
	return p, nil
}

// projector compiles a projection.
type projector struct {
	p                  *Projection
	stage              bool
	filter             bson.Raw
	positional         bool
	includes, excludes string
	idOnly             *bool
	computes, slices   bool
}

func (c *projector) add(p path, v bson.RawValue) error {
	if n := len(p) - 1; n > 0 && p[n] == "$" && !c.stage {
		return c.position(p[:n], v)
	}
	for _, name := range p {
		if name == "" {
			return Refuse(40352, "Location40352", "FieldPath cannot be constructed with empty string")
		}
		if strings.HasPrefix(name, "$") {
			if name == "$" && !c.stage {
				return Refuse(31394, "Location31394", "the positional operator '$' may only be at the end of a path")
			}
			return Refuse(16410, "Location16410",
				"FieldPath field names may not start with '$'. Consider using $getField.")
		}
	}
	isID := len(p) == 1 && p[0] == "_id"
	switch {
	case v.Type == bson.TypeBoolean || isNumber(v.Type):
		want := truthy(v)
		if isID {
			c.idOnly = &want
			return nil
		}
		if want {
			c.includes = p.String()
		} else {
			c.excludes = p.String()
		}
		return c.set(p, &node{keep: want, drop: !want})
	case v.Type == bson.TypeEmbeddedDocument:
		return c.document(p, v.Document())
	}
	x, err := compileExpression(v)
	if err != nil {
		return err
	}
	c.computes = true
	return c.set(p, &node{x: x})
}

// position takes a positional projection; there may be one.
func (c *projector) position(p path, v bson.RawValue) error {
	switch {
	case v.Type != bson.TypeBoolean && !isNumber(v.Type) || !truthy(v):
		return Refuse(31395, "Location31395", "positional projection cannot be used with exclusion")
	case c.positional:
		return Refuse(31276, "Location31276", "Cannot specify more than one positional projection per query.")
	}
	f, err := positional(p, c.filter)
	if err != nil {
		return err
	}
	c.positional, c.includes = true, p.String()
	return c.set(p, &node{f: f})
}

func (c *projector) document(p path, d bson.Raw) error {
	els, err := d.Elements()
	if err != nil || len(els) == 0 {
		return Refuse(51270, "Location51270",
			"An empty sub-projection is not a valid value. Found empty object at path")
	}
	op := els[0].Key()
	if !strings.HasPrefix(op, "$") {
		for _, e := range els { // written as a document of documents
			if err := c.add(append(append(path{}, p...), parsePath(e.Key())...), e.Value()); err != nil {
				return err
			}
		}
		return nil
	}
	switch {
	case op == "$slice" && !c.stage:
		f, err := slicer(els[0].Value())
		if err != nil {
			return err
		}
		c.slices = true
		return c.set(p, &node{f: f})
	case op == "$elemMatch" && !c.stage:
		if len(p) > 1 {
			return Refuse(31275, "Location31275", "Cannot use $elemMatch projection on a nested field.")
		}
		fits, err := elementFits(els[0].Value())
		if err != nil {
			return err
		}
		c.computes, c.includes = true, p.String()
		return c.set(p, &node{f: func(v bson.RawValue) (bson.RawValue, error) {
			if v.Type != bson.TypeArray {
				return bson.RawValue{}, nil
			}
			for _, e := range values(v) {
				if ok, err := fits(e); err != nil || ok {
					return array([]bson.RawValue{e}), err
				}
			}
			return bson.RawValue{}, nil
		}})
	case op == "$meta":
		return notHere("$meta")
	}
	x, err := objectExpression(d)
	if err != nil {
		return err
	}
	c.computes = true
	return c.set(p, &node{x: x})
}

// set puts what becomes of a path into the tree; no two may be of one path, or one within
// another.
func (c *projector) set(p path, leaf *node) error {
	collision := Refuse(31249, "Location31249", "Path collision at %s", p)
	n := c.p.root
	for i, name := range p {
		next := n.below[name]
		last := i == len(p)-1
		if next != nil && (last || next.keep || next.drop || next.x != nil || next.f != nil) {
			return collision
		}
		if next == nil {
			if next = newNode(); last {
				next = leaf
				next.below = map[string]*node{}
			}
			n.below[name] = next
			n.order = append(n.order, name)
		}
		n = next
	}
	return nil
}

// slicer compiles the $slice of a find: so many of the first (or last) elements, or so many
// after some that are skipped.
func slicer(arg bson.RawValue) (func(bson.RawValue) (bson.RawValue, error), error) {
	skip, count, pair := int64(0), int64(0), false
	bad := Refuse(28724, "Location28724", "$slice needs a number, or an array of two of which the second is positive")
	if arg.Type == bson.TypeArray {
		list := values(arg)
		if len(list) != 2 {
			return nil, bad
		}
		var ok1, ok2 bool
		skip, ok1 = whole(list[0])
		count, ok2 = whole(list[1])
		if pair = true; !ok1 || !ok2 || count <= 0 {
			return nil, bad
		}
	} else {
		var ok bool
		if count, ok = whole(arg); !ok {
			return nil, bad
		}
	}
	return func(v bson.RawValue) (bson.RawValue, error) {
		if v.Type != bson.TypeArray {
			return v, nil
		}
		list := values(v)
		n := int64(len(list))
		from, to := int64(0), min(n, count)
		switch {
		case pair && skip < 0:
			from = max(0, n+skip)
			to = min(n, from+count)
		case pair:
			from = min(n, skip)
			to = min(n, from+count)
		case count < 0:
			from, to = max(0, n+count), n
		}
		return array(list[from:to]), nil
	}, nil
}

// Apply makes of a document what is wanted of it.
func (p *Projection) Apply(doc bson.Raw) (bson.Raw, error) {
	s := scopeOf(doc)
	fs, err := p.root.apply(p, s, doc, true)
	if err != nil {
		return nil, err
	}
	return document(fs...), nil
}

// apply makes the fields of a document at a node.
func (n *node) apply(p *Projection, s scope, doc bson.Raw, top bool) ([]field, error) {
	var out []field
	done := map[string]bool{}
	for _, f := range fieldsOf(doc) {
		if top && f.name == "_id" && n.below["_id"] == nil {
			if p.id {
				if p.include { // it comes first, wherever it is
					out = append([]field{f}, out...)
				} else {
					out = append(out, f)
				}
			}
			continue
		}
		next := n.below[f.name]
		done[f.name] = true
		switch {
		case next == nil:
			if !p.include {
				out = append(out, f)
			}
		case next.keep:
			out = append(out, f)
		case next.drop, next.x != nil && p.include:
			done[f.name] = next.x == nil // computed fields come last
		case next.f != nil:
			v, err := next.f(f.v)
			if err != nil {
				return nil, err
			}
			out = append(out, field{f.name, v})
		case next.x != nil:
			done[f.name] = false
		default:
			v, err := next.value(p, s, f.v)
			if err != nil {
				return nil, err
			}
			out = append(out, field{f.name, v})
		}
	}
	for _, name := range n.order {
		next := n.below[name]
		if done[name] || next.keep || next.drop || next.f != nil {
			continue
		}
		v, err := next.computed(s)
		if err != nil {
			return nil, err
		}
		if v.Type != 0 {
			out = append(out, field{name, v})
		}
	}
	return out, nil
}

// value applies a node to a value: to each document of an array.
func (n *node) value(p *Projection, s scope, v bson.RawValue) (bson.RawValue, error) {
	switch v.Type {
	case bson.TypeEmbeddedDocument:
		fs, err := n.apply(p, s, v.Document(), false)
		return docValue(document(fs...)), err
	case bson.TypeArray:
		var out []bson.RawValue
		for _, e := range values(v) {
			got, err := n.value(p, s, e)
			if err != nil {
				return v, err
			}
			if got.Type != 0 {
				out = append(out, got)
			}
		}
		return array(out), nil
	}
	if n.hasComputed() {
		return n.computed(s)
	}
	if p.include {
		return bson.RawValue{}, nil
	}
	return v, nil
}

func (n *node) hasComputed() bool {
	if n.x != nil {
		return true
	}
	for _, b := range n.below {
		if b.hasComputed() {
			return true
		}
	}
	return false
}

// computed returns what is computed at a node and below, where nothing is there.
func (n *node) computed(s scope) (bson.RawValue, error) {
	if n.x != nil {
		return n.x(s)
	}
	if !n.hasComputed() {
		return bson.RawValue{}, nil
	}
	var fs []field
	for _, name := range n.order {
		v, err := n.below[name].computed(s)
		if err != nil {
			return v, err
		}
		fs = append(fs, field{name, v})
	}
	return docValue(document(fs...)), nil
}

// CompileAddFields reads a $addFields: all is kept, and fields are added or replaced.
func compileAddFields(spec bson.Raw) (func(bson.Raw) (bson.Raw, error), error) {
	p := &Projection{root: newNode(), id: true}
	c := &projector{p: p, stage: true}
	var add func(at path, d bson.Raw) error
	add = func(at path, d bson.Raw) error {
		for _, f := range fieldsOf(d) {
			full := append(append(path{}, at...), parsePath(f.name)...)
			if f.v.Type == bson.TypeEmbeddedDocument {
				if els, _ := f.v.Document().Elements(); len(els) > 0 && !strings.HasPrefix(els[0].Key(), "$") {
					if err := add(full, f.v.Document()); err != nil {
						return err
					}
					continue
				}
			}
			x, err := compileExpression(f.v)
			if err != nil {
				return err
			}
			if err := c.set(full, &node{x: x}); err != nil {
				return err
			}
		}
		return nil
	}
	if err := add(nil, spec); err != nil {
		return nil, err
	}
	return func(doc bson.Raw) (bson.Raw, error) {
		fs, err := p.root.added(scopeOf(doc), doc)
		return document(fs...), err
	}, nil
}

// added returns a document's fields with those of a node added or replaced in their place.
func (n *node) added(s scope, doc bson.Raw) ([]field, error) {
	fs := fieldsOf(doc)
	for _, name := range n.order {
		next := n.below[name]
		i := indexOf(fs, name)
		var v bson.RawValue
		var err error
		if i >= 0 && next.x == nil {
			v, err = next.addedTo(s, fs[i].v)
		} else {
			v, err = next.computed(s)
		}
		if err != nil {
			return nil, err
		}
		switch {
		case i >= 0:
			fs[i].v = v // what is missing is left out when it is built
		case v.Type != 0:
			fs = append(fs, field{name, v})
		}
	}
	return fs, nil
}

func (n *node) addedTo(s scope, v bson.RawValue) (bson.RawValue, error) {
	switch v.Type {
	case bson.TypeEmbeddedDocument:
		fs, err := n.added(s, v.Document())
		return docValue(document(fs...)), err
	case bson.TypeArray:
		var out []bson.RawValue
		for _, e := range values(v) {
			got, err := n.addedTo(s, e)
			if err != nil {
				return v, err
			}
			out = append(out, got)
		}
		return array(out), nil
	}
	return n.computed(s)
}
