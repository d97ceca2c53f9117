package cli

import (
	"context"
	"errors"
	"fmt"
	"os/user"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/store"
	"dexamen/internal/daemon"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

// broughtBackFor is for how long a point that was brought back is held: until then somebody has
// put the rule right that dropped it, or let it go.
const broughtBackFor = 7 * 24 * time.Hour

// bringBack makes points exist again that retention dropped.
func (a *app) bringBack(ctx context.Context, c *cli.Command, wards []daemon.Assignment) error {
	cluster := c.Args().First()
	if cluster == "" {
		return usage("--bring-back: name the cluster, as in dexamen retention CLUSTER --bring-back POINT")
	}
	if c.Bool("apply") {
		return usage("--bring-back and --apply: what is brought back would be looked at again; do one after the other")
	}
	var done []string
	log, whole := false, true
	until := time.Now().Add(broughtBackFor).UTC().Truncate(time.Second)
	for _, id := range c.StringSlice("bring-back") {
		var missed error
		for _, w := range wards {
			e, progress, err := a.openRunnerOf(ctx, c, w.Store, cluster)
			if err != nil {
				return err
			}
			progress.Done()
			p, err := e.Store.BringBack(ctx, cluster, id)
			if errors.Is(err, store.ErrNoPoint) {
				missed = fmt.Errorf("%w: %w; dexamen retention %s lists them", run.ErrRefused, err, cluster)
				continue
			}
			if err != nil {
				return err
			}
			h := &store.Hold{Cluster: cluster, Point: p.ID, Until: until, Reason: "brought back after it was retired"}
			if u, err := user.Current(); err == nil {
				h.User = u.Username
			}
			if err := e.Store.PutHold(ctx, h); err != nil {
				return fmt.Errorf("point %s of %s is there again, and not held: %w", p.ID, cluster, err)
			}
			done, missed = append(done, p.ID), nil
			log, whole = log || p.Log, whole && p.LogWhole
			break
		}
		if missed != nil {
			return missed
		}
	}
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{"cluster": cluster, "brought_back": done, "held_until": until,
			"log": log, "log_whole": whole})
	}
	a.screen.Line("%s: %s again: %s", a.screen.Accent(cluster),
		map[bool]string{true: "a point is there", false: "points are there"}[len(done) == 1], strings.Join(done, ", "))
	a.screen.Line("  held until %s: put the rule right by then that dropped %s (dexamen policy preview %s)",
		view.Time(until), map[bool]string{true: "it", false: "them"}[len(done) == 1], cluster)
	it := map[bool]string{true: "it", false: "them"}[len(done) == 1]
	switch {
	case log && whole:
		a.screen.Line("  so is the log that leads on from %s", it)
	case log:
		a.screen.Line("  of the log that led on from %s the beginning has gone: see dexamen coverage %s", it, cluster)
	}
	return nil
}

// dropped returns the points of a cluster that can be brought back.
func dropped(ctx context.Context, e *run.Runner, cluster string, there []*store.Point) ([]store.Dropped, error) {
	list, _, err := e.Store.Dropped(ctx, cluster)
	var out []store.Dropped
	for _, d := range list {
		is := false
		for _, p := range there {
			is = is || p.ID == d.ID // one that is locked and stays for now
		}
		if !is {
			out = append(out, d)
		}
	}
	return out, err
}

// droppedPoint is a point that can be brought back, as it is given to programs.
type droppedPoint struct {
	Point   string    `json:"point"`
	Time    time.Time `json:"time"`
	Dropped time.Time `json:"dropped"`
	Until   time.Time `json:"until_at_least"`
}

func droppedJSON(list []store.Dropped) []droppedPoint {
	out := []droppedPoint{}
	for _, d := range list {
		out = append(out, droppedPoint{d.ID, d.Time, d.At, d.At.Add(store.DroppedFor)})
	}
	return out
}

// showDropped lists what can be brought back.
func (a *app) showDropped(cluster string, list []store.Dropped) {
	if len(list) == 0 {
		return
	}
	a.screen.Line("  retired, and can be brought back with: dexamen retention %s --bring-back POINT", cluster)
	t := a.screen.Table("point", "moment", "retired", "until at least")
	for _, d := range list {
		t.Row(d.ID, view.Time(d.Time), view.Time(d.At), view.Time(d.At.Add(store.DroppedFor)))
	}
	t.Print(4)
}
