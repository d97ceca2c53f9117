package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"dexamen/internal/explain"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/view"
)

// clusterCheck tries what the other commands will need, and says of each
// whether it works and what follows where it does not.
func (a *app) clusterCheck(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	if c.Bool("prove") {
		return a.clusterProve(ctx, c)
	}
	type result struct {
		What string `json:"what"`
		OK   bool   `json:"ok"`
		Note string `json:"note,omitempty"`
	}
	var results []result
	failed := 0
	report := func(what string, err error, note string) {
		r := result{what, err == nil, note}
		if err != nil {
			r.Note = explain.Error(err)
			failed++
		}
		results = append(results, r)
		if !a.screen.JSON {
			mark := "works "
			if err != nil {
				mark = a.screen.Loss("fails ")
			}
			a.screen.Line("%s %-28s %s", mark, what, r.Note)
		}
	}
	name := c.Args().First()
	start := time.Now()
	cl, err := a.connect(ctx, c, name)
	var ue usageError
	if errors.As(err, &ue) {
		return err
	}
	report("connect and log in", err, view.Duration(time.Since(start)))
	if err == nil {
		defer cl.Close()
		a.checkMembers(ctx, cl, report)
	}
	if a.screen.JSON {
		if err := a.screen.Encode(results); err != nil {
			return err
		}
	}
	if failed > 0 {
		return fmt.Errorf("cluster %s: %d of %d checks failed", name, failed, len(results))
	}
	return nil
}

func (a *app) checkMembers(ctx context.Context, cl engine.Cluster, report func(string, error, string)) {
	t, err := cl.Topology(ctx)
	if err != nil {
		report("discover", err, "")
		return
	}
	report("discover", nil, fmt.Sprintf("%s %s, version %s", t.Kind, t.Identity, t.Version))
	if k, ok := cl.(engine.Checker); ok {
		k.Check(ctx, report)
	}
	for _, sh := range t.Shards {
		of := ""
		if len(t.Shards) > 1 {
			of = " of " + sh.Name
		}
		ch, err := cl.Choose(ctx, sh.Name)
		report("choose a member"+of, err, fmt.Sprintf("%s (%s)", ch.Member.Address, ch.Reason))
		l, ok := cl.(engine.Logged)
		_, pinned := cl.(engine.Pinned)
		if _, revisited := cl.(engine.Revisited); (pinned || revisited) && !ok {
			continue // clusters of this kind keep none, and need none
		}
		if !ok || sh.Log == nil {
			report("follow the log"+of, engine.ErrNoLog, "")
			continue
		}
		end, err := l.LogEnd(ctx, sh.Name)
		note := "newest committed entry " + view.Time(end.Wall)
		if err == nil {
			if p, ok := cl.(engine.LogProber); ok {
				var other string
				if other, err = p.ProbeLog(ctx, sh.Name, sh.Log.Last.Position); other != "" {
					note = other
				}
			} else {
				err = l.Follow(ctx, sh.Name, sh.Log.Last.Position,
					func([]record.Change, engine.Progress) error { return engine.ErrStopFollowing })
			}
		}
		report("follow the log"+of, err, note)
	}
	spaces, err := cl.Namespaces(ctx)
	report("list namespaces", err, view.Plural(int64(len(spaces)), "namespace"))
	if err != nil {
		return
	}
	read := errors.New("enough")
	var tried, failed int64
	for _, ns := range spaces {
		if ns.Skip != "" || !ns.Kind.HasRecords() {
			continue
		}
		tried++
		err := cl.Scan(ctx, ns, engine.Partition{}, func(record.Record) error { return read })
		if err == nil || errors.Is(err, read) {
			continue
		}
		failed++
		report("read "+ns.Name, err, "")
	}
	switch {
	case failed > 0:
		report("read one record of each", fmt.Errorf("%d of %s cannot be read", failed,
			view.Plural(tried, "namespace")), "")
	case tried == 0:
		report("note", nil, "there is no namespace with records; nothing was read")
	default:
		report("read one record of each", nil, view.Plural(tried, "namespace"))
	}
	for _, l := range t.Limitations {
		report("note", nil, l.What+": "+l.Consequence)
	}
}
