package moment

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// UnknownName is the error for a namespace that is not there: it names those
// most like it.
func UnknownName(what, where string, all []string) error {
	msg := fmt.Sprintf("there is no namespace %s in %s", what, where)
	if !address.Literal(what) {
		msg = fmt.Sprintf("no namespace in %s fits %s", where, what)
	}
	if near := engine.Nearest(what, all, 3); len(near) > 0 {
		msg += "; near it: " + strings.Join(near, ", ")
	} else if len(all) > 0 {
		msg += fmt.Sprintf("; it holds %s", strings.Join(all[:min(len(all), 8)], ", "))
		if len(all) > 8 {
			msg += fmt.Sprintf(" and %d more", len(all)-8)
		}
	} else {
		msg += ", which holds none"
	}
	return unknownError{msg}
}

// unknownError is returned where nothing fits a name.
type unknownError struct{ text string }

func (e unknownError) Error() string { return e.text }

func isUnknown(err error) bool { return errors.As(err, new(unknownError)) }

// Unknown is the error for a namespace that a moment does not have. Where a point
// before has it, it says until when it can be had, and why no longer.
func (m *Moment) Unknown(ctx context.Context, pattern string, names []string) error {
	base := UnknownName(pattern, m.String(), names)
	lacks, err := m.NotUnderstood(ctx)
	if err != nil {
		return err
	}
	for _, u := range lacks {
		if address.Match(pattern, u.Name) {
			return fmt.Errorf("%w; of %s %s; until then it can be had: %s@%s/%[2]s", base, u.Name, u.Why,
				m.Point.Cluster, time.UnixMilli(u.Wall-1).Local().Format("2006-01-02T15:04:05.000Z07:00"))
		}
	}
	cov, err := Cover(ctx, m.Runner, m.Point.Cluster)
	if err != nil || len(cov) == 0 {
		return base
	}
	c := cov[0]
	for i := len(c.Narrowed) - 1; i >= 0; i-- {
		n := c.Narrowed[i]
		for _, name := range n.Names {
			if address.Match(pattern, name) && !n.Until.After(m.Time) {
				return fmt.Errorf("%w; %s is left out from point %s on, as its policy no longer chooses it; until "+
					"%s it can be had: %s@%s/%s", base, name, n.Point,
					run.FormatTime(n.Until), m.Point.Cluster, n.Until.Local().Format("2006-01-02T15:04:05.000Z07:00"),
					name)
			}
		}
	}
	for i := len(c.Points) - 1; i >= 0; i-- {
		p := c.Points[i]
		if p.Time.After(m.Time) {
			continue
		}
		for _, ns := range p.Parts() {
			if address.Match(pattern, ns.Name) && ns.Kind.IsContent() {
				return fmt.Errorf("%w; point %s of %s has %s: %s@%s/%s", base, p.ID, run.FormatTime(p.Time), ns.Name,
					p.Cluster, p.ID, ns.Name)
			}
		}
	}
	return base
}

// SameEngine refuses to have clusters of different kinds meet.
func SameEngine(p *store.Point, c engine.Cluster, what string) error {
	if c.Engine() != p.Engine {
		return fmt.Errorf(
			"%w: point %s of %s is of a %s cluster, and %s is a %s cluster; nothing was read or changed there",
			run.ErrRefused, p.ID, p.Cluster, p.Engine, what, c.Engine())
	}
	return nil
}
