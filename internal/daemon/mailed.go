package daemon

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"dexamen/internal/config"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/core/wait"
	"dexamen/internal/explain"
	"dexamen/internal/notify"
	"dexamen/internal/report"
	"dexamen/internal/run"
)

const (
	reportDefault = 30 * 24 * time.Hour
	// reportLook is how often it is looked whether a report is due, and how long one that could not be sent
	// waits.
	reportLook = 5 * time.Minute
	// reportMarks is under which name it is kept in a store which reports were sent.
	reportMarks = "reports"
)

// sendReports sends reports when they are due, until the context ends. Of several daemons one does.
func (d *Daemon) sendReports(ctx context.Context) {
	begun := time.Now()
	for wait.For(ctx, reportLook) == nil {
		d.mu.Lock()
		world := d.Deps
		d.mu.Unlock()
		r := world.Config.Report
		if r == nil || world.Config.Alerts.Mail == nil {
			continue
		}
		slot := r.When.Last(time.Now())
		if slot.Before(begun.Add(-24 * time.Hour)) { // one that was missed for a day is not made up for
			continue
		}
		err := d.guarded("the report", func() error { return world.sendReport(ctx, *r, slot, d.Version) })
		if err != nil && ctx.Err() == nil {
			d.Log.Error("a report was not sent, and is tried again", "due", slot, "error", explain.Error(err))
		}
	}
}

// sendReport sends the report of a time that is due, where nobody has yet: it is sent first, and then noted.
func (w Deps) sendReport(ctx context.Context, r config.Report, slot time.Time, version string) error {
	names := config.Names(w.Config.Stores)
	var errs []error
	for _, name := range names {
		e, err := w.env(ctx, name, "")
		if err != nil {
			errs = append(errs, err)
			continue // another one keeps it
		}
		defer e.Store.Close()
		return w.sendOnce(ctx, e, r, slot, version)
	}
	return errors.Join(errs...)
}

func (w Deps) sendOnce(ctx context.Context, e *run.Runner, r config.Report, slot time.Time, version string) error {
	mark := "sent-" + slot.UTC().Format("20060102T150405")
	var was struct{ Sent time.Time }
	if sent, err := e.Store.Mark(ctx, reportMarks, mark, &was); err != nil || sent {
		return err
	}
	claim, err := e.Store.AcquireFor(ctx, "report", reportMarks)
	if errors.Is(err, store.ErrHeld) {
		return nil // another daemon is at it
	}
	if err != nil {
		return err
	}
	defer claim.Release(context.WithoutCancel(ctx))
	if sent, err := e.Store.Mark(ctx, reportMarks, mark, &was); err != nil || sent {
		return err
	}
	last := time.Duration(r.Last)
	if last <= 0 {
		last = reportDefault
	}
	now := time.Now()
	var statements func(context.Context, string, *run.Runner) ([]report.Statement, []string, error)
	if w.Statements != nil {
		statements = w.Statements(now.Add(-last))
	}
	data := Report(ctx, w, now.Add(-last), now, statements)
	data.Tool = "dexamen " + version
	var page bytes.Buffer
	if err := data.HTML(&page); err != nil {
		return err
	}
	text := data.Verdict() + "\n\nThe file shows how everything is protected; it needs no other, and can be printed."
	for _, a := range data.Alerts {
		text += "\n\n" + a.About + ": " + a.Text
	}
	id := "report-" + strings.TrimPrefix(mark, "sent-") + "." + e.Store.ID + "@" + data.Host
	err = notify.SendFile(ctx, *w.Config.Alerts.Mail, r.To, id, fmt.Sprintf("How the data is protected, %s",
		now.Local().Format("2 Jan 2006")), text, "protection-"+now.Local().Format(time.DateOnly)+".html", page.Bytes())
	if err != nil {
		return err
	}
	err = e.Store.PutMark(ctx, reportMarks, mark, map[string]any{"sent": now.UTC()})
	if errors.Is(err, blob.ErrExists) {
		err = nil
	}
	return err
}
