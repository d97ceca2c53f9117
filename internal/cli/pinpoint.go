package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/address"
	"dexamen/internal/core/condition"
	"dexamen/internal/engine"
	"dexamen/internal/pinpoint"
	"dexamen/internal/view"
)

func (a *app) pinpointCommand() *cli.Command {
	return a.command(recovery, "pinpoint", "CLUSTER",
		"find what was dropped, emptied, renamed, changed or spoiled, and the moment just before",
		`Each finding ends with the address of what was there just before it, exact to the
operation, to be looked at, compared or restored. The cluster is not asked: what it has done
since the last capture is not known yet.

   dexamen pinpoint meadow --since -2h
   dexamen pinpoint meadow --key apiary.colonies/17
   dexamen pinpoint meadow --namespace apiary.colonies --where 'state == "collapsed"'`, a.pinpoint,
		&cli.StringFlag{Name: "namespace", Usage: "only namespaces that fit this `PATTERN`"},
		&cli.StringFlag{Name: "since", Usage: "look from this `MOMENT` on: 10:14, -2h, 2026-11-23T10:14:04Z"},
		&cli.StringFlag{Name: "until", Usage: "look up to this `MOMENT`"},
		&cli.StringFlag{Name: "key", Usage: "`NAMESPACE/KEY`: the versions of this record, and what changed"},
		&cli.StringFlag{Name: "where",
			Usage: "when records began or ceased to fit this `EXPRESSION` (the Common Expression Language), as in " +
				"'hives > 3 && state == \"collapsed\"'"},
		&cli.Int64Flag{Name: "least", Value: 20,
			Usage: "from how many changes within ten seconds on they count as a burst"},
		&cli.Int64Flag{Name: "factor", Value: 8, Usage: "how many times what is usual there a burst must be"},
		&cli.IntFlag{Name: "show", Value: 30, Usage: "how many findings, or versions, to show; the newest"})
}

func (a *app) pinpoint(ctx context.Context, c *cli.Command) error {
	e, cluster, err := a.onCluster(ctx, c)
	if err != nil {
		return err
	}
	defer e.progress.Done()
	opt := pinpoint.Options{Pattern: c.String("namespace"), Least: c.Int64("least"), Factor: c.Int64("factor")}
	for flag, to := range map[string]*time.Time{"since": &opt.Since, "until": &opt.Until} {
		if c.String(flag) == "" {
			continue
		}
		w, err := address.ParseWhen(c.String(flag), time.Now())
		if err != nil || w.Kind != address.Time {
			return usage("--%s %s: write a time (10:14, 2026-11-23T10:14:04Z) or a distance back (-2h)", flag,
				c.String(flag))
		}
		*to = w.Time
	}
	if c.String("key") != "" && c.String("where") != "" {
		return usage("--key and --where are two questions; ask one at a time")
	}
	if err := a.someFit(ctx, e, cluster, opt.Pattern); err != nil {
		return err
	}
	switch {
	case c.String("key") != "":
		return a.history(ctx, c, e, cluster, opt)
	case c.String("where") != "":
		cond, err := condition.Compile(c.String("where"))
		if err != nil {
			return usageError{err}
		}
		r, err := pinpoint.Fitting(ctx, e.Runner, cluster, cond, opt)
		if err != nil {
			return err
		}
		e.progress.Done()
		return a.showFindings(c, r)
	}
	r, err := pinpoint.Find(ctx, e.Runner, cluster, opt)
	if err != nil {
		return err
	}
	e.progress.Done()
	return a.showFindings(c, r)
}

// history shows the versions of a record.
func (a *app) history(ctx context.Context, c *cli.Command, e work, cluster string, opt pinpoint.Options) error {
	ns, key, err := a.splitKey(ctx, e, cluster, c.String("key"))
	if err != nil {
		return err
	}
	list, err := pinpoint.History(ctx, e.Runner, cluster, ns, key, opt)
	if err != nil {
		return err
	}
	e.progress.Done()
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{"cluster": cluster, "namespace": ns, "key": key, "versions": list})
	}
	s := a.screen
	s.Line("%s in %s of %s, %s", s.Accent(key), ns, cluster, view.Plural(int64(len(list)), "version"))
	left := max(0, len(list)-c.Int("show"))
	if left > 0 {
		s.Line("  the first %d are not shown; --show %d shows all", left, len(list))
	}
	for _, v := range list[left:] {
		what := map[string]string{"put": "written", "patch": "updated", "delete": s.Loss("deleted"),
			"drop": s.Loss("its namespace was dropped"), "rename": s.Loss("its namespace was renamed"),
			"restore": "its namespace was put in place by a restore",
			"empty":   s.Loss("its namespace was emptied"), "point": "as a point has it", "command": "command"}[v.Op]
		when := view.Precise(v.Time)
		if !v.After.IsZero() {
			when = "after " + view.Precise(v.After) + ", by " + when
		}
		if v.Shard != "" {
			what += " on shard " + v.Shard
		}
		s.Line("%s  %s", s.Accent(when), what)
		for _, d := range v.Changed {
			s.Line("    %s", d)
		}
		if v.Value != "" {
			s.Line("    %s", s.Faint(cut(v.Value, 3*s.Width)))
		}
		if v.Before != "" {
			s.Line("    before: %s", v.Before)
		}
	}
	return nil
}

// cut shortens a text.
func cut(text string, most int) string {
	r := []rune(text)
	if len(r) <= most {
		return text
	}
	return string(r[:most]) + "…"
}

// someFit returns an error where a pattern fits no namespace that any point or log has: that nothing was
// found there would be taken for good news.
func (a *app) someFit(ctx context.Context, e work, cluster, pattern string) error {
	if pattern == "" {
		return nil
	}
	names, err := pinpoint.Names(ctx, e.Runner, cluster)
	if err != nil || slices.ContainsFunc(names, func(n string) bool { return address.Match(pattern, n) }) {
		return err
	}
	text := "known are " + strings.Join(names[:min(len(names), 8)], ", ")
	if near := engine.Nearest(pattern, names, 3); len(near) > 0 {
		text = "near it: " + strings.Join(near, ", ")
	}
	return usage("--namespace %s fits no namespace that any point or log of %s has; %s", pattern, cluster, text)
}

// splitKey takes NAMESPACE/KEY apart: both may hold slashes, so that the longest namespace
// that any point or log has counts.
func (a *app) splitKey(ctx context.Context, e work, cluster, text string) (ns, key string, err error) {
	names, err := pinpoint.Names(ctx, e.Runner, cluster)
	if err != nil {
		return "", "", err
	}
	for _, n := range names {
		if rest, ok := strings.CutPrefix(text, n+"/"); ok && rest != "" && len(n) > len(ns) {
			ns, key = n, rest
		}
	}
	if ns == "" { // keys of etcd begin with the name of their namespace
		for _, n := range names {
			if strings.HasSuffix(n, "/") && strings.HasPrefix(text, n) && len(n) > len(ns) {
				ns, key = n, text
			}
		}
	}
	if ns == "" {
		if len(names) == 1 && !strings.HasPrefix(text, names[0]) {
			return names[0], text, nil
		}
		return "", "", usage("--key %s: write NAMESPACE/KEY, with a namespace that is known: %s", text,
			strings.Join(names[:min(len(names), 8)], ", "))
	}
	return ns, key, nil
}

// showFindings shows what was found, in order of time.
func (a *app) showFindings(c *cli.Command, r *pinpoint.Report) error {
	s := a.screen
	if s.JSON {
		return s.Encode(r)
	}
	s.Line("%s, from %s to %s", s.Accent(r.Cluster), view.Time(r.From), view.Time(r.To))
	if r.Logged && r.Size > 0 {
		read := ""
		if r.Read > 0 {
			read = fmt.Sprintf("; read %s of %s", view.Bytes(r.Read), view.Bytes(r.Size))
		}
		s.Line("  %s in the log%s", view.Plural(r.Changes, "change"), read)
	}
	if !r.Logged {
		s.Line("  there is no log: only what differs between two points can be told")
	}
	for _, g := range r.Gaps {
		s.Line("  %s %s to %s: %s", s.Loss("nothing is known from"), view.Time(g.From.Wall), view.Time(g.To.Wall),
			g.Reason)
	}
	if age := time.Since(r.To); age > time.Minute {
		s.Line("  what was done in the last %s is not captured yet: dexamen %s %s", view.Duration(age),
			map[bool]string{true: "capture", false: "snapshot"}[r.Logged], r.Cluster)
	}
	if len(r.Findings) == 0 {
		s.Line("nothing was found%s", map[bool]string{
			true: "", false: " in " + c.String("namespace")}[c.String("namespace") == ""])
		return nil
	}
	left := max(0, len(r.Findings)-c.Int("show"))
	if left > 0 {
		s.Line("  the first %d findings are not shown; --show %d shows all, --since fewer", left, len(r.Findings))
	}
	s.Line("")
	for _, f := range r.Findings[left:] {
		a.showFinding(&f)
	}
	return nil
}

// findingText says what was found, and whether something may be lost by it.
func findingText(f *pinpoint.Finding) (what string, loss bool) {
	what, loss = string(f.Kind), true
	switch f.Kind {
	case pinpoint.Deletes, pinpoint.Updates, pinpoint.Writes:
		what = view.Plural(f.Changes, strings.TrimSuffix(what, "s"))
		if f.Of != "" {
			what += " of " + f.Of
		}
		what += " in " + view.Duration(max(f.Finished.Sub(f.Started), time.Millisecond))
		loss = f.Kind != pinpoint.Writes
	case pinpoint.Began, pinpoint.Ceased:
		what = view.Plural(f.Changes, "record") + " " + what
	case pinpoint.Renamed:
		what = "renamed to " + f.To
	case pinpoint.Altered, pinpoint.Restored:
		loss = false
		what = map[pinpoint.Kind]string{pinpoint.Altered: "indexes or options changed",
			pinpoint.Restored: "put in place by a restore"}[f.Kind]
	case pinpoint.Gone:
		what = "gone"
	case pinpoint.Fewer, pinpoint.Remade:
		what = fmt.Sprintf("%s: %s, where there were %s", what, view.Count(f.Is), view.Count(f.Was))
	}
	return what, loss
}

func (a *app) showFinding(f *pinpoint.Finding) {
	s := a.screen
	what, loss := findingText(f)
	if loss {
		what = s.Loss(what)
	}
	when := view.Precise(f.Started)
	if f.Kind == pinpoint.Gone || f.Kind == pinpoint.Fewer || f.Kind == pinpoint.Remade {
		when = "after " + view.Time(f.Started) + ", by " + view.Time(f.Finished)
	}
	s.Line("%s  %s  %s", s.Accent(when), f.Namespace, what)
	var more []string
	if f.Usual > 0 {
		more = append(more, fmt.Sprintf("usual are up to %s in ten seconds", view.Count(f.Usual)))
	}
	if f.Was > 0 && (f.Kind == pinpoint.Dropped || f.Kind == pinpoint.Emptied || f.Kind == pinpoint.Gone) {
		more = append(more, fmt.Sprintf("the point before has %s of it", view.Plural(f.Was, "record")))
	}
	if len(f.Shards) > 1 {
		more = append(more, "on shards "+strings.Join(f.Shards, ", "))
	}
	if len(more) > 0 {
		s.Line("    %s", strings.Join(more, "; "))
	}
	for _, d := range f.Detail {
		s.Line("    %s", d)
	}
	for i, k := range f.Keys {
		if f.Changes > int64(len(f.Keys)) && i == len(f.Keys)-1 {
			k += " …"
		}
		s.Line("    %s", s.Faint(cut(k, 2*s.Width)))
	}
	if f.Cannot != "" {
		s.Line("    the moment before cannot be had: %s", f.Cannot)
	} else {
		s.Line("    just before: %s", s.Accent(f.Before))
	}
}
