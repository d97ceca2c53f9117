package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

// leastGrace is for how long marked content stays at least: a claim counts for a quarter of
// an hour after its process stood still.
const leastGrace = 20 * time.Minute

func (a *app) storeReclaim(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	grace, err := address.ParseDistance(c.String("grace"))
	if err != nil {
		return usage("--grace: %v", err)
	}
	if grace < leastGrace {
		return usage("--grace %s: less than %s is not safe: a process that stands still counts as being at work "+
			"for so long", c.String("grace"), view.Duration(leastGrace))
	}
	dropped, err := address.ParseDistance(c.String("dropped"))
	if err != nil {
		return usage("--dropped: %v", err)
	}
	s, _, name, err := a.open(ctx, c, c.Args().First())
	if err != nil {
		return err
	}
	p := a.screen.NewProgress()
	r, err := s.Reclaim(ctx, store.ReclaimOptions{
		Grace: grace, Dropped: max(dropped, time.Nanosecond), Preview: c.Bool("preview"),
		AcceptMissing: c.Bool("accept-missing"), Emit: func(text string) {
			p.Event(run.Event{Kind: run.Step, Text: text})
		}})
	p.Done()
	if errors.Is(err, store.ErrHeld) {
		err = fmt.Errorf("%w: %w", run.ErrRefused, err)
	}
	if errors.Is(err, store.ErrUnexplained) {
		return fmt.Errorf("%w: store %s: %w; look with: dexamen store scrub %s; a mirror may have what is missing "+
			"(--repair --from); --accept-missing gives it up", run.ErrRefused, name, err, name)
	}
	if err != nil {
		return fmt.Errorf("store %s: %w", name, err)
	}
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{"store": name, "preview": c.Bool("preview"), "result": r})
	}
	sc := a.screen
	sc.Line("%s has %s, %s; no point needs %d of them, %s", sc.Accent(name),
		view.Plural(int64(r.Files), "content file"), view.Bytes(r.Bytes), r.Dead, view.Bytes(r.DeadBytes))
	if c.Bool("preview") {
		return nil
	}
	if r.PendingDelete > 0 {
		sc.Line("  marked, to be removed after %s: %s", view.Duration(grace),
			view.Plural(int64(r.PendingDelete), "content file"))
	}
	if r.CopiedOut > 0 {
		sc.Line("  copied out of content files that are mostly not needed: %s", view.Bytes(r.CopiedOut))
	}
	sc.Line("  removed: %s, %s; and %s that had been left behind", view.Plural(int64(r.Removed), "content file"),
		view.Bytes(r.Freed), view.Plural(int64(r.Leftovers), "object"))
	if r.Segments > 0 {
		sc.Line("  removed: %s of log that was no longer needed, %s", view.Plural(int64(r.Segments), "segment"),
			view.Bytes(r.SegmentBytes))
	}
	if r.Withdrawn > 0 {
		sc.Line("  no longer marked, as points need them by now: %s", view.Plural(int64(r.Withdrawn), "content file"))
	}
	if r.Locked > 0 {
		sc.Line("  locked for now: %s", view.Plural(int64(r.Locked), "content file"))
	}
	if n := len(r.Waiting); n > 0 {
		sc.Line("  waiting for %d that were writing when content was marked to end", n)
	}
	return nil
}
