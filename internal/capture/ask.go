package capture

import (
	"context"
	"errors"
	"fmt"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/journal"
	"dexamen/internal/core/store"
	"dexamen/internal/core/wait"
)

// askMark is the mark by which a process asks whoever follows a cluster's log to store now what it
// has read.
const askMark = "store-now"

// asked is what the mark holds.
type asked struct {
	At time.Time `json:"at"`
}

// Ask asks whoever follows a cluster's log, in whatever process, to store now what it has read.
func Ask(ctx context.Context, s *store.Store, cluster string) error {
	err := s.PutMark(ctx, cluster, askMark, asked{At: time.Now().UTC()})
	if errors.Is(err, blob.ErrExists) {
		return nil // another asks for the same
	}
	return err
}

// ErrNotReached is returned when a log, which another process follows, was not stored so far.
var ErrNotReached = errors.New("the log was not stored up to")

// WaitFor asks whoever follows a cluster's log to store it, until what is stored has reached
// something. Ask, where not nil, is a shorter way to ask than the store.
func WaitFor(ctx context.Context, s *store.Store, cluster string, patience time.Duration, ask func(),
	reached func(map[string]*journal.Chain) bool) error {
	begun := time.Now()
	for pause := 100 * time.Millisecond; ; pause = min(2*pause, time.Second) {
		if ask != nil {
			ask()
		} else if err := Ask(ctx, s, cluster); err != nil {
			return err
		}
		chains, _, err := s.Chains(ctx, cluster)
		if err != nil {
			return err
		}
		if reached(chains) {
			return nil
		}
		if time.Since(begun) > patience {
			return fmt.Errorf("%w there within %s", ErrNotReached, patience)
		}
		if err := wait.For(ctx, pause); err != nil {
			return err
		}
	}
}

// Until reports whether every shard's log is stored up to a time.
func Until(chains map[string]*journal.Chain, to time.Time) bool {
	for _, c := range chains {
		if end, _, _ := c.End(); end.Wall.Before(to) {
			return false
		}
	}
	return len(chains) > 0
}

// listen has what was read stored when somebody asks for it, until the context ends.
func (a *allShards) listen(ctx context.Context) {
	look := time.NewTicker(max(min(a.opt.FlushEvery/4, 5*time.Second), time.Second))
	defer look.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-a.opt.Now:
		case <-look.C:
			var m asked
			if ok, err := a.Store.Mark(ctx, a.out.Cluster, askMark, &m); err != nil || !ok {
				continue
			}
			_ = a.Store.RemoveMark(ctx, a.out.Cluster, askMark)
		}
		for _, cp := range a.list {
			select {
			case cp.now <- struct{}{}:
			default:
			}
		}
	}
}
