package restore

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// planReplay counts the commands that will be carried out, and finds the
// namespaces that they are for.
func (p *Plan) planReplay(ctx context.Context) error {
	p.replayed = map[string]bool{}
	concerned, err := p.Moment.Concerned(ctx)
	if err != nil {
		return err
	}
	for _, s := range p.Moment.Point.Shards {
		for c, err := range p.Moment.Log(ctx, s.Name) {
			if err != nil {
				return err
			}
			if p.replays(c.Namespace) {
				p.Changes++
				for _, n := range concerned(c) {
					p.replayed[n] = true
				}
			}
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

// born returns the namespaces that only come to be by what is replayed.
func (p *Plan) born(states []moment.NamespaceState) (out []moment.NamespaceState) {
	for _, name := range slices.Sorted(maps.Keys(p.replayed)) {
		known := p.Moment.Model.Kind(name) == record.KindSettings || !p.chosen(name) ||
			p.Moment.Model.CheckName(name) != nil ||
			slices.ContainsFunc(states, func(s moment.NamespaceState) bool { return s.Name == name })
		if !known {
			kind, def := p.Moment.Model.Implied(name)
			out = append(out, moment.NamespaceState{
				Namespace: record.Namespace{Name: name, Kind: kind, Definition: def}})
		}
	}
	return out
}

// replayNames maps the namespaces that commands are carried out for to what they become.
func (p *Plan) replayNames() map[string]string {
	names := map[string]string{}
	for _, it := range p.Items {
		names[it.From] = it.To
	}
	for name := range p.replayed {
		if p.Moment.Model.Kind(name) == record.KindSettings {
			names[name] = name
		}
	}
	return names
}

// checkReplay refuses a plan of which a command could not be carried out: nothing has been
// written yet.
func (p *Plan) checkReplay(ctx context.Context) error {
	w, ok := p.writer.(engine.Replayer)
	if !ok {
		return errors.New("the target cannot carry out a log of commands")
	}
	can, err := w.CanReplay(p.replayNames())
	if err != nil {
		return err
	}
	for c, err := range p.commands(ctx) {
		if err == nil {
			if err = can(&c); err != nil {
				err = fmt.Errorf("%w; nothing was changed", err)
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// replay carries out the log after the point on the target, the shards' logs
// merged by their times.
func (p *Plan) replay(ctx context.Context, w engine.Writer, out []Restored) error {
	r, ok := w.(engine.Replayer)
	if !ok {
		return errors.New("the target cannot carry out a log of commands")
	}
	names := p.replayNames()
	p.runner.Emit(run.Step, "carrying out %s of the log", run.Count(p.Changes, "command"))
	var batch []record.Change
	size, done := 0, int64(0)
	send := func() error {
		n, err := r.Replay(ctx, names, batch)
		done += n
		p.runner.ReportProgress("", done, p.Changes, 0)
		batch, size = batch[:0], 0
		return err
	}
	for c, err := range p.commands(ctx) {
		if err != nil {
			return err
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

// commands returns the commands that are replayed, those of all shards in order of
// their times.
func (p *Plan) commands(ctx context.Context) iter.Seq2[record.Change, error] {
	type head struct {
		next func() (*record.Change, error, bool)
		c    *record.Change
	}
	return func(yield func(record.Change, error) bool) {
		var heads []*head
		// advance has a head be at its next command, and drops it at the end.
		advance := func(h *head) error {
			for {
				c, err, ok := h.next()
				if err != nil {
					return fmt.Errorf("reading the log to carry out: %w", err)
				}
				if !ok {
					heads = slices.DeleteFunc(heads, func(o *head) bool { return o == h })
					return nil
				}
				if h.c = c; p.replays(c.Namespace) {
					return nil
				}
			}
		}
		for _, s := range p.Moment.Point.Shards {
			next, stop := iter.Pull2(p.Moment.Log(ctx, s.Name))
			defer stop()
			heads = append(heads, &head{next: next})
		}
		for _, h := range slices.Clone(heads) {
			if err := advance(h); err != nil {
				yield(record.Change{}, err)
				return
			}
		}
		for len(heads) > 0 {
			first := slices.MinFunc(heads, func(a, b *head) int { return cmp.Compare(a.c.Wall, b.c.Wall) })
			if !yield(first.c.Clone(), nil) {
				return
			}
			if err := advance(first); err != nil {
				yield(record.Change{}, err)
				return
			}
		}
	}
}
