package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/daemon"
	"dexamen/internal/explain"
	"dexamen/internal/notify"
	"dexamen/internal/view"
)

func (a *app) statusCommand() *cli.Command {
	return a.command(protect, "status", "",
		"how everything is: a line a cluster and a store; exit 0 only when all is well",
		`Reads the stores themselves, whether a daemon is at work or not; a store that does not answer within
15 seconds is named. The newest moment is the last that can be restored, its age beside what the policy
promises. /healthz?verbose of a daemon says the same (as JSON where that is accepted).
Exit 0: all is well; 4: something is amiss; 1: something could not be looked at.`, a.status)
}

func (a *app) status(ctx context.Context, c *cli.Command) error {
	if err := args(c, 0, 0); err != nil {
		return err
	}
	if _, err := a.config(c); err != nil {
		return err
	}
	s := daemon.Look(ctx, a.deps(c))
	if err := ctx.Err(); err != nil {
		return err
	}
	if a.screen.JSON {
		if err := a.screen.Encode(s); err != nil {
			return err
		}
	} else {
		a.showStatus(s)
	}
	return s.Err()
}

// ago returns how long ago something was, roughly.
func ago(t, now time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return view.Duration(max(0, now.Sub(t).Round(time.Second))) + " ago"
}

func lastRehearsed(d *daemon.DrillStatus, now time.Time) string {
	if d == nil {
		return "never"
	}
	return ago(d.Finished, now)
}

func (a *app) showStatus(s *daemon.Status) {
	scr := a.screen
	since := func(list []notify.Alert) string {
		first := list[0].Since
		for _, n := range list {
			if n.Since.Before(first) {
				first = n.Since
			}
		}
		return scr.Loss("alert since " + view.Time(first))
	}
	if len(s.Clusters) > 0 {
		t := scr.Table("cluster", "newest moment", "promised", "last point", ">records", "proven", "rehearsed", "")
		for _, c := range s.Clusters {
			promised := "-"
			if c.Promised > 0 {
				promised = view.Long(time.Duration(c.Promised * float64(time.Second)))
			}
			newest, records := ago(c.Newest, s.Time), view.Count(c.Records)
			if c.Newest.IsZero() {
				newest, records = scr.Loss("none"), "-"
			}
			how := "well"
			switch {
			case c.Error != "":
				how, newest = scr.Loss("not known"), "-"
			case len(c.Alerts) > 0:
				how = since(c.Alerts)
			}
			if c.Mirror != "" && c.Error == "" {
				how += "; in " + c.Mirror + " " + ago(c.Mirrored, s.Time)
			}
			t.Row(scr.Accent(c.Cluster), newest, promised, ago(c.PointTime, s.Time), records, ago(c.Proof, s.Time),
				lastRehearsed(c.Drill, s.Time), how)
		}
		t.Print(0)
		scr.Line("")
	}
	t := scr.Table("store", ">holds", ">room left", "full in", "last scrub", "")
	for _, st := range s.Stores {
		free, days, how := "not known", "-", "well"
		if st.Free >= 0 {
			free = view.Bytes(st.Free)
		}
		if st.Days > 0 {
			days = fmt.Sprintf("%.0f days", st.Days)
		}
		holds := view.Bytes(st.Used)
		switch {
		case !st.Up:
			how, holds = scr.Loss("cannot be used"), "-"
		case len(st.Alerts) > 0:
			how = since(st.Alerts)
		}
		t.Row(scr.Accent(st.Store), holds, free, days, ago(st.Scrub, s.Time), how)
	}
	t.Print(0)
	a.showAlerts(s)
}

// showAlerts prints what is amiss, each with what to do.
func (a *app) showAlerts(s *daemon.Status) {
	scr, first := a.screen, true
	print := func(list []notify.Alert) {
		for _, n := range list {
			if first {
				scr.Line("")
				first = false
			}
			scr.Line("%s %s", scr.Loss(n.About+":"), n.Text)
			if n.Do != "" {
				scr.Line("  %s", scr.Faint(n.Do))
			}
		}
	}
	for _, st := range s.Stores {
		if st.Error != "" {
			print([]notify.Alert{{About: "store " + st.Store, Text: st.Error}})
		}
		print(st.Alerts)
	}
	for _, c := range s.Clusters {
		if c.Error != "" {
			print([]notify.Alert{{About: "cluster " + c.Cluster, Text: c.Error}})
		}
		print(c.Alerts)
	}
	print(s.Alerts)
}

func (a *app) alertsCommand() *cli.Command {
	return &cli.Command{Name: "alerts", Category: setUp, Usage: "how people are told",
		Commands: []*cli.Command{
			a.command("", "test", "", "send one alert through each channel, and say which took it",
				"What is sent says that it is a test. Exit 1 where a channel did not take it.", a.alertsTest),
		}}
}

func (a *app) alertsTest(ctx context.Context, c *cli.Command) error {
	if err := args(c, 0, 0); err != nil {
		return err
	}
	cfg, err := a.config(c)
	if err != nil {
		return err
	}
	channels := notify.Channels(cfg.Alerts)
	if len(channels) == 0 {
		return usage("%s: nobody is told of anything: give alerts a webhook or a mail", cfg.Path)
	}
	type row struct {
		Channel string  `json:"channel"`
		ID      string  `json:"id"`
		Taken   bool    `json:"taken"`
		Seconds float64 `json:"seconds"`
		Error   string  `json:"error,omitempty"`
	}
	var rows []row
	failed := 0
	for _, ch := range channels {
		begun := time.Now()
		m := notify.NewMessage(notify.Alert{Key: "test " + begun.Format(time.RFC3339Nano), About: "test",
			Since: begun.UTC(), Text: "This is a test: alerts come through here. Nothing is wrong."})
		err := notify.Send(ctx, ch, m)
		r := row{Channel: ch.Name(), ID: m.ID, Taken: err == nil, Seconds: time.Since(begun).Seconds()}
		if err != nil {
			r.Error = explain.Error(err)
			failed++
		}
		rows = append(rows, r)
	}
	if a.screen.JSON {
		if err := a.screen.Encode(rows); err != nil {
			return err
		}
	} else {
		for _, r := range rows {
			took := view.Duration(time.Duration(r.Seconds * float64(time.Second)))
			if r.Taken {
				a.screen.Line("%s has taken %s in %s", a.screen.Accent(r.Channel), r.ID, took)
			} else {
				a.screen.Line("%s %s after %s: %s", a.screen.Accent(r.Channel), a.screen.Loss("has not taken it"), took,
					r.Error)
			}
		}
	}
	if failed > 0 {
		return fmt.Errorf("%s did not take the test", view.Plural(int64(failed), "channel"))
	}
	return nil
}
