package upkeep

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"os"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/content"
	"dexamen/internal/core/extsort"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/sortedfile"
	"dexamen/internal/core/tempfile"
	"dexamen/internal/core/tree"
)

// holding is where every copy of every node lies, by what the content files say themselves. All of it is in temporary
// files: in memory are only the names of content files, and where each one's list lies.
type holding struct {
	files []*content.File
	bad   []string // content files whose list cannot be read

	// The lists one after the other, as content files have them.
	lists *os.File
	at    []int64 // where each file's begins, and where the last one ends
	first []int64 // number of each file's first entry, and of all entries

	// copies has a record for each copy, in the order of nodes' names.
	copies *sortedfile.File
	temp   *os.File // it lies in
	// lies are files of which it has shown that they do not hold what they say. Their copies do not count, but where
	// there is no other.
	lies map[uint32]bool
}

// copyOf is one copy of a node: in which content file, by which of its entries, how long, and whether as a patch.
type copyOf struct {
	file, entry, len uint32
	patch            bool
}

var copyForm = sortedfile.Form{Record: len(tree.Hash{}) + 13, Key: len(tree.Hash{})}

func appendCopy(b []byte, c copyOf) []byte {
	for _, v := range [...]uint32{c.file, c.entry, c.len} {
		b = binary.BigEndian.AppendUint32(b, v)
	}
	patch := byte(0)
	if c.patch {
		patch = 1
	}
	return append(b, patch)
}

func readCopy(b []byte) copyOf {
	u := binary.BigEndian.Uint32
	return copyOf{u(b), u(b[4:]), u(b[8:]), b[12] == 1}
}

// holdings reads the lists of all content files from the content files themselves. What it returns is to be closed.
func (s *Upkeep) holdings(ctx context.Context) (_ *holding, err error) {
	pending, err := s.PendingDeletes(ctx)
	if err != nil {
		return nil, err
	}
	suspect, err := s.Suspects(ctx)
	if err != nil {
		return nil, err
	}
	h := &holding{at: []int64{0}, first: []int64{0}, lies: map[uint32]bool{}}
	defer func() {
		if err != nil {
			h.close()
		}
	}()
	if h.lists, err = tempfile.New(s.Limits.Temp, "dexamen-lists-*"); err != nil {
		return nil, fmt.Errorf("lists of content files: %w", err)
	}
	sorter := extsort.New(s.Limits.Temp, s.sortBytes())
	defer sorter.Close()
	out := bufio.NewWriterSize(h.lists, 1<<20)
	err = s.Blob.List(ctx, sealed.ContentPrefix, func(i blob.Info) error {
		footer, err := s.ReadFooter(ctx, i.Name)
		var f *content.Footer
		if err == nil {
			f, err = content.DecodeFooter(i.Name, footer)
		}
		switch {
		case errors.Is(err, sealed.ErrDamaged):
			h.bad = append(h.bad, i.Name)
			return nil
		case errors.Is(err, blob.ErrNotFound):
			return nil
		case err != nil:
			return err
		}
		id := uint32(len(h.files))
		h.files = append(h.files, &content.File{
			Name: i.Name, Size: i.Size, Made: i.Made, PendingDelete: pending[i.Name], Suspect: suspect[i.Name],
			Doubted: !s.Believed(i.Name, f)})
		h.at = append(h.at, h.at[id]+int64(len(footer)))
		h.first = append(h.first, h.first[id]+int64(len(f.Entries)))
		if _, err := out.Write(footer); err != nil {
			return fmt.Errorf("lists of content files: %w", err)
		}
		var value []byte
		for k := range f.Entries {
			o := &f.Entries[k]
			value = appendCopy(value[:0], copyOf{id, uint32(k), o.Len, !o.Base.IsZero()})
			if err := sorter.Add(o.Name[:], value); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil {
		err = out.Flush()
	}
	if err != nil {
		return nil, err
	}
	return h, h.sort(s.Limits.Temp, sorter)
}

// sortBytes is what sorting nodes takes of memory: as much as is held of where they lie.
func (s *Upkeep) sortBytes() int { return max(s.Limits.IndexBytes, 1<<20) }

// sort writes the copies in the order of nodes' names.
func (h *holding) sort(dir string, sorter *extsort.Sorter) (err error) {
	var record []byte
	h.copies, h.temp, err = sortedIn(dir, "copies of nodes", copyForm, sorter,
		func(w *sortedfile.Writer, k, v []byte) error {
			if k == nil {
				return nil
			}
			record = append(append(record[:0], k...), v...)
			return w.Add(record)
		})
	return err
}

// sortedIn writes what is sorted into a temporary file, which the caller closes. What names it for people. Put is
// called with each item, and with nothing at the end.
func sortedIn(dir, what string, form sortedfile.Form, sorter *extsort.Sorter,
	put func(w *sortedfile.Writer, k, v []byte) error) (_ *sortedfile.File, f *os.File, err error) {
	if f, err = tempfile.New(dir, "dexamen-sorted-*"); err != nil {
		return nil, nil, fmt.Errorf("%s: %w", what, err)
	}
	defer func() {
		if err != nil {
			_ = f.Close()
			f, err = nil, fmt.Errorf("%s: %w", what, err)
		}
	}()
	items, err := sorter.Sorted()
	if err != nil {
		return nil, f, err
	}
	defer items.Close()
	w := sortedfile.NewWriter(f, form)
	for {
		k, v, ok, err := items.Next()
		if err == nil && ok {
			err = put(w, k, v)
		}
		if err != nil {
			return nil, f, err
		}
		if !ok {
			break
		}
	}
	if err := put(w, nil, nil); err != nil {
		return nil, f, err
	}
	if err := w.Close(); err != nil {
		return nil, f, err
	}
	i, err := f.Stat()
	if err != nil {
		return nil, f, err
	}
	sorted, err := sortedfile.Open(f, i.Size(), form)
	return sorted, f, err
}

// close removes the temporary files.
func (h *holding) close() {
	for _, f := range []*os.File{h.lists, h.temp} {
		if f != nil {
			_ = f.Close()
		}
	}
}

// entries returns what a content file lists.
func (h *holding) entries(i int) ([]content.Entry, error) {
	b := make([]byte, h.at[i+1]-h.at[i])
	if _, err := h.lists.ReadAt(b, h.at[i]); err != nil {
		return nil, fmt.Errorf("lists of content files: %w", err)
	}
	f, err := content.DecodeFooter(h.files[i].Name, b)
	if err != nil {
		return nil, err
	}
	return f.Entries, nil
}

// number is that of a copy among all.
func (h *holding) number(c copyOf) uint64 { return uint64(h.first[c.file]) + uint64(c.entry) }

// copiesOf returns the copies of a node.
func (h *holding) copiesOf(node tree.Hash) ([]copyOf, error) {
	var list []copyOf
	err := h.copies.Find(node[:], func(_ int64, r []byte) bool {
		list = append(list, readCopy(r[copyForm.Key:]))
		return true
	})
	return list, err
}

// counting leaves out copies in content files that lie, unless these are all there is. It uses the list's room.
func (h *holding) counting(list []copyOf) []copyOf {
	n := 0
	for _, c := range list {
		if !h.lies[c.file] {
			list[n], n = c, n+1
		}
	}
	if n == 0 {
		return list
	}
	return list[:n]
}

// eachNode calls visit with every node and its copies, in the order of names. The list is valid until visit returns.
func (h *holding) eachNode(ctx context.Context, visit func(node tree.Hash, copies []copyOf) error) error {
	cur := h.copies.Cursor()
	var node tree.Hash
	var list []copyOf
	for {
		r, ok, err := cur.Next()
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return err
		}
		if len(list) > 0 && (!ok || tree.Hash(r[:copyForm.Key]) != node) {
			if err := visit(node, list); err != nil {
				return err
			}
			list = list[:0]
		}
		if !ok {
			return nil
		}
		node, list = tree.Hash(r[:copyForm.Key]), append(list, readCopy(r[copyForm.Key:]))
	}
}

// nameCursor goes through a set of nodes in order.
type nameCursor struct {
	names sortedfile.Source
	next  tree.Hash
	ended bool
}

func newNameCursor(set *content.NodeSet) (*nameCursor, error) {
	c := &nameCursor{names: set.Names()}
	return c, c.advance()
}

func (c *nameCursor) advance() error {
	r, ok, err := c.names.Next()
	if err == nil && ok {
		c.next = tree.Hash(r)
	}
	c.ended = !ok
	return err
}

// has reports whether a node is in the set; nodes are asked for in order.
func (c *nameCursor) has(node tree.Hash) (bool, error) {
	for !c.ended && string(c.next[:]) < string(node[:]) {
		if err := c.advance(); err != nil {
			return false, err
		}
	}
	return !c.ended && c.next == node, nil
}
