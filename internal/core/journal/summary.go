package journal

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"time"
	"unique"

	"dexamen/internal/core/record"
)

// Window is the stretch of time in which changes are counted to tell how busy a log was.
const Window = 10 * time.Second

// maxTallies is how many namespaces a header summarizes.
const maxTallies = 500

// Tally counts what a segment's changes do to one namespace. A renaming counts for both
// names.
type Tally struct {
	Namespace string `json:"namespace"`
	// By has a count for each operation, by its name ([record.Op.String]); "moved" counts
	// records that went from one shard to another ([record.Moved]).
	By Counts `json:"by"`
}

// Counts are counts by operation, in order of their names. As JSON they are an object; in memory they are a
// list, since a map takes ten times as much, and many headers are held at once.
type Counts []OpCount

// OpCount counts the changes of one operation.
type OpCount struct {
	Op string
	Count
}

// Of returns the count of an operation, zero where there is none.
func (c Counts) Of(op string) Count {
	for i := range c {
		if c[i].Op == op {
			return c[i].Count
		}
	}
	return Count{}
}

// MarshalJSON implements [json.Marshaler].
func (c Counts) MarshalJSON() ([]byte, error) {
	by := make(map[string]Count, len(c))
	for _, n := range c {
		by[n.Op] = n.Count
	}
	return json.Marshal(by)
}

// UnmarshalJSON implements [json.Unmarshaler].
func (c *Counts) UnmarshalJSON(b []byte) error {
	var by map[string]Count
	if err := json.Unmarshal(b, &by); err != nil {
		return err
	}
	*c = countsOf(by)
	return nil
}

func countsOf(by map[string]Count) Counts {
	out := make(Counts, 0, len(by))
	for _, op := range slices.Sorted(maps.Keys(by)) {
		out = append(out, OpCount{unique.Make(op).Value(), by[op]})
	}
	return out
}

// Count counts changes of one operation.
type Count struct {
	Changes int64 `json:"changes"`
	// Busiest is the most of them within one [Window] of the servers' clock.
	Busiest int64 `json:"busiest"`
}

// Tally returns what the header says of a namespace. Known is false where the header does
// not tell, so that the changes must be read.
func (h *Header) Tally(namespace string) (by Counts, known bool) {
	for i := range h.Summary {
		if h.Summary[i].Namespace == namespace {
			return h.Summary[i].By, true
		}
	}
	return nil, h.Summarized()
}

// Weight is about how many bytes of memory a header takes.
func (h *Header) Weight() int {
	n := 700
	for i := range h.Summary {
		n += 64 + 32*len(h.Summary[i].By)
	}
	return n
}

// Summarized reports whether the header tells of every change of the segment.
func (h *Header) Summarized() bool {
	return h.Unsummarized == 0 && (len(h.Summary) > 0 || h.Changes == 0)
}

// summarizer gathers a segment's summary.
type summarizer struct {
	effect func(*record.Change) record.Op
	byName map[string]map[string]*busy
	missed int64
}

// busy counts changes of one operation, and those of the window that goes on.
type busy struct {
	Count
	window, inWindow int64
}

func (s *summarizer) add(c *record.Change) {
	if c.Op.Record() && c.To == record.Moved {
		s.tally(c.Namespace, MovedName, c.Wall)
		return
	}
	op := c.Op
	if s.effect != nil {
		op = s.effect(c)
	}
	s.tally(c.Namespace, op.String(), c.Wall)
	if c.Op == record.Rename {
		s.tally(c.To, op.String(), c.Wall)
	}
}

// Busiest returns the most changes of one operation to a namespace within a [Window] in the
// segment so far.
func (b *Builder) Busiest(namespace string, op record.Op) int64 {
	if n := b.sums.byName[namespace][op.String()]; n != nil {
		return n.Busiest
	}
	return 0
}

// MovedName is the name under which records are counted that went from one shard to another.
const MovedName = "moved"

func (s *summarizer) tally(name, op string, wall int64) {
	if s.byName == nil {
		s.byName = map[string]map[string]*busy{}
	}
	ops := s.byName[name]
	if ops == nil {
		if len(s.byName) >= maxTallies {
			s.missed++
			return
		}
		ops = map[string]*busy{}
		s.byName[name] = ops
	}
	b := ops[op]
	if b == nil {
		b = &busy{}
		ops[op] = b
	}
	if w := wall / Window.Milliseconds(); w != b.window || b.Changes == 0 {
		b.window, b.inWindow = w, 0
	}
	b.Changes++
	b.inWindow++
	b.Busiest = max(b.Busiest, b.inWindow)
}

// merge adds what the headers of segments say that this one takes the place of: what
// commands do is known to whom captured them.
func (s *summarizer) merge(h *Header) {
	s.missed += h.Unsummarized
	if !h.Summarized() && h.Unsummarized == 0 {
		s.missed += h.Changes
	}
	for _, t := range h.Summary {
		for _, c := range t.By {
			s.tally(t.Namespace, c.Op, 0)
			if b := s.byName[t.Namespace][c.Op]; b != nil {
				b.Changes += c.Changes - 1
				b.Busiest = max(b.Busiest, c.Busiest)
			} else {
				s.missed += c.Changes - 1
			}
		}
	}
}

// list returns the summary in order of names.
func (s *summarizer) list() []Tally {
	var out []Tally
	for name, ops := range s.byName {
		by := make(map[string]Count, len(ops))
		for op, b := range ops {
			by[op] = b.Count
		}
		out = append(out, Tally{Namespace: name, By: countsOf(by)})
	}
	slices.SortFunc(out, func(a, b Tally) int { return strings.Compare(a.Namespace, b.Namespace) })
	return out
}
