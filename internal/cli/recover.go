package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/address"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

const recovery = "recover"

var latestMoment = address.When{Kind: address.Latest}

func (a *app) browseCommand() *cli.Command {
	return a.command(recovery, "browse", "ADDRESS", "show namespaces with counts, sizes and indexes, and a few records of one", "", a.browse,
		&cli.IntFlag{Name: "show", Value: 3, Usage: "how many records to show of a namespace named in full"}, scratchFlag())
}

func (a *app) browse(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	ad, err := parseAddress(c.Args().First())
	if err != nil {
		return err
	}
	if ad.When.Kind == address.Live {
		return a.browseLive(ctx, c, ad)
	}
	e, err := a.atMoment(ctx, c, ad)
	if err != nil {
		return err
	}
	defer e.progress.Done()
	m := e.moment
	x, err := e.Store.NewScratch(e.Temp)
	if err != nil {
		return err
	}
	defer x.Close()
	spaces, _, err := m.Trees(ctx, x, x, ad.Match)
	if err != nil {
		return err
	}
	if len(spaces) == 0 && ad.Pattern != "" {
		names, err := m.Names(ctx)
		if err != nil {
			return err
		}
		return m.Unknown(ctx, ad.Pattern, names)
	}
	var sample []string
	if len(spaces) == 1 && spaces[0].Name == ad.Pattern {
		it := tree.NewIterator(x, spaces[0].Root)
		for range c.Int("show") {
			r, ok, err := it.Next(ctx)
			if err != nil {
				return err
			}
			if !ok {
				break
			}
			sample = append(sample, m.Model.Render(r.Value))
		}
	}
	e.progress.Done()
	var rows []spaceRow
	for _, s := range spaces {
		rows = append(rows, spaceRow{s.Name, s.Kind, s.Root.Records, s.Root.Bytes, s.Root.Hash.String(), m.Model.Describe(s.Definition)})
	}
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{"cluster": ad.Cluster, "moment": m.Time, "point": m.Point.ID, "namespaces": rows, "records": sample})
	}
	a.screen.Line("%s", m)
	a.showRows(rows, sample)
	return nil
}

type spaceRow struct {
	Name       string      `json:"name"`
	Kind       record.Kind `json:"kind"`
	Records    int64       `json:"records"`
	Bytes      int64       `json:"bytes"`
	Root       string      `json:"root,omitempty"`
	Definition []string    `json:"definition"`
}

func (a *app) showRows(rows []spaceRow, sample []string) {
	t := a.screen.Table("namespace", ">records", ">size", "indexes")
	for _, r := range rows {
		var ix []string
		for _, d := range r.Definition {
			if rest, ok := strings.CutPrefix(d, "index "); ok {
				n, _, _ := strings.Cut(rest, " ")
				ix = append(ix, n)
			}
		}
		if !r.Kind.HasRecords() {
			t.Row(r.Name, "", "", "view")
			continue
		}
		t.Row(r.Name, view.Count(r.Records), view.Bytes(r.Bytes), strings.Join(ix, ", "))
	}
	t.Print(2)
	if len(rows) == 1 {
		for _, d := range rows[0].Definition {
			a.screen.Line("  %s", d)
		}
	}
	for _, s := range sample {
		if len(s) > 2*a.screen.Width {
			s = s[:2*a.screen.Width] + "…"
		}
		a.screen.Line("  %s", a.screen.Faint(s))
	}
}

func (a *app) browseLive(ctx context.Context, c *cli.Command, ad address.Address) error {
	cl, err := a.connect(ctx, c, ad.Cluster)
	if err != nil {
		return err
	}
	defer cl.Close()
	whole := engine.ApplicationView(cl)
	list, err := whole.Namespaces(ctx)
	if err != nil {
		return err
	}
	name, _, err := engine.ForAddress(a.cfg.Clusters[ad.Cluster].Address)
	if err != nil {
		return err
	}
	drv, err := engine.ForName(name)
	if err != nil {
		return err
	}
	var rows []spaceRow
	var names, sample []string
	for _, ns := range list {
		names = append(names, ns.Name)
		if !ad.Match(ns.Name) {
			continue
		}
		rows = append(rows, spaceRow{ns.Name, ns.Kind, ns.Records, ns.Bytes, "", drv.Model().Describe(ns.Definition)})
		if ns.Name == ad.Pattern && ns.Kind.HasRecords() && ns.Skip == "" && c.Int("show") > 0 {
			err := whole.Scan(ctx, ns, engine.Partition{}, func(r record.Record) error {
				sample = append(sample, drv.Model().Render(r.Value))
				if len(sample) >= c.Int("show") {
					return engine.ErrStopFollowing
				}
				return nil
			})
			if err != nil && err != engine.ErrStopFollowing {
				return err
			}
		}
	}
	if len(rows) == 0 && ad.Pattern != "" {
		return moment.UnknownName(ad.Pattern, ad.Cluster+"@live", names)
	}
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{"cluster": ad.Cluster, "moment": "live", "namespaces": rows, "records": sample})
	}
	a.screen.Line("%s@live, counts as the server estimates them", ad.Cluster)
	a.showRows(rows, sample)
	return nil
}

func (a *app) compareCommand() *cli.Command {
	return a.command(recovery, "compare", "ADDRESS ADDRESS", "find what is missing, extra or changed in the second",
		"By namespace, then by key. Two namespaces named in full are compared whatever their names.\nExit code 3 where anything differs.", a.compare,
		&cli.IntFlag{Name: "show", Value: 5, Usage: "how many keys to name for each namespace"}, scratchFlag())
}

// side makes one side of a comparison; the returned function closes it.
func (a *app) side(ctx context.Context, c *cli.Command, e *run.Runner, ad address.Address) (moment.Side, func(), error) {
	s := moment.Side{Name: ad.Cluster + "@" + ad.When.String()}
	if ad.When.Kind != address.Live {
		m, err := moment.Resolve(ctx, e, ad.Cluster, ad.When, restore.OnScratch{})
		if err == nil {
			s.Moment, s.Model, s.Name = m, m.Model, m.String()
		}
		return s, func() {}, err
	}
	cl, err := a.connect(ctx, c, ad.Cluster)
	if err != nil {
		return s, nil, err
	}
	_, drv, err := engine.ForAddress(a.cfg.Clusters[ad.Cluster].Address)
	if err != nil {
		return s, nil, err
	}
	s.Live, s.Model = cl, drv.Model()
	return s, func() { _ = cl.Close() }, nil
}

func (a *app) compare(ctx context.Context, c *cli.Command) error {
	if err := args(c, 2, 2); err != nil {
		return err
	}
	ada, err := parseAddress(c.Args().Get(0))
	if err != nil {
		return err
	}
	adb, err := parseAddress(c.Args().Get(1))
	if err != nil {
		return err
	}
	if adb.Pattern == "" {
		adb.Pattern = ada.Pattern
	}
	if ada.Pattern == "" {
		ada.Pattern = adb.Pattern
	}
	e, progress, err := a.env(ctx, c, ada.Cluster)
	if err != nil {
		return err
	}
	defer progress.Done()
	sa, closeA, err := a.side(ctx, c, e, ada)
	if err != nil {
		return err
	}
	defer closeA()
	sb, closeB, err := a.side(ctx, c, e, adb)
	if err != nil {
		return err
	}
	defer closeB()
	diffs, err := moment.Compare(ctx, e, sa, sb, moment.CompareOptions{PatternA: ada.Pattern, PatternB: adb.Pattern, Keys: c.Int("show")})
	progress.Done()
	if err != nil {
		return err
	}
	if a.screen.JSON {
		if err := a.screen.Encode(diffs); err != nil {
			return err
		}
	} else {
		a.screen.Line("from  %s", sa.Name)
		a.screen.Line("to    %s", sb.Name)
		a.showDiffs(diffs)
	}
	return moment.Different(diffs)
}

func (a *app) showDiffs(diffs []moment.NamespaceDiff) {
	s := a.screen
	t := s.Table("namespace", ">from", ">to", ">missing", ">extra", ">changed", "")
	num := func(n int64) string {
		if n == 0 {
			return "-"
		}
		return s.Loss(view.Count(n))
	}
	for i := range diffs {
		d := &diffs[i]
		name, verdict := d.A, "equal"
		if d.B != "" && d.A != "" && d.B != d.A {
			name += " : " + d.B
		}
		from, to := view.Count(d.RecordsA), view.Count(d.RecordsB)
		switch {
		case d.A == "":
			name, from, verdict = d.B, "-", s.Loss("only in the second")
		case d.B == "":
			to, verdict = "-", s.Loss("only in the first")
		case !d.Same() && d.RootA == d.RootB:
			verdict = s.Loss("definition differs")
		case !d.Same():
			verdict = s.Loss("differs")
		}
		t.Row(name, from, to, num(d.Missing), num(d.Extra), num(d.Changed), verdict)
	}
	t.Print(2)
	for i := range diffs {
		d := &diffs[i]
		if d.Same() || len(d.Keys)+len(d.DefinitionA)+len(d.DefinitionB) == 0 {
			continue
		}
		s.Line("")
		s.Line("%s", s.Accent(d.A+map[bool]string{true: d.B}[d.A == ""]))
		for _, k := range d.Keys {
			line := []rune(fmt.Sprintf("  %-8s %s  %s", k.Kind, k.Label, strings.Join(k.Fields, ", ")))
			if len(line) > max(s.Width, 60) {
				line = append(line[:max(s.Width, 60)-1], '…')
			}
			s.Line("%s", strings.TrimRight(string(line), " "))
		}
		if left := d.Missing + d.Extra + d.Changed - int64(len(d.Keys)); left > 0 && len(d.Keys) > 0 {
			s.Line("  and %s more (--show)", view.Count(left))
		}
		for _, l := range d.DefinitionA {
			s.Line("  missing  %s", l)
		}
		for _, l := range d.DefinitionB {
			s.Line("  extra    %s", l)
		}
	}
}

func (a *app) restoreCommand() *cli.Command {
	return a.command(recovery, "restore", "ADDRESS", "put back what was there at a moment",
		`Shows what it will do, asks, does it, and verifies: each namespace is written beside,
read back and compared, and only then takes its name, in one step. Key-value clusters
have no such step: there what differs is changed in place, and then read back.
A moment must be named: @latest, after an accident, is the damaged state. One namespace
that cannot be restored does not keep the others from it; exit code 4 says so.

   dexamen restore meadow@10:14:04/apiary.harvests --rename apiary.harvests=apiary.harvests_restored
   dexamen restore meadow@10:13:02/apiary.colonies --conflict replace`, a.restore, append(restoreChoices(),
			&cli.StringFlag{Name: "to", Usage: "restore onto this `CLUSTER` instead of the one it came from"},
			&cli.StringSliceFlag{Name: "rename", Usage: "`FROM=TO`; a FROM that ends in '.', '/', ':' or '*' stands for all that begin so"},
			&cli.StringFlag{Name: "conflict", Value: "refuse", Usage: "what to do where a namespace is there already: refuse or replace"},
			&cli.StringSliceFlag{Name: "except", Usage: "leave out namespaces that fit this `PATTERN`; may be repeated"},
			&cli.BoolFlag{Name: "salvage", Usage: "of a namespace that is damaged in the store restore the records that can be read, and name those that cannot"},
			&cli.BoolFlag{Name: "preview", Usage: "show what would be done, and what of the present would be lost; change nothing"},
			&cli.BoolFlag{Name: "cluster-wide", Usage: "users and roles too: those that are missing; with --conflict replace also those that differ"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask"})...)
}

// restoreChoices returns the flags for what only some engine's restores can be
// told.
func restoreChoices() (flags []cli.Flag) {
	for _, o := range engine.RestoreOptions() {
		flags = append(flags, &cli.StringFlag{Name: o.Name, Value: o.Values[0], Usage: o.Usage})
	}
	return flags
}

func (a *app) restore(ctx context.Context, c *cli.Command) error {
	present := c.String("conflict")
	if present != "refuse" && present != "replace" {
		return usage("--conflict %s: use refuse or replace", present)
	}
	chosen := map[string]string{}
	for _, o := range engine.RestoreOptions() {
		if chosen[o.Name] = c.String(o.Name); !slices.Contains(o.Values, chosen[o.Name]) {
			return usage("--%s %s: use %s", o.Name, chosen[o.Name], strings.Join(o.Values, ", "))
		}
	}
	if ad, err := parseAddress(c.Args().First()); err == nil && c.Args().Len() == 1 && !ad.Given {
		return usage("restore %s: name the moment, as in %s@10:14:04/NAMESPACE; @latest is the state of the last capture, which after an accident is the damaged one", c.Args().First(), ad.Cluster)
	}
	e, rename, err := a.renaming(ctx, c)
	if err != nil {
		return err
	}
	defer e.progress.Done()
	ad, m := e.ad, e.moment
	onto := c.String("to")
	if onto == "" {
		onto = ad.Cluster
	}
	cl, err := a.connect(ctx, c, onto)
	if err != nil {
		return err
	}
	defer cl.Close()
	plan, err := restore.NewPlan(ctx, e.Runner, m, cl, restore.Options{Pattern: ad.Pattern, Rename: rename, Except: c.StringSlice("except"), Salvage: c.Bool("salvage"), Replace: present == "replace", Settings: c.Bool("cluster-wide"), Chosen: chosen})
	if err != nil {
		return err
	}
	defer plan.Close()
	var since *moment.Since
	if onto == ad.Cluster && len(plan.Conflicts()) > 0 {
		if since, err = m.Since(ctx); err != nil {
			return err
		}
	}
	e.progress.Done()
	if !a.screen.JSON {
		a.showPlan(plan, onto, present == "replace", since)
	}
	if c.Bool("preview") {
		if a.screen.JSON {
			return a.screen.Encode(map[string]any{"moment": m.Time, "point": m.Point.ID, "to": onto, "plan": plan.Items, "since": since})
		}
		return nil
	}
	conflicts := len(plan.Conflicts())
	if !c.Bool("yes") && (conflicts == 0 || present == "replace") {
		if a.screen.Terminal {
			if !a.ask("Go on?") {
				return fmt.Errorf("%w: not confirmed; nothing was changed", run.ErrRefused)
			}
		} else if conflicts > 0 {
			return fmt.Errorf("%w: this would replace %s on %s; without a terminal to ask at, say --yes to do it",
				run.ErrRefused, view.Plural(int64(conflicts), "namespace"), onto)
		} else {
			return fmt.Errorf("%w: this would write %s to %s; without a terminal to ask at, say --yes to do it",
				run.ErrRefused, view.Plural(int64(len(plan.Items)), "namespace"), onto)
		}
	}
	var done []restore.Restored
	err = a.record(ctx, c, e, store.RunRestore, ad.Cluster, func(ctx context.Context, _ *run.Runner, r *store.Run) (err error) {
		r.Point, r.To = m.Point.ID, m.Time
		done, err = plan.Run(ctx)
		for _, d := range done {
			r.Records, r.Bytes = r.Records+d.Records, r.Bytes+d.Bytes
		}
		return err
	})
	e.progress.Done()
	if a.screen.JSON {
		if e := a.screen.Encode(map[string]any{"moment": m.Time, "point": m.Point.ID, "to": onto, "plan": plan.Items, "restored": done}); e != nil {
			return e
		}
		return err
	}
	a.showRestored(done, onto)
	return err
}

func (a *app) showPlan(p *restore.Plan, onto string, replace bool, since *moment.Since) {
	s := a.screen
	what := "change"
	if p.Replays {
		what = "command"
	}
	s.Line("restore %s, with %s of the log", p.Moment, view.Plural(p.Changes, what))
	s.Line("onto    %s", s.Accent(onto))
	if p.InPlace {
		s.Line("        in place, what differs; until it has ended %s holds neither the old nor the new", onto)
	}
	if p.Replays {
		s.Line("        the point first, read back and compared; then the commands, one by one")
	}
	t := s.Table("namespace", ">records", ">size", "becomes", "there now", ">records now", ">changed since")
	for _, it := range p.Items {
		there, n, lost := "nothing", "", ""
		switch {
		case it.Cannot != "":
			there = s.Loss("cannot be restored")
		case it.There && !replace:
			there, n = s.Loss("in the way"), view.Count(it.ThereRecords)
		case it.There:
			there, n = s.Loss("will be "+map[bool]string{true: "changed", false: "replaced"}[p.InPlace]), view.Count(it.ThereRecords)
		}
		if it.There && since != nil {
			lost = view.Count(since.Changes[it.To])
		}
		t.Row(it.From, view.Count(it.Records), view.Bytes(it.Bytes), it.To, there, n, lost)
	}
	t.Print(2)
	for _, it := range p.Items {
		if it.Cannot != "" {
			s.Line("  %s: %s", it.To, it.Cannot)
		}
		for _, l := range it.Lost {
			s.Line("  %s %s: %s", s.Loss("lost"), it.From, l)
		}
	}
	if d := p.Moment.KnownDamage(); d != "" {
		s.Line("  %s %s", s.Loss("scrubbing found damage:"), d)
	}
	if since != nil {
		s.Line("  what is there now can be had back up to %s; what was written later is in no backup: dexamen capture %s first", view.Time(since.Until), p.Moment.Point.Cluster)
	}
	if p.Settings > 0 {
		s.Line("  and %s", fmt.Sprintf("%d users and roles", p.Settings))
	}
}

func (a *app) showRestored(done []restore.Restored, onto string) {
	if len(done) == 0 {
		return
	}
	s := a.screen
	all := true
	for _, r := range done {
		all = all && r.Failed == "" && !r.Left
	}
	if all {
		s.Line("restored onto %s, read back and compared:", s.Accent(onto))
	} else {
		s.Line("%s restored onto %s:", s.Loss("not all"), s.Accent(onto))
	}
	t := s.Table("namespace", ">records", ">size", "root", "content, indexes, options", ">took")
	for _, r := range done {
		if r.Failed != "" || r.Left {
			t.Row(r.To, "", "", "", s.Loss(map[bool]string{true: "not tried", false: "not restored"}[r.Left]), "")
			continue
		}
		verdict := "equal"
		if r.Expired > 0 {
			verdict += fmt.Sprintf(", but for %s that had expired", view.Count(r.Expired))
		}
		if len(r.Lost) > 0 {
			verdict = s.Loss("what can be read; the rest is lost")
		}
		if r.Replayed {
			verdict += "; then the log's commands"
		}
		t.Row(r.To, view.Count(r.Records), view.Bytes(r.Bytes), r.Root.Short(), verdict, view.Duration(r.Took))
	}
	t.Print(2)
}
