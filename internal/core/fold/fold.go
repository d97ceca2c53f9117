// Package fold makes the state of a cluster at a moment from its state at an
// earlier one and the changes in between.
//
// It is a sort-merge join: changes are sorted by namespace and key (on disk
// where there are many), and merged with the earlier trees in one pass.
// Namespaces that are created, renamed or dropped on the way are followed by
// incarnation, so that a namespace dropped and made again does not inherit.
package fold

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/extsort"
	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
)

// Model is what an engine knows about the meaning of its changes. It needs no
// server.
type Model interface {
	// Apply returns the record that a Patch makes of old. Loose says that old
	// may be from a later moment than the change (a fuzzy scan), so that what
	// does not fit is to be passed over.
	Apply(old []byte, c *record.Change, loose bool) ([]byte, error)
	// Alter returns the definition that an Alter makes of def.
	Alter(def []byte, c *record.Change) ([]byte, error)
	// Implied returns the kind and definition of a namespace that came to be by
	// its first record, without an entry of its own.
	Implied(name string) (kind record.Kind, def []byte)
}

// Settler is a Model for which it matters whether a change is applied to a record that shows it already.
type Settler interface {
	// Settles reports whether it matters for a Patch.
	Settles(patch *record.Change) bool
	// Shown returns how many of several Patches, in order, a record shows already that was read at
	// one of the moments between them.
	Shown(old []byte, patches []record.Change) int
}

// ErrDiverged means that the changes do not fit the state they are folded
// into: one of the two is not what it claims to be.
var ErrDiverged = errors.New("the log does not fit the point it follows")

// ErrCommand means that the log holds commands, which only a server can carry
// out.
var ErrCommand = errors.New("the log holds commands, which only a server can carry out")

// Fold gathers changes. Zero or more calls of Base come first, then Change in
// order of the log, then Namespaces.
type Fold struct {
	model  Model
	loose  bool
	sorter *extsort.Sorter
	all    []*Namespace
	names  map[string]*Namespace
	idents map[string]*Namespace
	want   map[int]bool
	plan   bool
	valBuf []byte
	Count  int64 // changes taken
	// unlogged: namespaces may come and go without an entry.
	unlogged bool
	// aliases are names by which entries called a namespace that had another one
	// when it was listed. A later entry that renames it explains that. They are told of as entry does.
	aliases map[alias]string
	// Of Choose: which names are followed, and who came by one of them.
	chosen  func(string) bool
	strange map[string]Untracked
	// doubtful are prefixes of names to which something was done that is not understood: what has such a name
	// may have been renamed or made by it.
	doubtful map[string]Untracked
}

type alias struct {
	n    *Namespace
	name string
}

// Namespace is one incarnation of a namespace on its way through the changes.
type Namespace struct {
	record.Namespace
	// Root is the content the changes are merged into; for namespaces given
	// to Base it may be set until Merge is called.
	Root tree.Root
	// Implied says that it came to be without an entry that created it.
	Implied bool
	id      int
	gone    bool
	// aside: it is followed, as it may come to have a chosen name, and has none.
	aside bool
}

// New makes a fold that sorts in at most bound bytes of memory and then in
// dir. With loose set it accepts bases of a later moment than the first
// changes, as a scan gives them that ran while the log went on.
func New(model Model, loose bool, dir string, bound int) *Fold {
	return &Fold{model: model, loose: loose, sorter: extsort.New(dir, bound),
		names: map[string]*Namespace{}, idents: map[string]*Namespace{}, aliases: map[alias]string{}}
}

// Unlogged declares that the server does not log that namespaces come, go and are
// renamed: one that is there with another identity has been made anew.
func (f *Fold) Unlogged(yes bool) { f.unlogged = yes }

// NewPlan makes a fold that only follows namespaces and keeps no records: its
// Namespaces say what there will be, for Want.
func NewPlan(model Model) *Fold {
	f := New(model, false, "", 0)
	f.plan = true
	return f
}

// Want restricts the records kept to those incarnations that choose accepts, of
// a plan over the same bases in the same order and the same changes.
func (f *Fold) Want(plan *Fold, choose func(*Namespace) bool) {
	f.want = map[int]bool{}
	for _, n := range plan.Namespaces() {
		if choose(n) {
			f.want[n.id] = true
		}
	}
}

// Close removes temporary files.
func (f *Fold) Close() { f.sorter.Close() }

// Base adds a namespace of the earlier state.
func (f *Fold) Base(ns record.Namespace, root tree.Root) *Namespace {
	n := f.begin(ns)
	n.Root = root
	return n
}

func (f *Fold) begin(ns record.Namespace) *Namespace {
	n := &Namespace{Namespace: ns, id: len(f.all)}
	f.all = append(f.all, n)
	f.names[ns.Name] = n
	n.aside = f.chosen != nil && !f.chosen(ns.Name)
	if len(ns.Ident) > 0 {
		f.idents[string(ns.Ident)] = n
	}
	return n
}

// endAll ends all that a Drop with a key is about.
func (f *Fold) endAll(c *record.Change) {
	for _, n := range f.all {
		if !n.gone && string(n.Kind) == c.To && strings.HasPrefix(n.Name, string(c.Key)) {
			f.end(n)
		}
	}
	maps.DeleteFunc(f.strange, func(name string, u Untracked) bool {
		return u.kind != "" && string(u.kind) == c.To && strings.HasPrefix(name, string(c.Key))
	})
}

func (f *Fold) end(n *Namespace) {
	n.gone = true
	if f.names[n.Name] == n {
		delete(f.names, n.Name)
	}
}

// find returns the incarnation a change is about, or nil.
func (f *Fold) find(c *record.Change) *Namespace {
	if len(c.Ident) > 0 {
		if n := f.idents[string(c.Ident)]; n != nil {
			return n
		}
		// What has records and no identity yet takes the entry's; a view never has one.
		if n := f.names[c.Namespace]; n != nil && len(n.Ident) == 0 && n.Kind.HasRecords() {
			return n
		}
		return nil
	}
	n := f.names[c.Namespace]
	if kind := about(c); n != nil && kind != "" && n.Kind != kind {
		return nil
	}
	return n
}

// about returns the kind of namespace that a Drop or Alter is about, where only that and a name are
// told; empty otherwise.
func about(c *record.Change) record.Kind {
	if len(c.Ident) == 0 && (c.Op == record.Drop || c.Op == record.Alter) {
		return record.Kind(c.To)
	}
	return ""
}

// Change takes the next change of the log.
func (f *Fold) Change(c *record.Change) error {
	if c.Op == record.Drop && len(c.Key) > 0 {
		f.Count++
		f.endAll(c)
		return nil
	}
	if c.Op == record.Unknown {
		f.Count++
		f.lose(c)
		return nil
	}
	n := f.find(c)
	if f.foreign(c, n) {
		return nil
	}
	f.Count++
	if n == nil && about(c) != "" {
		return nil // it was of another kind, of which other entries tell
	}
	if err := f.fits(c, n); err != nil {
		return err
	}
	if c.Op.Record() {
		if n == nil {
			if c.Op == record.Delete || f.loose && len(c.Ident) > 0 {
				// Loose: it was dropped before the namespaces were listed.
				return f.unknown(c, c.Op == record.Delete && len(c.Ident) == 0)
			}
			kind, def := f.model.Implied(c.Namespace)
			n = f.begin(record.Namespace{Name: c.Namespace, Ident: bytes.Clone(c.Ident), Kind: kind, Definition: def})
			n.Implied = true
		}
		return f.keep(n, c)
	}
	switch c.Op {
	case record.Command:
		return ErrCommand
	case record.Create:
		if n != nil && !n.gone {
			if f.loose || n.Implied {
				return nil
			}
			return fmt.Errorf("%w: %s is created, but is there already", ErrDiverged, c.Namespace)
		}
		if old := f.names[c.Namespace]; old != nil && !f.loose {
			return fmt.Errorf("%w: %s is created, but is there already with another identity", ErrDiverged, c.Namespace)
		}
		kind, def := SplitCreate(c.Value)
		f.begin(record.Namespace{Name: c.Namespace, Ident: bytes.Clone(c.Ident), Kind: kind,
			Definition: bytes.Clone(def)})
	case record.Alter:
		if n == nil {
			return f.unknown(c, false)
		}
		def, err := f.model.Alter(n.Definition, c)
		if err != nil {
			return fmt.Errorf("%s at %s: %w", c.Namespace, entry(c.At, c.Wall), err)
		}
		n.Definition = def
	case record.Drop:
		if n == nil {
			return f.unknown(c, false)
		}
		f.end(n)
	case record.Rename:
		if n == nil {
			return f.unknown(c, false)
		}
		n.aside = f.chosen != nil && !f.chosen(c.To)
		delete(f.strange, c.To)
		if old := f.names[c.To]; old != nil && old != n {
			if !f.loose {
				return fmt.Errorf("%w: %s is renamed to %s, which is there", ErrDiverged, c.Namespace, c.To)
			}
			delete(f.names, c.To)
		}
		if f.names[n.Name] == n {
			delete(f.names, n.Name)
		}
		n.Name = c.To
		f.names[c.To] = n
	case record.Empty:
		if n == nil {
			return f.unknown(c, false)
		}
		ns := n.Namespace
		f.end(n)
		f.begin(ns)
	default:
		return fmt.Errorf("%w: unknown operation %d", ErrDiverged, c.Op)
	}
	return nil
}

// fits sees that an entry's name and identity are of the same namespace. Where
// they are not, the log does not tell what was changed.
func (f *Fold) fits(c *record.Change, n *Namespace) error {
	if f.unlogged || len(c.Ident) == 0 || c.Op == record.Create {
		return nil
	}
	switch {
	case n != nil && !n.gone && n.Name != c.Namespace && len(n.Ident) > 0:
		if !f.loose {
			return fmt.Errorf("%w: %s of %s at %s carries the identity of %s", ErrDiverged, c.Op, c.Namespace,
				entry(c.At, c.Wall), n.Name)
		}
		if c.Op != record.Rename {
			f.aliases[alias{n, c.Namespace}] = entry(c.At, c.Wall)
		}
	case n == nil && !f.loose && c.Op.Record():
		if old := f.names[c.Namespace]; old != nil && len(old.Ident) > 0 {
			return fmt.Errorf("%w: %s of %s at %s carries another identity than the namespace has", ErrDiverged, c.Op,
				c.Namespace, entry(c.At, c.Wall))
		}
	}
	if c.Op == record.Rename && n != nil {
		delete(f.aliases, alias{n, c.Namespace})
	}
	return nil
}

// unexplained returns an error where entries called a namespace by a name that
// no entry took from it.
func (f *Fold) unexplained() error {
	for a, at := range f.aliases {
		if !a.n.gone {
			return fmt.Errorf("%w: an entry for %s at %s carries the identity of %s", ErrDiverged, a.name, at,
				a.n.Name)
		}
	}
	return nil
}

// entry names an entry of the log for people: by its time, and by its position where it has none.
func entry(at record.Position, wall int64) string {
	if wall <= 0 {
		return "position " + at.Hex()
	}
	return time.UnixMilli(wall).UTC().Format("2006-01-02T15:04:05.000Z")
}

// unknown answers a change to a namespace that is not there.
func (f *Fold) unknown(c *record.Change, harmless bool) error {
	if f.loose || harmless {
		return nil
	}
	return fmt.Errorf("%w: %s of %s at %s, which is not there", ErrDiverged, c.Op, c.Namespace, entry(c.At, c.Wall))
}

func (f *Fold) keep(n *Namespace, c *record.Change) error {
	if f.plan || n.gone || f.want != nil && !f.want[n.id] {
		return nil
	}
	f.valBuf = record.AppendChange(f.valBuf[:0],
		&record.Change{Op: c.Op, Value: c.Value, At: c.At, Wall: c.Wall, To: c.To})
	return f.sorter.AddTo(n.id, c.Key, f.valBuf)
}

// Identities returns the names of all that is there after the last change, by
// identity, also of what is not chosen.
func (f *Fold) Identities() map[string]string {
	out := map[string]string{}
	for id, n := range f.idents {
		if !n.gone {
			out[id] = n.Name
		}
	}
	return out
}

// Namespaces returns what is there after the last change, in order of names.
func (f *Fold) Namespaces() []*Namespace {
	var out []*Namespace
	for _, n := range f.all {
		if !n.gone && !n.aside {
			out = append(out, n)
		}
	}
	slices.SortFunc(out, func(a, b *Namespace) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Merge builds the final tree of every namespace that choose accepts (nil:
// all) and calls done with it.
func (f *Fold) Merge(ctx context.Context, src tree.Source, sink tree.Sink, choose func(*Namespace) bool,
	done func(*Namespace, tree.Root) error) error {
	return f.each(choose, func(n *Namespace, e *edits) error {
		root := n.Root
		if !n.Kind.HasRecords() {
			return done(n, tree.Root{})
		}
		if e.more || n.Root.Hash.IsZero() {
			var err error
			if root, err = tree.Merge(ctx, src, n.Root, e, sink); err != nil {
				return fmt.Errorf("%s: %w", n.Name, err)
			}
		}
		return done(n, root)
	})
}

// each goes through the living incarnations in the sorter's order.
func (f *Fold) each(choose func(*Namespace) bool, fn func(*Namespace, *edits) error) error {
	if err := f.unexplained(); err != nil {
		return err
	}
	items, err := f.sorter.Sorted()
	if err != nil {
		return err
	}
	defer items.Close()
	e := &edits{items: items, model: f.model, loose: f.loose}
	if err := e.pull(); err != nil {
		return err
	}
	for _, n := range f.all {
		if n.gone || n.aside || choose != nil && !choose(n) {
			continue
		}
		if err := e.seek(n.id); err != nil {
			return err
		}
		if err := fn(n, e); err != nil {
			return err
		}
	}
	return nil
}

// edits passes one incarnation's sorted changes to a merge.
type edits struct {
	items *extsort.Items
	model Model
	loose bool
	id    int
	// the item that comes next
	nextID     int
	nextKey    []byte
	nextChange record.Change
	valBuf     []byte
	end        bool
	more       bool // the next item is of this incarnation
	key        []byte
}

func (e *edits) pull() error {
	k, v, ok, err := e.items.Next()
	if err != nil {
		return err
	}
	if !ok {
		e.end, e.more = true, false
		return nil
	}
	var key []byte
	e.nextID, key = extsort.SplitGroup(k)
	e.nextKey = append(e.nextKey[:0], key...)
	e.valBuf = append(e.valBuf[:0], v...)
	if e.nextChange, _, err = record.ReadChange(e.valBuf); err != nil {
		return err
	}
	e.more = e.nextID == e.id
	return nil
}

func (e *edits) seek(id int) error {
	e.id = id
	e.more = !e.end && e.nextID == id
	for !e.end && e.nextID < id {
		if err := e.pull(); err != nil {
			return err
		}
	}
	return nil
}

// NextKey implements [tree.Edits].
func (e *edits) NextKey(context.Context) ([]byte, bool, error) {
	if !e.more {
		return nil, false, nil
	}
	e.key = append(e.key[:0], e.nextKey...)
	return e.key, true, nil
}

// Edit implements [tree.Edits]: it applies all changes of the key in order.
func (e *edits) Edit(_ context.Context, old []byte, present bool) ([]byte, bool, error) {
	value, keep := old, present
	if s, ok := e.model.(Settler); ok && e.loose && present {
		var err error
		if value, err = e.settle(s, old); err != nil {
			return nil, false, err
		}
	}
	for e.more && bytes.Equal(e.nextKey, e.key) {
		c := &e.nextChange
		switch c.Op {
		case record.Put:
			value, keep = bytes.Clone(c.Value), true
		case record.Delete:
			value, keep = nil, false
		case record.Patch:
			if keep {
				v, err := e.model.Apply(value, c, e.loose)
				if err != nil {
					return nil, false, fmt.Errorf("update at %s: %w", entry(c.At, c.Wall), err)
				}
				value = v
			} else if !e.loose {
				return nil, false, fmt.Errorf("%w: update at %s of a record that is not there (key %x)", ErrDiverged,
					entry(c.At, c.Wall), e.key)
			}
		}
		if err := e.pull(); err != nil {
			return nil, false, err
		}
	}
	return value, keep, nil
}

// maxSettled bounds the patches of one record that are looked at together.
const maxSettled = 4096

// settle applies the patches with which the changes of a key begin, but for those that the record shows already.
func (e *edits) settle(s Settler, old []byte) ([]byte, error) {
	var patches []record.Change
	for e.more && bytes.Equal(e.nextKey, e.key) && e.nextChange.Op == record.Patch &&
		len(patches) < maxSettled && s.Settles(&e.nextChange) {
		patches = append(patches, e.nextChange.Clone())
		if err := e.pull(); err != nil {
			return nil, err
		}
	}
	value := old
	for i := s.Shown(old, patches); i < len(patches); i++ {
		var err error
		if value, err = e.model.Apply(value, &patches[i], true); err != nil {
			return nil, fmt.Errorf("update at %s: %w", entry(patches[i].At, patches[i].Wall), err)
		}
	}
	return value, nil
}

// JoinCreate makes the value of a Create change.
func JoinCreate(kind record.Kind, definition []byte) []byte {
	return append(append([]byte(kind), 0), definition...)
}

// SplitCreate takes the value of a Create change apart.
func SplitCreate(value []byte) (kind record.Kind, definition []byte) {
	k, d, _ := bytes.Cut(value, []byte{0})
	return record.Kind(k), d
}
