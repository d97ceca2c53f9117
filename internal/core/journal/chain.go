package journal

import (
	"cmp"
	"errors"
	"slices"
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/core/tree"
)

// Chain is all segments of one shard, in order of where they begin.
type Chain struct {
	Shard    string
	Segments []Header
	// Superseded are segments that others were put together from, and that are
	// there still though some of those that belong to them are not.
	Superseded []Header
	// Joins are segments that were put together from others that are all there still: those
	// count as long as they are.
	Joins []Header
	// far has, by segment, the last one that the log leads to from there without a break; nil where segments overlap.
	far []int
}

// NewChain orders segments of one shard. The slice is the chain's from then on: of a million
// segments there is no room for two.
func NewChain(shard string, segments []Header) *Chain {
	c := &Chain{Shard: shard}
	order(segments)
	if apart(segments) {
		c.Segments = segments
	} else {
		c.untangle(segments)
	}
	for i := range c.Segments {
		s := &c.Segments[i]
		share(&s.First, &s.Last)
		if i > 0 {
			share(&s.After, &c.Segments[i-1].Last)
		}
	}
	c.far = c.unbroken()
	return c
}

// order sorts segments where they are not in order already, as those of one listing are.
func order(segments []Header) {
	for i := 1; i < len(segments); i++ {
		if byBeginning(&segments[i-1], &segments[i]) > 0 {
			slices.SortFunc(segments, func(a, b Header) int { return byBeginning(&a, &b) })
			return
		}
	}
}

// apart reports whether no two segments, in order of where they begin, cover the same: the usual
// case, in which all of them count.
func apart(segments []Header) bool {
	for i := range segments {
		s := &segments[i]
		if s.Last.Position <= s.After.Position || i > 0 && s.After.Position < segments[i-1].Last.Position {
			return false
		}
	}
	return true
}

// share has a mark use the text of another one where both say the same.
func share(m, as *record.Mark) {
	if m.Position == as.Position {
		m.Position = as.Position
	}
	if m.Entry == as.Entry {
		m.Entry = as.Entry
	}
}

// untangle finds what counts of segments of which some cover the same.
func (c *Chain) untangle(segments []Header) {
	begins := map[record.Position][]*Header{}
	for i := range segments {
		s := &segments[i]
		begins[s.After.Position] = append(begins[s.After.Position], s)
	}
	var whole []Header
	for i := range segments {
		if s := &segments[i]; s.Joined > 0 && inParts(s, begins) {
			c.Joins = append(c.Joins, *s)
		} else {
			whole = append(whole, *s)
		}
	}
	c.lead(whole)
}

// lead finds the way over segments, in order of where they begin, that leads the furthest, each sealed upon
// the one before; what it covers besides is superseded. Processes that did not know of each other may have
// put the same segments together in several ways.
func (c *Chain) lead(list []Header) {
	starts := map[record.Position][]int{}
	for i := range list {
		starts[list[i].After.Position] = append(starts[list[i].After.Position], i)
	}
	// By each segment, how far the way over it leads, and to which segment next.
	reach, next := make([]record.Position, len(list)), make([]int, len(list))
	better := func(i, than int) bool {
		return than < 0 || cmp.Or(cmp.Compare(reach[i], reach[than]),
			cmp.Compare(list[i].Last.Position, list[than].Last.Position), list[i].Joined-list[than].Joined) > 0
	}
	for i := len(list) - 1; i >= 0; i-- {
		reach[i], next[i] = list[i].Last.Position, -1
		if list[i].Last.Position <= list[i].After.Position {
			continue
		}
		for _, k := range starts[list[i].Last.Position] {
			if list[i].Precedes(&list[k]) && better(k, next[i]) {
				next[i] = k
			}
		}
		if next[i] >= 0 {
			reach[i] = reach[next[i]]
		}
	}
	taken := make([]bool, len(list))
	var end record.Position
	for i := range list {
		if taken[i] || list[i].After.Position < end {
			continue // the way leads over it, or beside it
		}
		at := -1
		for _, k := range starts[list[i].After.Position] {
			if !taken[k] && better(k, at) {
				at = k
			}
		}
		for ; at >= 0; at = next[at] {
			taken[at] = true
			c.Segments = append(c.Segments, list[at])
			end = max(end, list[at].Last.Position)
		}
	}
	way := c.Segments
	for i := range list {
		switch {
		case taken[i]:
		case covers(way, &list[i]):
			c.Superseded = append(c.Superseded, list[i])
		default: // it does not fit: see Gaps
			c.Segments = append(slices.Clip(c.Segments), list[i])
		}
	}
	slices.SortStableFunc(c.Segments, func(a, b Header) int { return byBeginning(&a, &b) })
}

// covers reports whether segments, in order, cover another one without a gap.
func covers(way []Header, s *Header) bool {
	i, found := slices.BinarySearchFunc(way, s.After.Position,
		func(h Header, at record.Position) int { return cmp.Compare(h.After.Position, at) })
	if !found {
		i--
	}
	for ; i >= 0 && i < len(way); i++ {
		if way[i].Last.Position >= s.Last.Position {
			return true
		}
		if i+1 < len(way) && !way[i].Precedes(&way[i+1]) {
			return false
		}
	}
	return false
}

func byBeginning(a, b *Header) int {
	// What reaches further first.
	return cmp.Or(cmp.Compare(a.After.Position, b.After.Position), cmp.Compare(b.Last.Position, a.Last.Position))
}

// inParts reports whether the stretch that a joined segment covers is there in segments
// that cover less, each sealed upon the one before.
func inParts(joined *Header, begins map[record.Position][]*Header) bool {
	at, prev := joined.After.Position, joined.Prev
	for n := 0; at != joined.Last.Position; n++ {
		i := slices.IndexFunc(begins[at], func(s *Header) bool {
			return s.Joined < joined.Joined && s.Last.Position > at && s.Last.Position <= joined.Last.Position &&
				(n == 0 || s.Prev == prev)
		})
		if i < 0 {
			return false
		}
		at, prev = begins[at][i].Last.Position, begins[at][i].TailID()
	}
	return true
}

// Within reports whether what a segment covers is all covered by another one.
func (h *Header) Within(other *Header) bool {
	return other.After.Position <= h.After.Position && h.Last.Position <= other.Last.Position
}

// Covering returns a function that reports, of segments that it is asked of in order, whether one of a list, in
// order, covers them.
func Covering(list []Header) func(*Header) bool {
	var end record.Position
	i := 0
	return func(h *Header) bool {
		for ; i < len(list) && list[i].After.Position <= h.After.Position; i++ {
			end = max(end, list[i].Last.Position)
		}
		return h.Last.Position <= end
	}
}

// Inside returns those of a list, in order, that begin within what a segment covers.
func (h *Header) Inside(list []Header) []Header {
	at := func(pos record.Position) int {
		n, _ := slices.BinarySearchFunc(list, pos, func(s Header, at record.Position) int {
			return cmp.Compare(s.After.Position, at)
		})
		return n
	}
	return list[at(h.After.Position):max(at(h.After.Position), at(h.Last.Position))]
}

// Precedes reports whether another segment is the one sealed upon this one.
func (h *Header) Precedes(next *Header) bool {
	return h.Last.Position == next.After.Position && next.Prev == h.TailID()
}

// Gap is a stretch of a log of which nothing is known.
type Gap struct {
	Shard  string      `json:"shard"`
	From   record.Mark `json:"from"`
	To     record.Mark `json:"to"`
	Reason string      `json:"reason"`
}

// Beginning is why a gap is there whose segments are no longer in the store: of
// a log without its beginning, which retention may have removed.
const Beginning = "earlier segments are no longer in the store"

// Gaps lists the stretches that are missing: those that capture said it lost,
// and those where a segment that should be there is not, or is not the one its
// successor was sealed upon.
func (c *Chain) Gaps() []Gap {
	var gaps []Gap
	for i := range c.Segments {
		s := &c.Segments[i]
		if s.Gap != "" {
			gaps = append(gaps, Gap{c.Shard, s.After, s.Last, s.Gap})
		}
		if i == 0 {
			if !s.Prev.IsZero() {
				gaps = append(gaps, Gap{c.Shard, record.Mark{}, s.After, Beginning})
			}
			continue
		}
		before := &c.Segments[i-1]
		switch {
		case before.Last.Position != s.After.Position:
			gaps = append(gaps, Gap{c.Shard, before.Last, s.After, "a segment is missing from the store"})
		case s.Prev != before.TailID():
			gaps = append(gaps, Gap{c.Shard, s.After, s.After,
				"a segment is not the one that was sealed: it was replaced or changed"})
		}
	}
	return gaps
}

// End returns the last mark of the chain and the identity to seal the next
// segment upon; ok is false when there is no segment.
func (c *Chain) End() (last record.Mark, prev tree.Hash, ok bool) {
	if len(c.Segments) == 0 {
		return record.Mark{}, tree.Hash{}, false
	}
	s := &c.Segments[len(c.Segments)-1]
	return s.Last, s.TailID(), true
}

// Reach reports how far the log is known without a break from a mark on. It is asked for each of many points, so that
// it does not go over all segments.
func (c *Chain) Reach(from record.Mark) record.Mark {
	if len(c.far) != len(c.Segments) {
		for i := c.after(0, from); i < len(c.Segments) && !c.breaks(i, from); i = c.after(i+1, from) {
			from = c.Segments[i].Last
		}
		return from
	}
	i, _ := slices.BinarySearchFunc(c.Segments, from.Position, func(s Header, at record.Position) int {
		if s.Last.Position < at {
			return -1
		}
		return 1
	})
	if i = c.after(i, from); i == len(c.Segments) || c.breaks(i, from) {
		return from
	}
	return c.Segments[c.far[i]].Last
}

// after returns the first segment from one on that leads further than a mark.
func (c *Chain) after(i int, from record.Mark) int {
	for ; i < len(c.Segments); i++ {
		if last := c.Segments[i].Last; last.Position > from.Position ||
			last.Position == from.Position && last.Wall.After(from.Wall) {
			break
		}
	}
	return i
}

// breaks reports whether a segment does not go on from a mark.
func (c *Chain) breaks(i int, from record.Mark) bool {
	s := &c.Segments[i]
	if s.After.Position > from.Position || s.Gap != "" {
		return true
	}
	return i > 0 && s.After.Position >= from.Position && c.Segments[i-1].Last.Position == s.After.Position &&
		s.Prev != c.Segments[i-1].TailID()
}

// unbroken finds how far the log leads from each segment on.
func (c *Chain) unbroken() []int {
	for i := range c.Segments {
		s := &c.Segments[i]
		if s.Last.Position < s.After.Position || i > 0 && s.After.Position < c.Segments[i-1].Last.Position {
			return nil
		}
	}
	far := make([]int, len(c.Segments))
	for i := len(far) - 1; i >= 0; i-- {
		from := c.Segments[i].Last
		far[i] = i
		if next := c.after(i+1, from); next < len(far) && !c.breaks(next, from) {
			far[i] = far[next]
		}
	}
	return far
}

// Between returns the segments that hold changes after one position and up to
// another. It is an error when the stretch is not known without a break.
func (c *Chain) Between(after, upTo record.Position) ([]Header, error) {
	at := after
	var until time.Time // of what is known up to at
	var out []Header
	for i := range c.Segments {
		s := &c.Segments[i]
		if s.Last.Position <= at {
			continue
		}
		if at >= upTo {
			break
		}
		if s.After.Position > at {
			return nil, &MissingError{Shard: c.Shard, From: at, To: s.After.Position,
				FromTime: until, ToTime: s.After.Wall, Reason: "a segment is missing from the store"}
		}
		if s.Gap != "" {
			return nil, &MissingError{Shard: c.Shard, From: s.After.Position, To: s.Last.Position,
				FromTime: s.After.Wall, ToTime: s.Last.Wall, Reason: s.Gap}
		}
		out = append(out, *s)
		at, until = s.Last.Position, s.Last.Wall
	}
	if at < upTo {
		return nil, &MissingError{Shard: c.Shard, From: at, To: upTo, FromTime: until,
			Reason: "the log is captured only up to there"}
	}
	return out, nil
}

// MissingError is returned when a stretch of the log is not there. A time that is zero is not known.
type MissingError struct {
	Shard            string
	From, To         record.Position
	FromTime, ToTime time.Time
	Reason           string
}

// Error implements error.
func (e *MissingError) Error() string {
	text := "shard " + e.Shard + ": nothing is known of its log"
	if !e.FromTime.IsZero() {
		text += " from " + e.FromTime.Format(time.RFC3339)
	}
	if !e.ToTime.IsZero() {
		text += " to " + e.ToTime.Format(time.RFC3339)
	}
	return text + ": " + e.Reason
}

// PositionAt returns the last mark at or before a moment that these segments'
// headers and the changes read by scan tell of, and the position by which
// something later was written; none where nothing later is known. Scan is
// called with the one segment in which the moment lies and must call its
// function with every change of it.
func (c *Chain) PositionAt(start record.Mark, moment time.Time,
	scan func(Header, func(*record.Change) error) error) (at record.Mark, next record.Position, err error) {
	at = start
	for i := range c.Segments {
		s := c.Segments[i]
		if s.Last.Position <= at.Position && !s.Last.Wall.After(at.Wall) {
			continue
		}
		if s.Gap != "" || s.After.Position > at.Position {
			return at, "", nil
		}
		if !s.Last.Wall.After(moment) {
			at = s.Last
			continue
		}
		// The moment lies within this segment: the last position whose whole
		// entry is no later. Clocks may step back; the log's order rules, so
		// the first later entry ends the search.
		next = s.Last.Position
		err := scan(s, func(ch *record.Change) error {
			if ch.At <= at.Position {
				return nil
			}
			if ch.Time().After(moment) {
				next = ch.At
				return errStop
			}
			at = record.Mark{Position: ch.At, Wall: ch.Time()}
			return nil
		})
		if errors.Is(err, errStop) {
			err = nil
		}
		if err == nil && moment.After(at.Wall) {
			at.Wall = moment
		}
		return at, next, err
	}
	return at, "", nil
}

// TimeOf returns the time of the last change at or before a position; least where there is
// none. Scan is called with the one segment in which the position lies.
func (c *Chain) TimeOf(pos record.Position, least time.Time,
	scan func(Header, func(*record.Change) error) error) (time.Time, error) {
	at := least
	for _, s := range c.Segments {
		if s.After.Position >= pos {
			break
		}
		if s.Last.Position <= pos {
			at = s.Last.Wall
			continue
		}
		if s.After.Wall.After(at) {
			at = s.After.Wall
		}
		err := scan(s, func(ch *record.Change) error {
			if ch.At > pos {
				return errStop
			}
			at = ch.Time()
			return nil
		})
		if err != nil && !errors.Is(err, errStop) {
			return at, err
		}
	}
	if at.Before(least) {
		at = least
	}
	return at, nil
}

var errStop = errors.New("stop")
