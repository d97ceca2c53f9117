package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/address"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/restore"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) compareCommand() *cli.Command {
	return a.command(recovery, "compare", "ADDRESS ADDRESS", "find what is missing, extra or changed in the second",
		"By namespace, then by key. Two namespaces named in full are compared whatever their names.\nExit code 3 "+
			"where anything differs.", a.compare,
		&cli.IntFlag{Name: "show", Value: 5, Usage: "how many keys to name for each namespace"}, scratchFlag())
}

// side makes one side of a comparison; the returned function closes it.
func (a *app) side(ctx context.Context, c *cli.Command, e *run.Runner,
	ad address.Address) (moment.Side, func(), error) {
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
	e, progress, err := a.openRunner(ctx, c, ada.Cluster)
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
	diffs, err := moment.Compare(ctx, e, sa, sb,
		moment.CompareOptions{PatternA: ada.Pattern, PatternB: adb.Pattern, Keys: c.Int("show")})
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
			if s.Bounded && len(line) > max(s.Width, 60) {
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
