package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/account"
	"dexamen/internal/config"
	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) accountCommands() *cli.Command {
	return &cli.Command{Name: "account", Category: recovery, OnUsageError: onUsage,
		Usage:    "logins for a time that see one database, such as one that was restored",
		Commands: []*cli.Command{a.accountLendCommand(), a.accountListCommand(), a.accountEndCommand()}}
}

func (a *app) accountLendCommand() *cli.Command {
	return a.command("", "lend", "CLUSTER", "make a login that sees one database, for a time",
		`It is tried at once: what it may read, and that it is refused everything else. The password is
printed once and kept nowhere. When its time is over the login is taken away by the daemon, or by
the next command that works on the store.

   dexamen account lend meadow --database rehearsal --for 40m
   dexamen account lend willow --database /gateways/ --for 2h --write`, a.lend,
		&cli.StringFlag{Name: "database",
			Usage: "the `DATABASE` it sees; of key-value clusters a namespace, as browse names it"},
		&cli.StringFlag{Name: "for", Usage: "how long, such as 40m; at most 30d"},
		&cli.BoolFlag{Name: "write", Usage: "it may write there, too"})
}

func (a *app) accountListCommand() *cli.Command {
	return a.command("", "list", "", "which logins are lent, and until when", "", a.listLogins)
}

func (a *app) accountEndCommand() *cli.Command {
	return a.command("", "end", "USER", "take a login away before its time is over",
		"The end of its name is enough.", a.endLogin)
}

// longestLoan is for how long a login is lent at most: its record outlives that.
const longestLoan = 30 * 24 * time.Hour

func (a *app) lend(ctx context.Context, c *cli.Command) error {
	part := c.String("database")
	if part == "" {
		return usage("say what it shall see: --database NAME")
	}
	d, err := address.ParseDistance(c.String("for"))
	if err != nil || d <= 0 || d > longestLoan {
		return usage("--for %s: write how long the login is lent, such as 40m; at most 30d", c.String("for"))
	}
	w, name, err := a.onCluster(ctx, c)
	if err != nil {
		return err
	}
	defer w.progress.Done()
	cl, err := a.connect(ctx, c, name)
	if err != nil {
		return err
	}
	defer cl.Close()
	if err := lendable(ctx, cl, part); err != nil {
		return err
	}
	l := engine.Loan{User: account.NewUser(), Password: account.NewPassword(), Part: part, Write: c.Bool("write")}
	r := &store.Run{Kind: store.RunLend, Cluster: name, Until: time.Now().Add(d).UTC().Truncate(time.Second),
		Login: &store.RunLogin{User: l.User, Part: part, Write: l.Write}}
	err = a.recordRun(ctx, c, w, r, func(ctx context.Context, _ *run.Runner, r *store.Run) error {
		return account.Lend(ctx, cl, l, r)
	})
	w.progress.Done()
	if err != nil {
		return err
	}
	s := a.screen
	if s.JSON {
		return s.Encode(map[string]any{"user": l.User, "password": l.Password, "cluster": name, "sees": part,
			"write": l.Write, "until": r.Until, "run": r.ID})
	}
	s.Line("a login on %s that sees %s and nothing else, until %s:", s.Accent(name), s.Accent(part), view.Time(r.Until))
	s.Line("  user      %s", l.User)
	s.Line("  password  %s", l.Password)
	s.Line("  the password is not shown again")
	if l.Write {
		s.Line("  tried: it reads and may write there, and is refused what else it was tried with")
	} else {
		s.Line("  tried: it reads there, may not write, and is refused what else it was tried with")
	}
	s.Line("it goes by itself when the daemon, or the next command on the store, looks after that; before: "+
		"dexamen account end %s", l.User)
	return nil
}

// lendable returns an error where there is nothing of the name that is to be lent.
func lendable(ctx context.Context, cl engine.Cluster, part string) error {
	list, err := engine.ApplicationView(cl).Namespaces(ctx)
	if err != nil {
		return err
	}
	var near []string
	for _, ns := range list {
		database, _, _ := strings.Cut(ns.Name, ".")
		if cl.Engine() != "document" {
			database = ns.Name
		}
		if database == part {
			return nil
		}
		if ns.Kind.HasRecords() && (len(near) == 0 || near[len(near)-1] != database) {
			near = append(near, database)
		}
	}
	msg := fmt.Sprintf("there is no %s on the cluster", part)
	if close := engine.Nearest(part, near, 3); len(close) > 0 {
		msg += "; near it: " + strings.Join(close, ", ")
	} else if len(near) > 0 {
		msg += "; it has " + strings.Join(near[:min(len(near), 8)], ", ")
	}
	return usage("--database: %s", msg)
}

// lent lists what is lent, by store.
func (a *app) lent(ctx context.Context, c *cli.Command, do func(w work, r *store.Run) error) error {
	cfg, err := a.config(c)
	if err != nil {
		return err
	}
	names := config.Names(cfg.Stores)
	if s := c.String("store"); s != "" {
		names = []string{s}
	}
	var errs []error
	for _, name := range names {
		var w work
		if w.Runner, w.progress, err = a.openRunnerOf(ctx, c, name, ""); err == nil {
			_, err = w.EndKilled(ctx)
			var list []*store.Run
			if err == nil {
				a.endLogins(ctx, c, w)
				list, err = account.Lent(ctx, w.Store)
			}
			w.progress.Done()
			for _, r := range list {
				if err := do(w, r); err != nil {
					errs = append(errs, err)
				}
			}
		}
		if err != nil {
			errs = append(errs, fmt.Errorf("store %s: %w", name, err))
		}
	}
	return errors.Join(errs...)
}

func (a *app) listLogins(ctx context.Context, c *cli.Command) error {
	if err := args(c, 0, 0); err != nil {
		return err
	}
	type row struct {
		store.RunLogin
		Cluster string    `json:"cluster"`
		Until   time.Time `json:"until"`
		By      string    `json:"by"`
		Run     string    `json:"run"`
		Overdue bool      `json:"overdue"`
	}
	rows := []row{}
	err := a.lent(ctx, c, func(_ work, r *store.Run) error {
		rows = append(rows, row{*r.Login, r.Cluster, r.Until, r.User + "@" + r.Host, r.ID, time.Now().After(r.Until)})
		return nil
	})
	if a.screen.JSON {
		return errors.Join(err, a.screen.Encode(rows))
	}
	if len(rows) == 0 && err == nil {
		a.screen.Line("no login is lent")
		return nil
	}
	t := a.screen.Table("user", "cluster", "sees", "may", "until", "lent by")
	for _, r := range rows {
		until := view.Time(r.Until)
		if r.Overdue {
			until = a.screen.Loss(until + ", is over")
		}
		t.Row(r.User, r.Cluster, r.Part, map[bool]string{true: "read, write", false: "read"}[r.Write], until, r.By)
	}
	t.Print(0)
	return err
}

func (a *app) endLogin(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	user := c.Args().First()
	var ended []*store.Run
	found := false
	err := a.lent(ctx, c, func(w work, r *store.Run) error {
		if !strings.HasSuffix(r.Login.User, user) || found {
			return nil
		}
		found = true
		e, err := account.End(ctx, w.Runner, r, a.openFor(c), "asked for")
		if e != nil {
			ended = append(ended, e)
		}
		return err
	})
	if err == nil && !found {
		return usage("no login %s is lent; see: dexamen account list", user)
	}
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.Encode(ended)
	}
	for _, r := range ended {
		a.screen.Line("login %s on %s is taken away", r.Login.User, r.Cluster)
	}
	return nil
}

// openFor returns what opens configured clusters.
func (a *app) openFor(c *cli.Command) account.Open {
	return func(ctx context.Context, cluster string) (engine.Cluster, error) { return a.connect(ctx, c, cluster) }
}

// endLogins takes away logins whose time is over, beside what a command does.
func (a *app) endLogins(ctx context.Context, c *cli.Command, w work) {
	ctx, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()
	ended, failed, err := account.EndOverdue(ctx, w.Runner, a.openFor(c))
	for _, r := range ended {
		a.screen.Note("! login %s on %s was taken away: %s", r.Login.User, r.Cluster, r.Reason)
	}
	for _, e := range failed {
		a.screen.Note("! %s", w.Text(e))
	}
	if err != nil && ctx.Err() == nil {
		a.screen.Note("! which logins are lent could not be read: %s", w.Text(err))
	}
}
