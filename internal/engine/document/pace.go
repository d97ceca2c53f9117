package document

import (
	"context"
	"sync"
	"time"
)

// pace knows how slow a server is at the moment. Where it does not tell which
// entries of its log are committed, an entry may come into view after one that
// is newer, or after what it tells of: the later, the busier the server.
type pace struct {
	mu     sync.Mutex
	asked  time.Time
	recent [5]time.Duration
	next   int
	ahead  time.Duration // of its clock before ours
}

const (
	settleMin = 1500 * time.Millisecond
	settleMax = 20 * time.Second
	// settleTimes is how many times as long as a short read an entry is waited for.
	settleTimes = 20
	paceEvery   = time.Second
)

// settle returns how old an entry must be to be sure of those before it, and what
// time it is by the server's clock.
func (c *set) settle(ctx context.Context) (time.Duration, time.Time) {
	p := &c.pace
	p.mu.Lock()
	defer p.mu.Unlock()
	if time.Since(p.asked) > paceEvery {
		began := time.Now()
		if ans, err := c.hello(ctx, c.hosts[0]); err == nil {
			took := time.Since(began)
			p.recent[p.next%len(p.recent)] = took
			p.next++
			if there, ok := ans.Lookup("localTime").TimeOK(); ok {
				p.ahead = there.Sub(began.Add(took / 2))
			}
		}
		p.asked = time.Now()
	}
	longest := time.Duration(0)
	for _, d := range p.recent {
		longest = max(longest, d)
	}
	return min(max(settleMin, settleTimes*longest), settleMax), time.Now().Add(p.ahead)
}
