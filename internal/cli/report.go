package cli

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/address"
	"dexamen/internal/daemon"
	"dexamen/internal/evidence"
	"dexamen/internal/report"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) reportCommand() *cli.Command {
	return a.command(proof, "report", "", "how everything is protected, as one file for people who do not run dexamen",
		`One HTML file that needs nothing else and no script, readable on a phone and fit to print: at a glance
(the newest moment of each cluster, in how much of the time the promise was kept, the last proof, the last
rehearsed restore), what is not protected, coverage, growth and durations, what is kept and why, and the
signed evidence of the time.

   dexamen report --to protection.html
   dexamen report --last 90d --csv tables/`, a.report,
		&cli.StringFlag{Name: "to",
			Usage: "write this `FILE`, which must not be there unless --replace; - is the standard output"},
		&cli.BoolFlag{Name: "replace", Usage: "replace the file"},
		&cli.StringFlag{Name: "last", Value: "30d", Usage: "of the last `TIME`"},
		&cli.StringFlag{Name: "csv", Usage: "write the tables as CSV into this `FOLDER`, which is made"})
}

// statementsOf returns the evidence of a store since a time, as reports show it.
func (a *app) statementsOf(since time.Time, trusted []ed25519.PublicKey) func(context.Context, string,
	*run.Runner) ([]report.Statement, []string, error) {
	return func(ctx context.Context, name string, e *run.Runner) (out []report.Statement, faults []string, err error) {
		lines, bad, err := evidence.Lines(ctx, e.Store)
		if err != nil {
			return nil, nil, err
		}
		for _, b := range bad {
			faults = append(faults, b.Error())
		}
		got := evidence.CheckLines(lines, trusted)
		for _, f := range got.Faults {
			faults = append(faults, f.What)
		}
		for _, s := range got.Statements {
			if s.Finished.Before(since) {
				continue
			}
			x := report.Statement{Number: s.Number, Store: name, Ended: s.Finished, Kind: s.Kind, Cluster: s.Cluster,
				Moment: s.Moment, Target: s.Target, Result: s.Result, Took: s.Took().D().Seconds()}
			if s.Drill != nil {
				x.Recovery = s.Drill.Recovery.D().Seconds()
				if s.Drill.Served {
					x.Target = "served"
				}
			}
			out = append(out, x)
		}
		return out, faults, nil
	}
}

func (a *app) report(ctx context.Context, c *cli.Command) error {
	if err := args(c, 0, 0); err != nil {
		return err
	}
	if _, err := a.config(c); err != nil {
		return err
	}
	d, err := address.ParseDistance(c.String("last"))
	if err != nil || d <= 0 {
		return usage("--last %s: write a time such as 30d", c.String("last"))
	}
	if c.String("to") == "" && c.String("csv") == "" && !a.screen.JSON {
		return usage("say where to: --to FILE, --csv FOLDER, or --json")
	}
	now := time.Now()
	trusted := a.trusted(ctx, c)
	data := daemon.Report(ctx, a.deps(c), now.Add(-d), now, a.statementsOf(now.Add(-d), trusted))
	if err := ctx.Err(); err != nil {
		return err
	}
	data.Tool = "dexamen " + Version
	if len(trusted) > 0 {
		data.Key = evidence.Thumbprint(trusted[0])
	}
	if a.screen.JSON {
		return a.screen.Encode(data)
	}
	if folder := c.String("csv"); folder != "" {
		if err := writeTables(data, folder); err != nil {
			return err
		}
		a.screen.Line("%s: %s", folder, view.Plural(int64(len(report.Tables)), "table"))
	}
	name := c.String("to")
	if name == "" {
		return nil
	}
	if name == "-" {
		return data.HTML(a.screen.Out)
	}
	if err := writeNew(name, c.Bool("replace"), data.HTML); err != nil {
		return err
	}
	a.screen.Line("%s: %s, %s, %s", name, view.Plural(int64(len(data.Clusters)), "cluster"),
		view.Plural(int64(len(data.Alerts)), "alert"), view.Plural(int64(len(data.Evidence)), "statement"))
	return nil
}

func writeTables(data *report.Data, folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return usage("--csv: %v", err)
	}
	for _, t := range report.Tables {
		err := writeNew(filepath.Join(folder, t+".csv"), true, func(w io.Writer) error { return data.CSV(w, t) })
		if err != nil {
			return err
		}
	}
	return nil
}

// writeNew writes a file, so that it is there as a whole or not at all. One that is there is refused
// unless it is to be replaced.
func writeNew(name string, replace bool, write func(io.Writer) error) (err error) {
	if _, err := os.Stat(name); err == nil && !replace {
		return fmt.Errorf("%w: %s is there already; say --replace, or another name", run.ErrRefused, name)
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".report-*")
	if err != nil {
		return usage("%v", err)
	}
	defer func() {
		if err != nil {
			_ = os.Remove(f.Name())
		}
	}()
	if err = errors.Join(write(f), f.Chmod(0o644), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), name)
}
