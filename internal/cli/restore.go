package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/address"
	"dexamen/internal/core/condition"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) restoreCommand() *cli.Command {
	return a.command(recovery, "restore", "ADDRESS|FILE", "put back what was there at a moment, or what was exported",
		`Shows what it will do, asks, does it, and verifies: each namespace is written beside,
read back and compared, and only then takes its name, in one step. Key-value clusters
have no such step: there what differs is changed in place, and then read back.
A moment must be named: @latest, after an accident, is the damaged state. One namespace
that cannot be restored does not keep the others from it; exit code 4 says so.

   dexamen restore meadow@10:14:04/apiary.harvests --rename apiary.harvests=apiary.harvests_restored
   dexamen restore meadow@10:13:02/apiary.colonies --conflict replace
   dexamen restore meadow@10:13:02/apiary.colonies --conflict merge --where 'yard == "north"'
   dexamen restore harvests.tar.zst --to paddock
   dexamen restore --guided`, a.restore, append([]cli.Flag{
			&cli.StringFlag{Name: "to", Usage: "restore onto this `CLUSTER` instead of the one it came from"},
			&cli.StringSliceFlag{Name: "rename",
				Usage: "`FROM=TO`; a FROM that ends in '.', '/', ':' or '*' stands for all that begin so"},
			&cli.StringFlag{Name: "conflict", Value: "refuse",
				Usage: "what to do where a namespace is there already: refuse; replace it; merge, which puts back " +
					"records " +
					"that are missing or differ; fill, which puts back those that are missing"},
			&cli.StringFlag{Name: "where",
				Usage: "only records that fit this `EXPRESSION`, as in 'hives > 3 && state == \"collapsed\"'"},
			&cli.StringFlag{Name: "keys-from",
				Usage: "only the records whose keys this `FILE` lists, one a line; - is " +
					"the standard input"},
			&cli.StringSliceFlag{Name: "also",
				Usage: "and what fits this `PATTERN` of the same moment; may be repeated"},
			&cli.StringSliceFlag{Name: "except",
				Usage: "leave out namespaces that fit this `PATTERN`; may be repeated"},
			&cli.BoolFlag{Name: "unverified",
				Usage: "of an export, take records that are not those that were exported"},
			&cli.BoolFlag{Name: "salvage", Usage: "of a namespace that is damaged in the store restore the records " +
				"that can be read, and name those that cannot"},
			&cli.BoolFlag{Name: "preview",
				Usage: "show what would be done, and what of the present would be lost; change nothing"},
			&cli.BoolFlag{Name: "cluster-wide",
				Usage: "users, roles, templates too: those that are missing; with --conflict replace also those " +
					"that differ"},
			&cli.StringFlag{Name: "start",
				Usage: "when all is restored start this `SERVER` of the configuration on it (folders)"},
			&cli.StringFlag{Name: "for",
				Usage: "take away again what is made after this `TIME`, such as 2d, by the daemon or due --run"},
			&cli.BoolFlag{Name: "without-undo",
				Usage: "do not see to it first that what is replaced or changed can be had back"},
			&cli.BoolFlag{Name: "guided",
				Usage: "be led through it at a terminal: which cluster, which moment, what, how"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask"},
		}, restoreChoices()...)...)
}

// restoreChoices returns the flags for what only some engine's restores can be
// told.
func restoreChoices() (flags []cli.Flag) {
	for _, o := range engine.RestoreOptions() {
		flags = append(flags, &cli.StringFlag{Name: o.Name, Value: o.Default(), Usage: o.Usage})
	}
	return flags
}

func (a *app) restore(ctx context.Context, c *cli.Command) error {
	if c.Bool("guided") {
		return a.guided(ctx, c)
	}
	opt, err := a.restoreOptions(c)
	if err != nil {
		return err
	}
	if err := args(c, 1, 1); err != nil {
		return err
	}
	file, err := restoredFrom(c.Args().First())
	if err != nil {
		return err
	}
	onto := c.String("to")
	var e work
	var newPlan func(engine.Cluster, restore.Options) (*restore.Plan, error)
	if file {
		e, newPlan, err = a.exported(ctx, c, onto)
	} else {
		e, _, err = a.renaming(ctx, c)
		newPlan = func(cl engine.Cluster, o restore.Options) (*restore.Plan, error) {
			return restore.NewPlan(ctx, e.Runner, e.moment, cl, o)
		}
	}
	if err != nil {
		return err
	}
	defer e.progress.Done()
	ad, m := e.ad, e.moment
	if onto == "" {
		onto = ad.Cluster
	}
	cl, err := a.connect(ctx, c, onto)
	if err != nil {
		return err
	}
	defer cl.Close()
	start, err := a.starter(c, cl)
	if err != nil {
		return err
	}
	opt.Pattern = ad.Pattern
	plan, err := newPlan(cl, opt)
	if err != nil {
		return err
	}
	defer plan.Close()
	var since *moment.Since
	if onto == ad.Cluster && !file && len(plan.Conflicts()) > 0 {
		if since, err = m.Since(ctx); err != nil {
			return err
		}
	}
	e.progress.Done()
	if !a.screen.JSON {
		a.showPlan(plan, onto, opt.Conflict, since, !c.Bool("without-undo"), a.restoreTime(ctx, e, plan, onto))
	}
	if c.Bool("preview") {
		if a.screen.JSON {
			return a.screen.Encode(map[string]any{
				"moment": m.Time, "point": m.Point.ID, "to": onto, "plan": plan.Items, "since": since})
		}
		return nil
	}
	if err := a.confirmRestore(c, plan, opt.Conflict, onto); err != nil {
		return err
	}
	until, err := restoredUntil(c, plan)
	if err != nil {
		return err
	}
	r := &store.Run{Until: until, Kind: store.RunRestore, Cluster: ad.Cluster, To: m.Time, Target: onto}
	if !file { // an export is no point of the store
		r.Point = m.Point.ID
	}
	conflicts := len(plan.Conflicts())
	if conflicts == 0 || opt.Conflict != restore.Refuse { // else it is refused, and nothing changes
		if err := a.keep(ctx, c, e, plan, r); err != nil {
			return err
		}
	}
	done, err := a.runPlan(ctx, c, e, r, plan, cl, start)
	e.progress.Done()
	if a.screen.JSON {
		if e := a.screen.Encode(map[string]any{
			"moment": m.Time, "point": m.Point.ID, "to": onto, "plan": plan.Items, "restored": done, "run": r.ID,
			"kept": r.Kept}); e != nil {
			return e
		}
		return err
	}
	a.showRestored(done, onto)
	if len(done) > 0 && len(r.Restored) > 0 && r.ID != "" && (r.Kept != "" || conflicts == 0) {
		a.screen.Line("undo it with: dexamen undo %s", r.ID)
		if !until.IsZero() {
			a.screen.Line("it goes by itself at %s, when the daemon or dexamen due --run next looks", view.Time(until))
		}
	}
	return err
}

// runPlan carries out a plan as a run that is recorded, and starts what was asked for on what was restored.
func (a *app) runPlan(ctx context.Context, c *cli.Command, e work, r *store.Run, plan *restore.Plan, cl engine.Cluster,
	start func(context.Context, []restore.Restored) error) (done []restore.Restored, err error) {
	err = a.recordRun(ctx, c, e, r, func(ctx context.Context, _ *run.Runner, r *store.Run) error {
		end, err := a.share(ctx, c, e.Runner, store.RunRestore, r.Target, cl)
		if err != nil {
			return err
		}
		defer end()
		done, err = plan.Run(ctx)
		r.Restored = restore.Note(done, r.Restored)
		for _, d := range done {
			r.Records, r.Bytes = r.Records+d.Records, r.Bytes+d.Bytes
		}
		if err != nil {
			return err
		}
		return start(ctx, done)
	})
	return done, err
}

// restoreOptions returns what the flags ask for; the pattern comes with the moment.
func (a *app) restoreOptions(c *cli.Command) (restore.Options, error) {
	opt := restore.Options{Also: c.StringSlice("also"), Except: c.StringSlice("except"), Salvage: c.Bool("salvage"),
		Conflict: restore.Conflict(c.String("conflict")), Settings: c.Bool("cluster-wide"), Chosen: map[string]string{}}
	ways := []restore.Conflict{restore.Refuse, restore.Replace, restore.Merge, restore.Fill}
	if !slices.Contains(ways, opt.Conflict) {
		return opt, usage("--conflict %s: use refuse, replace, merge or fill", opt.Conflict)
	}
	var err error
	if opt.Records, err = a.chosenRecords(c); err != nil {
		return opt, err
	}
	if opt.Conflict == restore.Replace && (c.String("where") != "" || c.String("keys-from") != "") {
		return opt, usage(
			"--conflict replace with %s would remove all other records; use merge, which puts back those that are "+
				"missing or differ, or fill", map[bool]string{
				true: "--where", false: "--keys-from"}[c.String("where") != ""])
	}
	for _, o := range engine.RestoreOptions() {
		opt.Chosen[o.Name] = c.String(o.Name)
		if len(o.Values) > 0 && !slices.Contains(o.Values, opt.Chosen[o.Name]) {
			return opt, usage("--%s %s: use %s", o.Name, opt.Chosen[o.Name], strings.Join(o.Values, ", "))
		}
	}
	opt.Rename, err = pairs(c.StringSlice("rename"))
	return opt, err
}

// restoredFrom reports whether what is to be restored is an export's file, and not a moment of a store.
func restoredFrom(from string) (file bool, err error) {
	file = isExport(from)
	if ad, err := parseAddress(from); err == nil && !file && !ad.Given {
		return false, usage("restore %s: name the moment, as in %s@10:14:04/NAMESPACE; @latest is the state of the "+
			"last capture, which after an accident is the damaged one", from, ad.Cluster)
	}
	if _, err := os.Stat(from); file && from != "-" && err != nil {
		return false, usage("restore %s: %w; name a file of dexamen export, or an address such as "+
			"meadow@10:14:04/NAMESPACE", from, errors.Unwrap(err))
	}
	return file, nil
}

// confirmRestore asks whether to go on, unless that was said or nothing would be done.
func (a *app) confirmRestore(c *cli.Command, plan *restore.Plan, present restore.Conflict, onto string) error {
	conflicts := len(plan.Conflicts())
	switch {
	case c.Bool("yes"), conflicts > 0 && present == restore.Refuse:
		return nil
	case a.screen.Terminal:
		if !a.ask("Go on?") {
			return errNotConfirmed
		}
		return nil
	case conflicts > 0:
		return fmt.Errorf("%w: this would %s %s on %s; without a terminal to ask at, say --yes to do it",
			run.ErrRefused, map[bool]string{true: "replace", false: "change"}[present == restore.Replace],
			view.Plural(int64(conflicts), "namespace"), onto)
	}
	return fmt.Errorf("%w: this would write %s to %s; without a terminal to ask at, say --yes to do it",
		run.ErrRefused, view.Plural(int64(len(plan.Items)), "namespace"), onto)
}

// restoredUntil returns when what is restored is to be taken away again; zero where it stays.
func restoredUntil(c *cli.Command, plan *restore.Plan) (time.Time, error) {
	text := c.String("for")
	if text == "" {
		return time.Time{}, nil
	}
	d, err := address.ParseDistance(text)
	if err != nil || d <= 0 {
		return time.Time{}, usage("--for %s: write a time such as 40m or 2d", text)
	}
	if list := plan.Conflicts(); len(list) > 0 {
		return time.Time{}, usage("--for is for what is restored beside: %s is there already", list[0].To)
	}
	return time.Now().Add(d).UTC().Truncate(time.Millisecond), nil
}

// starter returns what starts the server that was asked for on what was restored.
func (a *app) starter(c *cli.Command, cl engine.Cluster) (func(context.Context, []restore.Restored) error, error) {
	name := c.String("start")
	if name == "" {
		return func(context.Context, []restore.Restored) error { return nil }, nil
	}
	srv, ok := a.cfg.Servers[name]
	if !ok {
		return nil, usageError{config.UnknownError("server", name, config.Names(a.cfg.Servers))}
	}
	s, ok := cl.(engine.ServerStarter)
	if !ok {
		return nil, usage("--start: servers are started on folders only")
	}
	return func(ctx context.Context, done []restore.Restored) error {
		for _, d := range done {
			begin := time.Now()
			within := time.Duration(srv.Within)
			if within == 0 {
				within = time.Minute
			}
			if err := s.StartServer(ctx, d.To, srv.Start, srv.Ready, within); err != nil {
				return fmt.Errorf("%s is restored; server %s: %w", d.To, name, err)
			}
			if !a.screen.JSON {
				a.screen.Line("server %s runs on %s, ready after %s", name, d.To, view.Duration(time.Since(begin)))
			}
		}
		return nil
	}, nil
}

// chosenRecords reads which records are to be restored.
func (a *app) chosenRecords(c *cli.Command) (r restore.Records, err error) {
	if text := c.String("where"); text != "" {
		if r.Where, err = condition.Compile(text); err != nil {
			return r, usageError{err}
		}
	}
	name := c.String("keys-from")
	if name == "" {
		return r, nil
	}
	if r.Where != nil {
		return r, usage("--where and --keys-from: choose records by one of them")
	}
	var raw []byte
	if name == "-" {
		raw, err = io.ReadAll(a.in)
	} else {
		raw, err = os.ReadFile(name)
	}
	if err != nil {
		return r, usage("--keys-from: %v", err)
	}
	for line := range strings.Lines(string(raw)) {
		if line = strings.TrimRight(line, "\r\n"); line != "" {
			r.Keys = append(r.Keys, line)
		}
	}
	if len(r.Keys) == 0 {
		return r, usage("--keys-from %s: there is no key in it", name)
	}
	return r, nil
}

// restoreTime says how long a restore will take, by how long earlier ones took.
func (a *app) restoreTime(ctx context.Context, e work, p *restore.Plan, onto string) string {
	runs, _, err := e.Store.Runs(ctx, store.RunFilter{Kinds: []string{store.RunRestore}, Last: 20})
	if err != nil {
		return ""
	}
	var bytes int64
	var took time.Duration
	for _, r := range runs {
		if r.Good() && r.Target == onto && r.Bytes > 0 {
			bytes, took = bytes+r.Bytes, took+r.Took()
		}
	}
	work := int64(0)
	for _, it := range p.Items {
		n := it.Bytes
		if f := it.Effect; f != nil && p.Merges() && it.Records > 0 {
			n = it.Bytes * (f.Added + f.Changed) / max(1, it.Records)
		}
		work += n
	}
	if bytes == 0 || took <= 0 {
		return ""
	}
	d := time.Duration(float64(work) / float64(bytes) * float64(took))
	return fmt.Sprintf("about %s, as earlier restores onto %s went at %s a second", view.Duration(max(d, time.Second)),
		onto,
		view.Bytes(int64(float64(bytes)/took.Seconds())))
}

func (a *app) showPlan(p *restore.Plan, onto string, present restore.Conflict, since *moment.Since, keeps bool,
	takes string) {
	s := a.screen
	what := "change"
	if p.Replays {
		what = "command"
	}
	logged := p.Moment.Point.HasLog()
	if logged {
		s.Line("restore %s, with %s of the log", p.Moment, view.Plural(p.Changes, what))
	} else {
		s.Line("restore %s", p.Moment)
	}
	s.Line("onto    %s", s.Accent(onto))
	if p.InPlace {
		s.Line("        in place, what differs; until it has ended %s holds neither the old nor the new", onto)
	}
	if p.Replays {
		s.Line("        the point first, read back and compared; then the commands, one by one")
	}
	head := []string{"namespace", ">records", ">size", "becomes", "there now", ">records now", ">changed since"}
	effects := slices.ContainsFunc(p.Items, func(it restore.Item) bool { return it.Effect != nil })
	if effects {
		head = append(head, ">added", ">changed", ">removed", ">left")
	}
	t := s.Table(head...)
	for _, it := range p.Items {
		there, n, lost := "nothing", "", ""
		switch {
		case it.Cannot != "":
			there = s.Loss("cannot be restored")
		case it.There && present == restore.Refuse:
			there, n = s.Loss("in the way"), view.Count(it.ThereRecords)
		case it.There && present == restore.Replace && !p.InPlace:
			there, n = s.Loss("will be replaced"), view.Count(it.ThereRecords)
		case it.There:
			there, n = s.Loss("will be changed"), view.Count(it.ThereRecords)
		}
		if it.There && since != nil {
			lost = "not known"
			if logged {
				lost = view.Count(since.Changes[it.To])
			}
		}
		row := []any{it.From, view.Count(it.Records), view.Bytes(it.Bytes), it.To, there, n, lost}
		if f := it.Effect; f != nil {
			removed := view.Count(f.Removed)
			if f.Removed > 0 {
				removed = s.Loss(removed)
			}
			row = append(row, view.Count(f.Added), view.Count(f.Changed), removed, view.Count(f.Left))
		}
		t.Row(row...)
	}
	t.Print(2)
	for _, it := range p.Items {
		if it.Cannot != "" {
			s.Line("  %s: %s", it.To, it.Cannot)
		}
		for _, l := range it.Lost {
			s.Line("  %s %s: %s", s.Loss("lost"), it.From, l)
		}
		if it.Born {
			s.Line("  %s came to be after the point: nothing stays in it, and the commands make it what it was", it.To)
		}
		if it.Expired > 0 {
			s.Line("  %s: %s expired since then and will not come back", it.To, view.Plural(it.Expired, "record"))
		}
	}
	if n := len(p.Stays); n > 0 {
		s.Line("  %s there that this moment does not have, and stay as they are: %s",
			s.Loss(view.Plural(int64(n), "namespace")),
			strings.Join(p.Stays[:min(5, n)], ", ")+map[bool]string{true: ", …"}[n > 5])
	}
	if d := p.Moment.KnownDamage(); d != "" {
		s.Line("  %s %s", s.Loss("scrubbing found damage:"), d)
	}
	switch {
	case len(p.Conflicts()) == 0 || present == restore.Refuse:
	case keeps:
		s.Line("  before anything is changed, what is there now is kept, so that this can be undone")
	case since != nil:
		s.Line("  what is there now can be had back up to %s; what was written later is in no backup: dexamen "+
			"%s %s first", view.Time(since.Until), map[bool]string{true: "capture", false: "snapshot"}[logged],
			p.Moment.Point.Cluster)
	}
	if len(p.KeysMissing) > 0 {
		s.Line("  %s %s", s.Loss("not there then:"), strings.Join(p.KeysMissing[:min(5, len(p.KeysMissing))], ", "))
	}
	if takes != "" {
		s.Line("  it will take %s", takes)
	}
	if p.Settings > 0 {
		s.Line("  and %s", view.Plural(p.Settings, "cluster-wide setting"))
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
		if f := r.Effect; r.Merged && f != nil {
			verdict = fmt.Sprintf("%s added, %s changed, %s left", view.Count(f.Added), view.Count(f.Changed),
				view.Count(f.Left))
		}
		root := r.Root.Short()
		if r.Replayed && r.Root.IsZero() { // it came to be after the point
			root, verdict = "", "emptied"
		}
		if r.Replayed {
			verdict += "; then the log's commands"
		}
		t.Row(r.To, view.Count(r.Records), view.Bytes(r.Bytes), root, verdict, view.Duration(r.Took.D()))
	}
	t.Print(2)
}
