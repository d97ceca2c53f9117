package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/store"
	"dexamen/internal/daemon"
	"dexamen/internal/explain"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) storeScrub(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	s, _, name, err := a.open(ctx, c, c.Args().First())
	if err != nil {
		return err
	}
	o := store.ScrubOptions{Parts: max(1, c.Int("one-in")), Part: -1, Repair: c.Bool("repair")}
	if from := c.String("from"); from != "" {
		if !o.Repair {
			return usage("--from is where to heal from; it needs --repair")
		}
		if o.From, _, err = a.backend(ctx, c, from); err != nil {
			return err
		}
	}
	if c.Bool("relist") {
		packs, nodes, bad, err := s.RebuildListings(ctx)
		if err != nil {
			return fmt.Errorf("store %s: %w", name, err)
		}
		a.screen.Note("listings made anew from %d content files with %d nodes", packs, nodes)
		for _, p := range bad {
			a.screen.Note("! %s: its own list cannot be read", p)
		}
	}
	p, emit := a.objectProgress("reading " + s.Location())
	o.Emit = emit
	var r *store.ScrubReport
	var lost error // why the report is not kept
	w := work{Runner: &run.Runner{Store: s, StoreName: name, Tool: "dexamen " + Version,
		Explain: explain.Error, OnEvent: p.Event}}
	end, err := a.share(ctx, c, w.Runner, store.RunScrub, "", nil)
	if err != nil {
		return err
	}
	defer end()
	daemon.ShareScrub(&o, w.Runner)
	err = a.record(ctx, c, w, store.RunScrub, "", func(ctx context.Context, _ *run.Runner, rec *store.Run) (err error) {
		if r, err = s.Scrub(ctx, o); errors.Is(err, store.ErrNotKept) {
			lost = err
		} else if err != nil {
			return err
		}
		rec.Bytes = r.Bytes
		rec.SetVerdicts(r.Verdicts())
		if !r.Sound() {
			return fmt.Errorf("%w: objects are damaged: %s", run.ErrDiffers, losses(r))
		}
		return nil
	})
	p.Done()
	if r != nil && (errors.Is(err, run.ErrDiffers) || lost != nil) {
		err = lost // what was found is told below, with what to do
	}
	if errors.Is(err, store.ErrHeld) {
		err = fmt.Errorf("%w: %w", run.ErrRefused, err)
	}
	if err != nil && lost == nil {
		return fmt.Errorf("store %s: %w", name, err)
	}
	if lost != nil {
		a.screen.Note("! store %s: %v", name, lost)
	}
	if a.screen.JSON {
		err = a.screen.Encode(map[string]any{"store": name, "sound": r.Sound(), "scrub": r})
	} else {
		a.showScrub(name, r)
	}
	switch {
	case lost != nil && r.Sound():
		return fmt.Errorf("%w: store %s is sound, and that could not be written down", run.ErrIncomplete, name)
	case err != nil && lost == nil:
		return err
	case len(r.Points)+len(r.Log) > 0:
		return fmt.Errorf("%w: store %s has lost %s; take a new snapshot of these clusters now: it also brings back "+
			"what has not changed since%s", run.ErrIncomplete, name,
			losses(r), repairHint(o, name))
	case !r.Sound():
		return fmt.Errorf("%w: objects of store %s are damaged; nothing that is protected is lost by it%s",
			run.ErrDiffers, name, repairHint(o, name))
	}
	return nil
}

func losses(r *store.ScrubReport) string {
	var out []string
	if n := len(r.Points); n > 0 {
		out = append(out, "parts of "+view.Plural(int64(n), "point"))
	}
	if n := len(r.Log); n > 0 {
		out = append(out, view.Plural(int64(n), "segment")+" of log")
	}
	return strings.Join(out, " and ")
}

func repairHint(o store.ScrubOptions, name string) string {
	if o.Repair && o.From != nil {
		return ""
	}
	if o.Repair {
		return "; a mirror could heal more: --repair --from STORE"
	}
	return "; heal what can be healed with: dexamen store scrub " + name + " --repair"
}

func (a *app) showScrub(name string, r *store.ScrubReport) {
	sc := a.screen
	part := ""
	if r.Parts > 1 {
		part = fmt.Sprintf(", part %d of %d of the content", r.Part+1, r.Parts)
	}
	sc.Line("%s: %s read, %s%s, in %s", sc.Accent(name), view.Plural(int64(r.Objects), "object"), view.Bytes(r.Bytes),
		part, view.Duration(time.Duration(r.Took*float64(time.Second))))
	if len(r.Damaged) > 0 {
		sc.Line("")
		t := sc.Table("damaged object", "what", "healed from", "costs")
		for _, d := range r.Damaged {
			costs := "nothing that is protected"
			if d.LosesData && d.Repaired == "" {
				costs = sc.Loss("see below")
			}
			healed := d.Repaired
			if healed == "" {
				healed = sc.Loss("no")
			}
			t.Row(d.Object, a.shorten(d.What, 60), healed, costs)
		}
		t.Print(2)
	}
	if len(r.Points) > 0 {
		sc.Line("\n  %s", sc.Loss("Points that cannot be restored whole:"))
		for _, p := range r.Points {
			who := p.Cluster + "@" + p.ID
			if p.Cluster == "" {
				who = "point " + p.ID + ", of which not even the cluster can be read"
			}
			sc.Line("  %s", who)
			for _, n := range p.Namespaces {
				where := n.Name
				if n.Shard != "" {
					where += " on " + n.Shard
				}
				if n.Of > 0 {
					sc.Line("    %s: %s of %s records, in %s", where, view.Count(n.Lost), view.Count(n.Of), n.Where)
				}
			}
		}
	}
	if len(r.Log) > 0 {
		sc.Line("\n  %s",
			sc.Loss("Log that cannot be read; moments within, and after up to the next point, cannot be restored:"))
		for _, l := range r.Log {
			from, to := "its beginning", "its end"
			if !l.From.IsZero() {
				from = view.Time(l.From)
			}
			if !l.To.IsZero() {
				to = view.Time(l.To)
			}
			sc.Line("  %s: from %s to %s (%s)", strings.TrimSpace(l.Cluster+" "+l.Shard), from, to, l.Object)
		}
	}
	if len(r.Intact) > 0 {
		sc.Line("")
		t := sc.Table("cluster", ">points of which everything is there")
		for _, c := range slices.Sorted(maps.Keys(r.Intact)) {
			t.Row(c, r.Intact[c])
		}
		t.Print(2)
	}
	if r.Sound() {
		sc.Line("\n  sound: everything that was read is what was written, and nothing is missing")
	}
}

// shorten cuts a text where it goes to a terminal.
func (a *app) shorten(s string, n int) string {
	if a.screen.Bounded && len([]rune(s)) > n {
		return string([]rune(s)[:n-1]) + "…"
	}
	return s
}
