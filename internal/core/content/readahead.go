package content

import (
	"context"
	"sync"

	"dexamen/internal/core/blob"
)

// Where every read is a request, frames that follow each other are fetched
// together: a read that goes on where one of the last ended fetches aheadBytes.
const (
	aheadBytes = 2 << 20
	aheadKept  = 8 // stretches
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
	follows := false
	for _, x := range a.kept {
		if x.pack != file.Name || off < x.off || off > x.end+aheadBytes/8 {
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
		follows = true
	}
	x := &stretch{pack: file.Name, off: off, end: off + int64(n)}
	if follows {
		x.end = max(x.end, min(off+aheadBytes, file.Size))
		x.done = make(chan struct{})
	}
	a.kept = append(a.kept, x)
	if len(a.kept) > aheadKept {
		a.kept = a.kept[1:]
	}
	a.mu.Unlock()
	data, err := s.Blob.ReadAt(ctx, file.Name, off, int(x.end-off))
	if x.done != nil {
		x.data = data
		close(x.done)
	}
	if err != nil {
		if x.end > off+int64(n) {
			return s.Blob.ReadAt(ctx, file.Name, off, n) // the content file may be shorter than it was
		}
		return nil, err
	}
	return data[:n:n], nil
}
