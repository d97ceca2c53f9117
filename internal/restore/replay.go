package restore

import (
	"context"
	"errors"
	"fmt"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// planReplay counts the commands that will be carried out, and finds the
// namespaces that they are for.
func (p *Plan) planReplay(ctx context.Context) error {
	p.replayed = map[string]bool{}
	for _, s := range p.Moment.Point.Shards {
		err := p.Moment.Changes(ctx, s.Name, func(c *record.Change) error {
			if p.replays(c.Namespace) {
				p.Changes++
				p.replayed[c.Namespace] = true
			}
			return nil
		})
		if err != nil {
			return p.Moment.OnShard(s.Name, err)
		}
	}
	return nil
}

func (p *Plan) replays(namespace string) bool {
	if p.Moment.Model.Kind(namespace) == record.KindSettings {
		return p.opt.Settings
	}
	wide, ok := p.Moment.Model.(engine.CrossNamespace)
	return p.chosen(namespace) || ok && wide.CrossesNamespaces(namespace)
}

// onlyReplayed returns the namespaces that only come to be by what is replayed.
func (p *Plan) onlyReplayed() []record.Namespace {
	var out []record.Namespace
	for name := range p.replayed {
		known := p.Moment.Model.Kind(name) == record.KindSettings || !p.chosen(name) ||
			p.Moment.Model.CheckName(name) != nil
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

func (p *Plan) renamed(name string) string {
	if _, to, ok := moment.Renamed(p.opt.Rename, name); ok {
		return to
	}
	return name
}

// replay carries out the log after the point on the target, the shards' logs
// merged by their times.
func (p *Plan) replay(ctx context.Context, w engine.Writer, out []Restored) error {
	r, ok := w.(engine.Replayer)
	if !ok {
		return errors.New("the target cannot carry out a log of commands")
	}
	names := map[string]string{}
	for _, it := range p.Items {
		names[it.From] = it.To
	}
	for name := range p.replayed {
		if p.chosen(name) && p.Moment.Model.CheckName(name) == nil || p.Moment.Model.Kind(name) == record.KindSettings {
			names[name] = p.renamed(name)
		}
	}
	p.runner.Emit(run.Step, "carrying out %s of the log", run.Count(p.Changes, "command"))
	m := p.newMerge(ctx)
	defer m.stop()
	var batch []record.Change
	size, done := 0, int64(0)
	send := func() error {
		n, err := r.Replay(ctx, names, batch)
		done += n
		p.runner.ReportProgress("", done, p.Changes, 0)
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
	if !p.opt.keepDeferred {
		p.runner.Emit(run.Step, "setting expiries right")
	}
	for _, name := range names {
		if !p.opt.keepDeferred && p.Moment.Model.Kind(name) != record.KindSettings {
			if err := r.RestoreExpiries(ctx, record.Namespace{Name: name}); err != nil {
				return err
			}
		}
	}
	for i := range out {
		out[i].Replayed = names[out[i].From] != ""
	}
	p.runner.Emit(run.Note, "%s carried out", run.Count(done, "command"))
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

func (p *Plan) newMerge(ctx context.Context) *merge {
	m := &merge{}
	ctx, m.stop = context.WithCancel(ctx)
	for _, s := range p.Moment.Point.Shards {
		h := &head{from: make(chan record.Change, 256)}
		go func() {
			defer close(h.from)
			h.err = p.Moment.Changes(ctx, s.Name, func(c *record.Change) error {
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
			h.err = p.Moment.OnShard(s.Name, h.err)
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
