package redis

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/core/wait"
	"dexamen/internal/engine"
)

// A shard's log tells of the slots that its primary served. Where a slot goes to another
// shard, the two logs do not tell what was done to it first: both end there. So with each
// place that is told goes who served which slots, as it was asked after what was told.

// ownership is which slots a primary serves.
type ownership struct {
	node  string
	epoch uint64 // of the node; it grows when a slot comes to it
	slots string
}

// String returns NODE/EPOCH/SLOTS, the form that goes with a place.
func (o ownership) String() string {
	if o.node == "" {
		return ""
	}
	return fmt.Sprintf("%s/%d/%s", o.node, o.epoch, o.slots)
}

func ownershipFrom(text string) (o ownership, ok bool) {
	f := strings.SplitN(text, "/", 3)
	if len(f) != 3 {
		return o, false
	}
	epoch, err := strconv.ParseUint(f[1], 10, 64)
	return ownership{f[0], epoch, f[2]}, err == nil
}

// followsOn returns [engine.ErrLogEnds] where slots have come or gone since. After a
// failover another node serves the same ones.
func (o ownership) followsOn(was ownership) error {
	if o.slots == was.slots && (o.node != was.node || o.epoch == was.epoch) {
		return nil
	}
	if o.slots == was.slots {
		return fmt.Errorf("%w: slots have moved from this shard and back to it (%s)", engine.ErrLogEnds, o.slots)
	}
	return fmt.Errorf("%w: slots have moved: the shard served %s, and serves %s now", engine.ErrLogEnds, was.slots,
		o.slots)
}

// ownedBy asks a primary which slots it serves. [engine.ErrMoving] is returned while some are on
// their way from it or to it.
func (c *cluster) ownedBy(ctx context.Context, addr string) (o ownership, err error) {
	nodes, err := ask(ctx, func(ctx context.Context) (string, error) {
		return c.client(addr).ClusterNodes(
			ctx).Result()
	})
	if err != nil {
		return o, c.explain(err, addr)
	}
	for line := range strings.Lines(nodes) {
		f := strings.Fields(line)
		if len(f) < 8 || !slices.Contains(strings.Split(f[2], ","), "myself") {
			continue
		}
		if !slices.Contains(strings.Split(f[2], ","), "master") {
			return o, fmt.Errorf("%s: %w: it is no primary any more", addr, engine.ErrUnreachable)
		}
		o.node, o.epoch = f[0], num(f[6])
		var served, moving []string
		for _, s := range f[8:] {
			if strings.HasPrefix(s, "[") {
				slot, _, _ := strings.Cut(strings.TrimPrefix(s, "["), "-")
				moving = append(moving, slot)
			} else {
				served = append(served, s)
			}
		}
		o.slots = strings.Join(served, ",")
		if len(moving) > 0 {
			return o,
				fmt.Errorf("%w: at %s %d slots are under way, slot %s first; what is in them could be missing or "+
					"there twice: run it again when that has ended", engine.ErrMoving, addr, len(moving), moving[0])
		}
		return o, nil
	}
	return o, fmt.Errorf("%s: %w: it does not tell which slots it serves", addr, engine.ErrUnreachable)
}

// owned asks a shard's primary which slots it serves; of servers without slots it is zero.
func (c *cluster) owned(ctx context.Context, s *shard) (ownership, error) {
	if !c.clustered {
		return ownership{}, nil
	}
	return c.ownedBy(ctx, c.membersOf(s)[0])
}

// Continues implements [engine.Continuer].
func (c *cluster) Continues(ctx context.Context, name string, from record.Mark) error {
	s, err := c.shard(name)
	if err != nil {
		return err
	}
	was, known := ownershipFrom(from.Entry)
	now, err := c.owned(ctx, s)
	for begun := time.Now(); errors.Is(err, engine.ErrUnreachable) && time.Since(begun) < lostTime; {
		// A failover is going on, or not all have heard of it.
		if werr := wait.For(ctx, 200*time.Millisecond); werr != nil {
			return werr
		}
		if derr := c.discover(ctx); derr == nil {
			now, err = c.owned(ctx, s)
		}
	}
	switch {
	case errors.Is(err, engine.ErrMoving):
		return c.fail(fmt.Errorf("shard %s: %w: %w", name, engine.ErrLogEnds, err))
	case err != nil:
		return c.fail(err)
	case known:
		if err := now.followsOn(was); err != nil {
			return c.fail(fmt.Errorf("shard %s: %w", name, err))
		}
	}
	c.mu.Lock()
	s.owned = now
	c.mu.Unlock()
	return nil
}

// stillOwned sees that what was read belongs to the slots that the log is of: it is asked after
// that was read.
func (f *following) stillOwned() error {
	if !f.clustered {
		return nil
	}
	now, err := f.cluster.owned(f.ctx, f.shard)
	if errors.Is(err, engine.ErrMoving) {
		return fmt.Errorf("%w: %w", engine.ErrLogEnds, err)
	}
	if err != nil {
		return err
	}
	if f.owned.node != "" {
		if err := now.followsOn(f.owned); err != nil {
			return err
		}
	}
	f.owned = now
	return nil
}

var _ engine.Continuer = (*cluster)(nil)
