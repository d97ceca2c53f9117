package job

import (
	"context"
	"errors"
	"fmt"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// planReplay counts the commands that will be carried out, and finds the
// namespaces that they are for.
func (p *RestorePlan) planReplay(ctx context.Context) error {
	p.replayed = map[string]bool{}
	for _, s := range p.Moment.Point.Shards {
		err := p.Moment.changes(ctx, s.Name, func(c *record.Change) error {
			if p.replays(c.Namespace) {
				p.Changes++
				p.replayed[c.Namespace] = true
			}
			return nil
		})
		if err != nil {
			return p.Moment.onShard(s.Name, err)
		}
	}
	return nil
}

func (p *RestorePlan) replays(namespace string) bool {
	if p.Moment.Model.Kind(namespace) == settingsKind {
		return p.opt.Settings
	}
	wide, ok := p.Moment.Model.(engine.Wide)
	return p.chosen(namespace) || ok && wide.Wide(namespace)
}

// unseen returns the namespaces that only come to be by what is replayed.
func (p *RestorePlan) unseen() []record.Namespace {
	var out []record.Namespace
	for name := range p.replayed {
		known := p.Moment.Model.Kind(name) == settingsKind || !p.chosen(name) || p.Moment.Model.CheckName(name) != nil
		for _, it := range p.Items {
			known = known || it.From == name
		}
		if !known {
			kind, def := p.Moment.Model.Implied(name)
			out = append(out, record.Namespace{Name: p.renamed(name), Kind: kind, Definition: def})
		}
	}
	return out
}

func (p *RestorePlan) renamed(name string) string {
	if _, to, ok := renaming(p.opt.Rename, name); ok {
		return to
	}
	return name
}

// replay carries out the log after the point on the target, the shards' logs
// merged by their times.
func (p *RestorePlan) replay(ctx context.Context, w engine.Writer, out []Restored) error {
	r, ok := w.(engine.Replayer)
	if !ok {
		return errors.New("the target cannot carry out a log of commands")
	}
	names := map[string]string{}
	for _, it := range p.Items {
		names[it.From] = it.To
	}
	for name := range p.replayed {
		if p.chosen(name) && p.Moment.Model.CheckName(name) == nil || p.Moment.Model.Kind(name) == settingsKind {
			names[name] = p.renamed(name)
		}
	}
	p.env.emit(Step, "carrying out %s of the log", count(p.Changes, "command"))
	m := p.newMerge(ctx)
	defer m.stop()
	var batch []record.Change
	size, done := 0, int64(0)
	send := func() error {
		n, err := r.Replay(ctx, names, batch)
		done += n
		p.env.progress("", done, p.Changes, 0)
		batch, size = batch[:0], 0
		return err
	}
	for {
		c, ok, err := m.next()
		if err != nil {
			return err
		}
		if !ok {
			break
		}
		// What belongs together (one position) goes together.
		if n := len(batch); n > 0 && (size > 1<<20 || n >= 2000) && (batch[n-1].At != c.At) {
			if err := send(); err != nil {
				return err
			}
		}
		batch = append(batch, c)
		size += len(c.Value)
	}
	if err := send(); err != nil {
		return err
	}
	if !p.opt.held {
		p.env.emit(Step, "setting expiries right")
	}
	for _, name := range names {
		if !p.opt.held && p.Moment.Model.Kind(name) != settingsKind {
			if err := r.Settle(ctx, record.Namespace{Name: name}); err != nil {
				return err
			}
		}
	}
	for i := range out {
		out[i].Replayed = names[out[i].From] != ""
	}
	p.env.emit(Note, "%s carried out", count(done, "command"))
	return nil
}

// merge gives the changes of several shards in order of their times.
type merge struct {
	stop  context.CancelFunc
	heads []*head
}

type head struct {
	from chan record.Change
	err  error // valid once from is closed
	c    record.Change
	ok   bool
}

func (p *RestorePlan) newMerge(ctx context.Context) *merge {
	m := &merge{}
	ctx, m.stop = context.WithCancel(ctx)
	for _, s := range p.Moment.Point.Shards {
		h := &head{from: make(chan record.Change, 256)}
		go func() {
			defer close(h.from)
			h.err = p.Moment.changes(ctx, s.Name, func(c *record.Change) error {
				if !p.replays(c.Namespace) {
					return nil
				}
				select {
				case h.from <- c.Clone():
					return nil
				case <-ctx.Done():
					return ctx.Err()
				}
			})
			h.err = p.Moment.onShard(s.Name, h.err)
		}()
		m.heads = append(m.heads, h)
	}
	for _, h := range m.heads {
		h.c, h.ok = <-h.from
	}
	return m
}

func (m *merge) next() (c record.Change, ok bool, err error) {
	var first *head
	for _, h := range m.heads {
		if !h.ok {
			if h.err != nil {
				return c, false, fmt.Errorf("reading the log to carry out: %w", h.err)
			}
			continue
		}
		if first == nil || h.c.Wall < first.c.Wall {
			first = h
		}
	}
	if first == nil {
		return c, false, nil
	}
	c = first.c
	first.c, first.ok = <-first.from
	return c, true, nil
}
