package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/address"
	"dexamen/internal/core/condition"
	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/export"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) exportCommand() *cli.Command {
	return a.command(recovery, "export", "ADDRESS",
		"write what was there at a moment in open forms, for other programs or people",
		`A folder for each namespace, with its records and its definition, under one manifest.json; as a
folder, or as one archive where the name ends in .tar or .tar.zst. To - it is written as an archive
to the standard output. dexamen restore FILE reads it back, and verifies it.

   dexamen export meadow@10:14:04/apiary.harvests --to harvests.tar.zst
   dexamen export meadow@latest/apiary.* --form jsonl --to for-the-auditor
   dexamen export meadow@-1h --to - | ssh backup-host 'cat > meadow.tar.zst'`, a.export,
		&cli.StringFlag{Name: "to", Usage: "`DIR`, FILE.tar, FILE.tar.zst or -"},
		&cli.StringFlag{
			Name: "form", Usage: "of document clusters: bson (the usual one) or jsonl (canonical Extended JSON)"},
		&cli.StringSliceFlag{Name: "except", Usage: "leave out namespaces that fit this `PATTERN`; may be repeated"},
		&cli.StringFlag{Name: "where", Usage: "only records that fit this `EXPRESSION`"},
		&cli.BoolFlag{Name: "overwrite", Usage: "replace an archive that is there"},
		scratchFlag())
}

func (a *app) export(ctx context.Context, c *cli.Command) (err error) {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	ad, err := parseAddress(c.Args().First())
	if err != nil {
		return err
	}
	opt := export.Options{Form: c.String("form"), Choose: func(name string) bool {
		return ad.Match(name) && !slices.ContainsFunc(c.StringSlice("except"),
			func(p string) bool { return address.Match(p, name) })
	}}
	var cond *condition.Condition
	if text := c.String("where"); text != "" {
		if cond, err = condition.Compile(text); err != nil {
			return usageError{err}
		}
		opt.Chosen = text
		opt.Fits = func(m engine.Model, r record.Record) (bool, error) {
			ins, ok := m.(engine.Inspector)
			if !ok {
				return false, fmt.Errorf("%w: records of clusters of this kind cannot be chosen", run.ErrRefused)
			}
			fields, ok, err := ins.Fields(r.Value)
			return err == nil && ok && cond.Fits(fields), err
		}
	}
	to := c.String("to")
	if to == "" {
		return usage("say where to, with --to DIR, --to FILE.tar or --to -")
	}
	if to == "-" && a.screen.JSON {
		return usage("--json and --to - both want the standard output")
	}
	e, err := a.atMoment(ctx, c, ad)
	if err != nil {
		return err
	}
	defer e.progress.Done()
	names, err := e.moment.Names(ctx)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(names, opt.Choose) {
		return e.moment.Unknown(ctx, ad.Pattern, names)
	}
	out, err := export.Create(to, a.screen.Data, c.Bool("overwrite"))
	if err != nil {
		return fmt.Errorf("%w: %w", run.ErrRefused, err)
	}
	man, err := export.Write(ctx, e.Runner, e.moment, out, opt)
	if err == nil && cond != nil {
		err = cond.Check()
	}
	if cerr := out.Close(err); cerr != nil {
		err = errors.Join(err, cerr)
	}
	e.progress.Done()
	if err != nil || to == "-" {
		return err
	}
	if a.screen.JSON {
		return a.screen.Encode(man)
	}
	a.screen.Line("%s, exported to %s as %s:", e.moment, a.screen.Accent(to), man.Form)
	t := a.screen.Table("namespace", ">records", ">size", "root", "folder")
	for _, n := range man.Namespaces {
		t.Row(n.Name, view.Count(n.Records), view.Bytes(n.Bytes), n.Root.Short(), n.Folder)
	}
	t.Print(2)
	return nil
}

// isExport reports whether an argument names an export, and not an address.
func isExport(arg string) bool {
	if arg == "-" || strings.HasSuffix(arg, ".tar") || strings.HasSuffix(arg, ".tar.zst") {
		return true
	}
	if strings.HasPrefix(arg, "/") || strings.HasPrefix(arg, "./") || strings.HasPrefix(arg, "../") {
		return true
	}
	_, err := os.Stat(arg)
	return err == nil && !strings.Contains(arg, "@")
}

// exported begins a restore of an export.
func (a *app) exported(ctx context.Context, c *cli.Command, onto string) (e work, plan func(cl engine.Cluster,
	o restore.Options) (*restore.Plan, error), err error) {
	name := c.Args().First()
	if onto == "" {
		return e, nil, usage("restore %s: say onto which cluster, with --to", name)
	}
	if name == "-" && !c.Bool("yes") && !c.Bool("preview") {
		return e, nil, usage(
			"restore -: nobody can be asked while the standard input is the export; say --yes, or --preview first")
	}
	if e.Runner, e.progress, err = a.openRunner(ctx, c, onto); err != nil {
		return e, nil, err
	}
	x, err := e.Store.NewScratch(e.Temp)
	if err != nil {
		return e, nil, err
	}
	var m *moment.Moment
	if m, _, err = export.Open(ctx, e.Runner, x, name, a.in, c.Bool("unverified")); err != nil {
		x.Close()
		e.progress.Done()
		return e, nil, err
	}
	e.moment, e.ad = m, address.Address{Cluster: onto}
	return e, func(cl engine.Cluster, o restore.Options) (*restore.Plan, error) {
		return restore.NewPlanFrom(ctx, e.Runner, m, x, cl, o)
	}, nil
}
