package content

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"dexamen/internal/core/sortedfile"
	"dexamen/internal/core/tempfile"
	"dexamen/internal/core/tree"
)

// A table holds copies of nodes in the order of their names, in a sorted file: the name, the
// number of the content file, the place, and what a [Entry] says of it. What patches are of
// lies in a second one, by name and number.
const (
	hashSize   = len(tree.Hash{})
	nodeRecord = hashSize + 4 + 4*4 + 1
	baseKey    = hashSize + 4
)

var (
	nodeForm = sortedfile.Form{Record: nodeRecord, Key: hashSize}
	baseForm = sortedfile.Form{Record: baseKey + hashSize, Key: baseKey}
)

// How many tables there are at once: while content files' lists are read, of those about as
// large; and else.
const (
	tablesOfLevel = 32
	tablesAtRest  = 6
)

type table struct {
	nodes, bases *sortedfile.File // bases is nil where none is a patch
	name         string           // in the folder where they are kept, else empty
	level        int              // how often it was merged while lists were read
}

func (t *table) len() int64 { return t.nodes.Len() }

// find appends the copies of a node.
func (t *table) find(h tree.Hash, list []Copy) ([]Copy, error) {
	from := len(list)
	err := t.nodes.Find(h[:], func(_ int64, r []byte) bool {
		list = append(list, Copy{Place: placeOf(r)})
		return true
	})
	for i := from; err == nil && i < len(list); i++ {
		if list[i].Patch {
			list[i].Base, err = t.base(h, list[i].File)
		}
	}
	return list, err
}

// base returns what a copy of a node is a patch of.
func (t *table) base(h tree.Hash, file uint32) (base tree.Hash, err error) {
	err = fmt.Errorf("%w: the base of node %s is missing", sortedfile.ErrDamaged, h.Short())
	if t.bases == nil {
		return base, err
	}
	key := binary.BigEndian.AppendUint32(h[:len(h):len(h)], file)
	ferr := t.bases.Find(key, func(_ int64, r []byte) bool {
		copy(base[:], r[baseKey:])
		err = nil
		return false
	})
	if ferr != nil {
		err = ferr
	}
	return base, err
}

func appendPlace(dst []byte, h tree.Hash, p Place) []byte {
	dst = append(dst, h[:]...)
	for _, v := range [...]uint32{p.File, p.FrameOff, p.FrameLen, p.off, p.Len} {
		dst = binary.BigEndian.AppendUint32(dst, v)
	}
	flags := byte(0)
	if p.Patch {
		flags |= flagPatch
	}
	if p.Pieces {
		flags |= flagPieces
	}
	return append(dst, flags)
}

func placeOf(r []byte) Place {
	u := func(i int) uint32 { return binary.BigEndian.Uint32(r[hashSize+4*i:]) }
	flags := r[nodeRecord-1]
	return Place{u(0), u(1), u(2), u(3), u(4), flags&flagPatch != 0, flags&flagPieces != 0}
}

// full reports whether more lies in memory than is to; the lock is held.
func (x *Index) full() bool { return x.held-x.open > x.bound }

// inMemory returns the records of what lies in memory, in order; all, or only of content files that are
// stored.
func (x *Index) inMemory(all bool) (nodes, bases []byte) {
	x.Mu.RLock()
	nodes = make([]byte, 0, x.held*nodeRecord)
	for h, p := range x.places {
		x.recordsOf(h, Copy{p, x.bases[h]}, all, &nodes, &bases)
		for _, c := range x.more[h] {
			x.recordsOf(h, c, all, &nodes, &bases)
		}
	}
	x.Mu.RUnlock()
	return inOrder(nodes, nodeForm), inOrder(bases, baseForm)
}

func (x *Index) recordsOf(h tree.Hash, c Copy, all bool, nodes, bases *[]byte) {
	if !all && x.Files[c.File].mem != nil {
		return
	}
	*nodes = appendPlace(*nodes, h, c.Place)
	if c.Patch {
		*bases = binary.BigEndian.AppendUint32(append(*bases, h[:]...), c.File)
		*bases = append(*bases, c.Base[:]...)
	}
}

// inOrder returns records in the order of all their bytes.
func inOrder(b []byte, form sortedfile.Form) []byte {
	list := slices.Collect(slices.Chunk(b, form.Record))
	slices.SortFunc(list, bytes.Compare)
	return bytes.Join(list, nil)
}

// change has tables be changed, in the folder where they are kept if this process may write it. The
// caller has made sure that nobody else changes any.
func (x *Index) change(do func() error) error {
	if x.own || !x.keep.lock() {
		return do()
	}
	defer x.keep.unlock()
	if err := do(); err != nil {
		return err
	}
	return x.keep.save(x)
}

// saveShare is in how much of the time at most what is kept is written while much is loaded, as it is written whole.
const saveShare = 10

// changeOften is change, for what is done many times one after the other: what the folder says is written now and
// then, and settle does so at the end. Tables that it does not name are lost when that does not come to be.
func (x *Index) changeOften(do func() error) error {
	if x.own || !x.keep.lock() {
		return do()
	}
	defer x.keep.unlock()
	x.keep.unsaved = true
	if err := do(); err != nil || time.Since(x.keep.saved) < saveShare*x.keep.took {
		return err
	}
	return x.keep.save(x)
}

// spill moves what lies in memory of stored content files into a table, within change.
func (x *Index) spill() error {
	nodes, bases := x.inMemory(false)
	if len(nodes) > 0 {
		t, err := x.write(&sortedfile.Records{Bytes: nodes, Size: nodeRecord},
			&sortedfile.Records{Bytes: bases, Size: baseForm.Record}, 0)
		if err != nil {
			return err
		}
		x.Mu.Lock()
		x.tables = append(slices.Clone(x.tables), t)
		moved := map[uint32]bool{}
		for r := range slices.Chunk(nodes, nodeRecord) {
			h, file := tree.Hash(r[:hashSize]), placeOf(r).File
			moved[file] = true
			if p, ok := x.places[h]; ok {
				x.dropOf(h, p, func(of uint32) bool { return of == file })
			}
		}
		for file := range moved {
			x.Files[file].tabled = true
		}
		x.Mu.Unlock()
	}
	for level := 0; ; level++ {
		of, others := x.split(func(t *table) bool { return t.level == level })
		if len(of) >= tablesOfLevel {
			if err := x.merge(of, level+1); err != nil {
				return err
			}
		} else if len(of) == 0 && !slices.ContainsFunc(others, func(t *table) bool { return t.level > level }) {
			break
		}
	}
	return nil
}

// settle ends a refresh in which a number of listings was read: it merges tables until few are
// left, and keeps what was read where that was much.
func (x *Index) settle(listings int) error {
	x.Mu.RLock()
	much := x.full() || len(x.tables) > 0 && (listings > 64 || x.held-x.open > x.bound/4)
	many := len(x.tables) > tablesAtRest
	x.Mu.RUnlock()
	if !much && !many {
		if x.keep != nil && x.keep.unsaved {
			return x.change(func() error { return nil })
		}
		return nil
	}
	return x.change(func() error { return errors.Join(x.spill(), x.fewer()) })
}

// fewer merges tables until few are left.
func (x *Index) fewer() error {
	for len(x.tables) > tablesAtRest {
		// Of the smallest at least two, and more while they are about as large, so that few records
		// are merged often.
		bySize := slices.SortedFunc(slices.Values(x.tables),
			func(a, b *table) int { return cmp.Compare(a.len(), b.len()) })
		n, sum := 2, bySize[0].len()+bySize[1].len()
		for n < len(bySize) && bySize[n].len() <= 2*sum {
			sum += bySize[n].len()
			n++
		}
		if err := x.merge(bySize[:n], bySize[n-1].level+1); err != nil {
			return err
		}
	}
	return nil
}

func (x *Index) split(which func(*table) bool) (of, others []*table) {
	for _, t := range x.tables {
		if which(t) {
			of = append(of, t)
		} else {
			others = append(others, t)
		}
	}
	return of, others
}

// merge puts one table in the place of several. Where these are all, what content files list that have
// gone is left out.
func (x *Index) merge(of []*table, level int) error {
	var nodes, bases []sortedfile.Source
	for _, t := range of {
		nodes = append(nodes, t.nodes.Cursor())
		if t.bases != nil {
			bases = append(bases, t.bases.Cursor())
		}
	}
	left := map[uint32]bool{}
	if len(of) == len(x.tables) {
		x.Mu.RLock()
		for n, f := range x.Files {
			if f.Gone && f.tabled {
				left[uint32(n)] = true
			}
		}
		x.Mu.RUnlock()
	}
	t, err := x.write(
		&without{sortedfile.NewMerge(nodeForm.Key, nodes...), left},
		&without{sortedfile.NewMerge(baseForm.Key, bases...), left}, level)
	if err != nil {
		return err
	}
	x.Mu.Lock()
	defer x.Mu.Unlock()
	_, others := x.split(func(t *table) bool { return slices.Contains(of, t) })
	x.tables = append(others, t)
	for n := range left {
		x.Files[n].tabled = false
		delete(x.number, x.Files[n].Name)
	}
	return nil
}

// without leaves out the records of content files.
type without struct {
	sortedfile.Source
	files map[uint32]bool
}

func (w *without) Next() ([]byte, bool, error) {
	for {
		r, ok, err := w.Source.Next()
		if err != nil || !ok || !w.files[binary.BigEndian.Uint32(r[hashSize:])] {
			return r, ok, err
		}
	}
}

// write makes a table.
func (x *Index) write(nodes, bases sortedfile.Source, level int) (*table, error) {
	t := &table{level: level}
	name := ""
	if x.keep.locked() {
		name = x.keep.newName()
	}
	var err error
	if t.nodes, err = x.writeFile(name, ".nodes", nodes, nodeForm); err != nil {
		return nil, err
	}
	t.bases, err = x.writeFile(name, ".bases", bases, baseForm)
	if err != nil {
		return nil, err
	}
	if t.bases.Len() == 0 {
		t.bases = nil
	}
	t.name = name
	return t, nil
}

func (x *Index) writeFile(name, ending string, s sortedfile.Source, form sortedfile.Form) (_ *sortedfile.File,
	err error) {
	var f *os.File
	if name != "" {
		f, err = os.OpenFile(filepath.Join(x.keep.dir, name+ending), os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	} else {
		f, err = tempfile.New(x.temp, "dexamen-index-*")
	}
	if err != nil {
		return nil, fmt.Errorf("index of nodes: %w", err)
	}
	defer func() {
		if err != nil {
			_ = f.Close()
		}
	}()
	w := sortedfile.NewWriter(f, form)
	for {
		r, ok, err := s.Next()
		if err == nil && ok {
			err = w.Add(r)
		}
		if err != nil {
			return nil, fmt.Errorf("index of nodes: %w", err)
		}
		if !ok {
			break
		}
	}
	if err := w.Close(); err != nil {
		return nil, fmt.Errorf("index of nodes: %w", err)
	}
	return openFile(f, form)
}

func openFile(f *os.File, form sortedfile.Form) (*sortedfile.File, error) {
	i, err := f.Stat()
	if err != nil {
		return nil, err
	}
	return sortedfile.Open(f, i.Size(), form)
}

// openTable opens a table of the folder where they are kept.
func openTable(dir, name string) (*table, error) {
	t := &table{name: name, level: 1}
	for _, part := range []struct {
		ending string
		form   sortedfile.Form
		to     **sortedfile.File
	}{{".nodes", nodeForm, &t.nodes}, {".bases", baseForm, &t.bases}} {
		f, err := os.Open(filepath.Join(dir, name+part.ending))
		if errors.Is(err, fs.ErrNotExist) && part.ending == ".bases" {
			return t, nil
		}
		if err != nil {
			return nil, err
		}
		if *part.to, err = openFile(f, part.form); err != nil {
			_ = f.Close()
			return nil, err
		}
	}
	return t, nil
}

// Each calls visit with every node once, in the order of their names, and where it is to be read.
func (x *Index) Each(visit func(h tree.Hash, p Place) error) error {
	memory, _ := x.inMemory(true)
	x.Mu.RLock()
	sources := []sortedfile.Source{&sortedfile.Records{Bytes: memory, Size: nodeRecord}}
	for _, t := range x.tables {
		sources = append(sources, t.nodes.Cursor())
	}
	x.Mu.RUnlock()
	var node tree.Hash
	var best Place
	found := false
	m := sortedfile.NewMerge(nodeForm.Key, sources...)
	for {
		r, ok, err := m.Next()
		if err != nil {
			x.broken.Store(true)
			return fmt.Errorf("index of nodes: %w", err)
		}
		if found && (!ok || !bytes.Equal(r[:hashSize], node[:])) {
			if err := visit(node, best); err != nil {
				return err
			}
			found = false
		}
		if !ok {
			return nil
		}
		p := placeOf(r)
		x.Mu.RLock()
		if !x.Files[p.File].Gone && (!found || x.better(Copy{Place: p}, Copy{Place: best})) {
			found, best, node = true, p, tree.Hash(r[:hashSize])
		}
		x.Mu.RUnlock()
	}
}

// spill moves what lies in memory into a table where it is too much.
func (s *Content) spill() error {
	s.Index.Mu.RLock()
	full := s.Index.full()
	s.Index.Mu.RUnlock()
	if !full {
		return nil
	}
	s.loading.Lock()
	defer s.loading.Unlock()
	return s.Index.change(func() error { return errors.Join(s.Index.spill(), s.Index.fewer()) })
}
