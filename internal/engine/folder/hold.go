package folder

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"dexamen/internal/engine"
	"dexamen/internal/engine/folder/files"
)

// held is what another process needs to know to let go on what is held still.
type held struct {
	// ID names this hold to the machines that stand by.
	ID string `json:"id"`
	// Of, where set, is what is held of the cluster whose servers write to the folders.
	Of *engine.Hold `json:"of,omitempty"`
}

// Quiescible implements [engine.Quiescer].
func (c *cluster) Quiescible(ctx context.Context, _ func(string) bool) (engine.Hold, error) {
	q := c.target.Quiesce
	if q == nil {
		return engine.Hold{}, nil
	}
	b := make([]byte, 8)
	_, _ = rand.Read(b) // never fails, by its contract
	d := held{ID: hex.EncodeToString(b)}
	h := engine.Hold{What: "what writes to " + c.target.Name, Exact: true, Longest: q.Longest}
	if q.Of != nil {
		err := c.with(ctx, func(of engine.FileQuiescer) (err error) {
			if err := forVersion(ctx, q, of); err != nil {
				return err
			}
			var inner engine.Hold
			inner, err = of.QuiescibleFiles(ctx, q.Members)
			d.Of = &inner
			return err
		})
		if err != nil {
			return h, fmt.Errorf("quiesce %s: %w", q.Name, err)
		}
		h.What = d.Of.What + " of " + q.Of.Name
	}
	var err error
	h.Detail, err = json.Marshal(d)
	return h, err
}

// with calls fn with the cluster whose servers write to the folders. The connection stays:
// what holds still knows what it has done.
func (c *cluster) with(ctx context.Context, fn func(engine.FileQuiescer) error) error {
	c.mu.Lock()
	q := c.writers
	c.mu.Unlock()
	if q != nil {
		return fn(q)
	}
	t := *c.target.Quiesce.Of
	_, drv, err := engine.ForAddress(t.Address)
	if err != nil {
		return err
	}
	of, err := drv.Open(ctx, t)
	if err != nil {
		return err
	}
	q, ok := of.(engine.FileQuiescer)
	if !ok {
		_ = of.Close()
		return fmt.Errorf(
			"servers of engine %s cannot be kept from writing to their files; give commands, begin and end",
			of.Engine())
	}
	c.mu.Lock()
	c.writers = q
	c.mu.Unlock()
	return fn(q)
}

// forVersion refuses servers that are older than those for which a way is meant.
func forVersion(ctx context.Context, q *engine.Quiesce, of engine.Cluster) error {
	if q.Version == "" {
		return nil
	}
	t, err := of.Topology(ctx)
	if err != nil {
		return err
	}
	if older(t.Version, q.Version) {
		return fmt.Errorf("it fits in kind and is for version %s and later; %s has %s", q.Version, q.Of.Name, t.Version)
	}
	return nil
}

// older compares versions, number by number.
func older(a, b string) bool {
	numbers := func(s string) []string {
		return strings.FieldsFunc(s, func(r rune) bool { return r < '0' || r > '9' })
	}
	x, y := numbers(a), numbers(b)
	for i := range y {
		m, n := 0, 0
		if i < len(x) {
			m, _ = strconv.Atoi(x[i])
		}
		if n, _ = strconv.Atoi(y[i]); m != n {
			return m < n
		}
	}
	return false
}

// environment tells commands what they are run for.
func (c *cluster) environment() []string {
	var dirs []string
	for _, p := range c.places {
		dirs = append(dirs, p.address())
	}
	return []string{"DEXAMEN_CLUSTER=" + c.target.Name, "DEXAMEN_FOLDERS=" + strings.Join(dirs, "\n")}
}

// machines are those on which commands run.
func (c *cluster) machines() ([]files.Host, error) {
	if !c.target.Quiesce.Here {
		return c.hosts, nil
	}
	h, err := files.NewLocal()
	return []files.Host{h}, err
}

// each runs a command on each machine, at once.
func (c *cluster) each(ctx context.Context, command []string) error {
	hosts, err := c.machines()
	if err != nil || len(command) == 0 {
		return err
	}
	var g errgroup.Group
	for _, h := range hosts {
		g.Go(func() error {
			_, err := h.Run(ctx, command, c.environment())
			return err
		})
	}
	return g.Wait()
}

func (c *cluster) read(h engine.Hold) (d held, err error) {
	if c.target.Quiesce == nil {
		return d, errors.New("it is not known how: no way to quiesce applies to this cluster any more")
	}
	return d, json.Unmarshal(h.Detail, &d)
}

// Quiesce implements [engine.Quiescer].
func (c *cluster) Quiesce(ctx context.Context, h engine.Hold) error {
	d, err := c.read(h)
	if err != nil {
		return err
	}
	q := c.target.Quiesce
	if d.Of != nil {
		err = c.with(ctx, func(of engine.FileQuiescer) error { return of.Quiesce(ctx, *d.Of) })
	} else {
		var hosts []files.Host
		if hosts, err = c.machines(); err != nil {
			return err
		}
		for _, host := range hosts {
			// Machines that can let go by themselves do so when they hear nothing any more.
			if err := host.StandBy(ctx, d.ID, q.End, c.environment(), int64(q.Longest)); err != nil {
				return err
			}
		}
		err = c.each(ctx, q.Begin)
	}
	if err == nil {
		err = c.StillHeld(ctx, h)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.held = err == nil
	return err
}

// StillHeld implements [engine.HoldChecker].
func (c *cluster) StillHeld(ctx context.Context, h engine.Hold) error {
	d, err := c.read(h)
	if err != nil {
		return err
	}
	if d.Of != nil {
		return c.with(ctx, func(of engine.FileQuiescer) error { return of.StillHeld(ctx, *d.Of) })
	}
	if err := c.each(ctx, c.target.Quiesce.Check); err != nil {
		return fmt.Errorf("%w: its check fails: %w", engine.ErrHoldLost, err)
	}
	return nil
}

// Resume implements [engine.Quiescer].
func (c *cluster) Resume(ctx context.Context, h engine.Hold) error {
	d, err := c.read(h)
	if err != nil {
		return err
	}
	c.mu.Lock()
	was := c.held
	c.held = false
	c.mu.Unlock()
	if d.Of != nil {
		return c.with(ctx, func(of engine.FileQuiescer) error { return of.Resume(ctx, *d.Of) })
	}
	if err := c.each(ctx, c.target.Quiesce.End); err != nil {
		return err
	}
	hosts, err := c.machines()
	if err != nil {
		return err
	}
	var lost error
	for _, host := range hosts {
		ran, err := host.Relieve(ctx, d.ID)
		if err != nil {
			return err
		}
		if ran && was {
			lost = fmt.Errorf("%w: the machine has let it go on by itself", engine.ErrHoldLost)
		}
	}
	return lost
}
