package restore

import (
	"context"
	"fmt"

	"dexamen/internal/core/remedy"

	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// putSettings puts back what is set for the whole cluster.
func (p *Plan) putSettings(ctx context.Context, w engine.Writer) error {
	if len(p.settings) == 0 {
		return nil
	}
	sw, ok := w.(engine.SettingsWriter)
	if !ok {
		return fmt.Errorf("%w: what is set for a whole cluster cannot be put back on this one", run.ErrRefused)
	}
	done := map[engine.Outcome]int64{}
	for _, s := range p.settings {
		for r, err := range tree.Records(ctx, p.scratch, s.Root) {
			if err != nil {
				return err
			}
			did, err := sw.PutSetting(ctx, s.Namespace, r, p.opt.Conflict == Replace)
			done[did]++
			if did == engine.KeptExisting {
				kept := fmt.Errorf("%s of %s is there and differs; it stays as it is", p.Moment.Model.Label(r.Value),
					s.Name)
				p.runner.Emit(run.Warning, "%v", remedy.With(kept, remedy.ReplaceOne, ""))
			}
			if err != nil {
				return err
			}
		}
	}
	if s, ok := w.(engine.SettingsSaver); ok && len(done) > 0 {
		note, err := s.SaveSettings(ctx)
		if err != nil {
			return err
		}
		if note != "" {
			p.runner.Emit(run.Warning, "%s", note)
		}
	}
	if n := done[engine.CreatedWithoutPassword]; n > 0 {
		p.runner.Emit(run.Warning,
			"%s made without a password, which servers do not give out; set one before they can log in",
			run.Count(n, "user"))
	}
	p.runner.Emit(run.Note, "cluster-wide settings: %d made, %d replaced, %d the same already, %d kept as they are",
		done[engine.Created]+done[engine.CreatedWithoutPassword], done[engine.Replaced], done[engine.Unchanged],
		done[engine.KeptExisting])
	return nil
}
