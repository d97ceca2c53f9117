package content

import (
	"context"
	"sync"

	"dexamen/internal/core/blob"
)

// Where every read is a request, frames that follow each other are fetched together: a
// read that goes on where one of the last ended fetches twice aheadLeast, the next four times as
// much, up to aheadMost; one at the beginning of a file goes on where another file was
// read to its end. What is kept is as much as of frames, within aheadKept.
const (
	aheadLeast = 1 << 20
	aheadMost  = 8 << 20
	aheadKept  = 32 << 20
	// aheadGap is how much may be passed over.
	aheadGap = 256 << 10
)

// ahead holds the stretches of content files that were fetched last.
type ahead struct {
	mu   sync.Mutex
	kept []*stretch
}

type stretch struct {
	pack string
	off  int64
	data []byte        // nil while it is fetched, or where that failed
	end  int64         // of what was asked for so far
	last bool          // nothing follows it in its file
	done chan struct{} // closed when data is there
}

func (a *ahead) Clear() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.kept = nil
}

// readAhead reads a frame's bytes.
func (s *Content) readAhead(ctx context.Context, p Place, file *File) ([]byte, error) {
	off, n := int64(p.FrameOff), int(p.FrameLen)
	if r, ok := s.Blob.(blob.Remote); !ok || !r.Remote() {
		return s.Blob.ReadAt(ctx, file.Name, off, n)
	}
	a := &s.Ahead
	a.mu.Lock()
	// Readers that work at once ask in any order: what follows begins where the other ended.
	follows, most, from := int64(0), int64(0), off
	files := map[string]bool{file.Name: true}
	for _, x := range a.kept {
		files[x.pack] = true
		if x.pack != file.Name {
			if x.last && off < aheadGap {
				most, from = max(most, x.end-x.off), 0 // one file after the other
			}
			continue
		}
		if off < x.off || off > x.end+aheadGap {
			continue
		}
		if x.done != nil && off+int64(n) <= x.end {
			a.mu.Unlock()
			select {
			case <-x.done:
			case <-ctx.Done():
				return nil, ctx.Err()
			}
			if at := off - x.off; at+int64(n) <= int64(len(x.data)) {
				return x.data[at : at+int64(n) : at+int64(n)], nil
			}
			return s.Blob.ReadAt(ctx, file.Name, off, n)
		}
		if x.done != nil || follows == 0 {
			// A frame may lie across its end.
			follows, from = max(follows, x.end-x.off), x.end-aheadGap/2
		}
	}
	x := &stretch{pack: file.Name, off: off, end: off + int64(n)}
	if follows = max(follows, most); follows > 0 {
		x.off = min(from, off)
		// Several that are read at once share what is kept.
		want := min(max(4*follows, 2*aheadLeast), aheadMost, s.aheadKept()/int64(len(files)+1))
		if file.Size-x.off-want < want/4 {
			want = file.Size - x.off // rather than a small rest
		}
		x.end = max(x.end, min(x.off+want, file.Size))
		x.done = make(chan struct{})
	}
	x.last = x.end >= file.Size-aheadGap
	a.keep(x, s.aheadKept())
	a.mu.Unlock()
	data, err := s.Blob.ReadAt(ctx, file.Name, x.off, int(x.end-x.off))
	if x.done != nil {
		x.data = data
		close(x.done)
	}
	if err != nil {
		if x.end-x.off > int64(n) {
			return s.Blob.ReadAt(ctx, file.Name, off, n) // the content file may be shorter than it was
		}
		return nil, err
	}
	at := off - x.off
	return data[at : at+int64(n) : at+int64(n)], nil
}

// aheadKept is how many bytes are kept for reads to come.
func (s *Content) aheadKept() int64 {
	return min(max(int64(s.Cache.bound), 4*aheadLeast), aheadKept)
}

// keep holds a stretch, and lets go of the oldest where they are more than a bound.
func (a *ahead) keep(x *stretch, bound int64) {
	a.kept = append(a.kept, x)
	size, from := int64(0), 0
	for i := len(a.kept) - 1; i >= 0; i-- {
		if k := a.kept[i]; k.done != nil {
			size += k.end - k.off
		}
		if size > bound || len(a.kept)-i > 64 {
			from = i + 1
			break
		}
	}
	a.kept = append([]*stretch(nil), a.kept[min(from, len(a.kept)-1):]...)
}
