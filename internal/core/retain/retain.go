// Package retain decides which restore points stay and which go, and from where
// on the log stays. It looks at nothing but what it is given: the same points,
// rule and time give the same verdicts.
//
// What counts, the strongest first: holds and locks; every moment that is
// promised; the newest point; so many at least; so many at most; the rungs.
package retain

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Unit is a stretch of the calendar of which one point stays.
type Unit string

// Units of rungs, in the rule's time zone. Weeks begin on Monday.
const (
	Hourly  Unit = "hourly"
	Daily   Unit = "daily"
	Weekly  Unit = "weekly"
	Monthly Unit = "monthly"
	Yearly  Unit = "yearly"
)

var units = []Unit{Hourly, Daily, Weekly, Monthly, Yearly}

// Rung keeps the first point of every unit, for a time.
type Rung struct {
	Each Unit
	For  time.Duration
}

// ParseRung reads "daily for 30d"; distance reads the length of time.
func ParseRung(text string, distance func(string) (time.Duration, error)) (Rung, error) {
	each, length, ok := strings.Cut(text, " for ")
	r := Rung{Each: Unit(strings.TrimSpace(each))}
	if !ok || !slices.Contains(units, r.Each) {
		return r, fmt.Errorf(
			"%q: write it as UNIT for TIME, such as daily for 30d; units are hourly, daily, weekly, monthly, yearly",
			text)
	}
	var err error
	if r.For, err = distance(strings.TrimSpace(length)); err != nil {
		return r, fmt.Errorf("%q: %w", text, err)
	}
	if r.For <= 0 {
		return r, fmt.Errorf("%q: a rung has to last", text)
	}
	return r, nil
}

// Rule describes what is to be kept. The zero rule keeps the newest point only.
type Rule struct {
	// EveryMoment promises that any second of so long can be restored: the last
	// point before it stays, every point since, and all log since that point.
	EveryMoment time.Duration
	Thin        []Rung
	// NeverFewer points are left, however old; NeverMore, where not zero, are
	// left of those that only rungs keep, the oldest going first.
	NeverFewer, NeverMore int
	Zone                  *time.Location // of the rungs' calendar; UTC when nil
}

// Point is a restore point as far as retention goes.
type Point struct {
	ID   string    `json:"id"`
	Time time.Time `json:"time"`
	// Made is when it was; of two of one moment the later counts as newer.
	Made time.Time `json:"made,omitzero"`
	// Held: somebody asked for it to be kept until a time; HeldWhy is the
	// reason given.
	Held       time.Time `json:"held,omitzero"`
	HeldReason string    `json:"held_reason,omitempty"`
	// Locked: the store does not let it be removed before.
	Locked time.Time `json:"locked,omitzero"`
	// Flawed: it lacks something, is not of one moment, or is known to be damaged. Of several
	// a rule keeps one that is not.
	Flawed bool `json:"flawed,omitempty"`
}

// Verdict describes what becomes of a point, and why.
type Verdict struct {
	Point  Point  `json:"point"`
	Keep   bool   `json:"keep"`
	Reason string `json:"reason"`
}

// Plan is what a rule says at a time.
type Plan struct {
	Verdicts []Verdict `json:"verdicts"` // oldest first
	// LogFrom is the point from which on the log stays; empty where all log
	// goes that leads to the newest point.
	LogFrom string `json:"log_from,omitempty"`
}

// Kept counts the points that stay.
func (p *Plan) Kept() (n int) {
	for _, v := range p.Verdicts {
		if v.Keep {
			n++
		}
	}
	return n
}

// Decide returns the verdict on each of a cluster's points. Each rule keeps what it
// keeps; the first that keeps a point is its reason.
func (r Rule) Decide(points []Point, now time.Time) *Plan {
	points = slices.Clone(points)
	slices.SortStableFunc(points, func(a, b Point) int {
		return cmp.Or(a.Time.Compare(b.Time), a.Made.Compare(b.Made), strings.Compare(a.ID, b.ID))
	})
	d := &decision{Rule: r, points: points, now: now, plan: &Plan{}, strong: make([]bool, len(points))}
	for _, pt := range points {
		d.plan.Verdicts = append(d.plan.Verdicts, Verdict{Point: pt})
	}
	if len(points) == 0 {
		return d.plan
	}
	d.heldAndLocked()
	d.everyMoment()
	d.newest()
	d.thinned()
	d.neverMore()
	for i := range d.plan.Verdicts {
		if v := &d.plan.Verdicts[i]; !v.Keep && v.Reason == "" {
			v.Reason = "no rule keeps it"
		}
	}
	return d.plan
}

// decision is a plan on its way.
type decision struct {
	Rule
	points []Point // oldest first; there is one
	now    time.Time
	plan   *Plan
	strong []bool // not even too many points make it go
}

func (d *decision) keep(i int, strong bool, why string, args ...any) {
	v := &d.plan.Verdicts[i]
	if !v.Keep {
		v.Keep, v.Reason = true, fmt.Sprintf(why, args...)
	}
	d.strong[i] = d.strong[i] || strong
}

// heldAndLocked keeps what somebody has held, and what cannot be removed.
func (d *decision) heldAndLocked() {
	for i, pt := range d.points {
		if pt.Held.After(d.now) {
			why := "held until " + pt.Held.In(d.zone()).Format("2006-01-02 15:04")
			if pt.HeldReason != "" {
				why += ": " + pt.HeldReason
			}
			d.keep(i, true, "%s", why)
		}
		if pt.Locked.After(d.now) {
			d.keep(i, true, "locked until %s", pt.Locked.In(d.zone()).Format("2006-01-02 15:04"))
		}
	}
}

// everyMoment keeps the points of the time of which every moment is kept, and the one
// that its first moments rest on.
func (d *decision) everyMoment() {
	n := len(d.points)
	d.plan.LogFrom = d.points[n-1].ID
	if d.EveryMoment <= 0 {
		return
	}
	from := d.now.Add(-d.EveryMoment)
	base := -1
	for i, pt := range d.points {
		if !pt.Time.After(from) {
			base = i
		}
	}
	d.plan.LogFrom = d.points[max(base, 0)].ID
	if base >= 0 {
		d.keep(base, true, "the moments since %s rest on it", from.In(d.zone()).Format("2006-01-02 15:04"))
	}
	for i := base + 1; i < n; i++ {
		d.keep(i, true, "within the time of which every moment is kept")
	}
}

// newest keeps the newest points, so that there are never fewer.
func (d *decision) newest() {
	n := len(d.points)
	d.keep(n-1, true, "the newest")
	for i := n - 1; i >= 0 && d.points[n-1].Flawed; i-- {
		if !d.points[i].Flawed {
			d.keep(i, true, "the newest that is whole")
			break
		}
	}
	for i := max(0, n-d.NeverFewer); i < n; i++ {
		d.keep(i, true, "never fewer than %d", d.NeverFewer)
	}
}

// thinned keeps the first of each hour, day, week, month or year of the rungs; the first that
// is whole, where there is one.
func (d *decision) thinned() {
	for _, rung := range d.Thin {
		first := map[string]int{}
		var units []string
		for i, pt := range d.points {
			// The first of the whole unit counts, also where the rung's time
			// has ended within it: which one stays does not change with time.
			unit := d.bucket(rung.Each, pt.Time)
			was, seen := first[unit]
			if !seen {
				units = append(units, unit)
			}
			if !seen || d.points[was].Flawed && !pt.Flawed {
				first[unit] = i
			}
		}
		for _, unit := range units {
			i := first[unit]
			if d.now.Sub(d.points[i].Time) > rung.For {
				continue
			}
			which := "the first"
			if i > 0 && !d.points[i].Flawed && d.points[i-1].Flawed && d.bucket(rung.Each, d.points[i-1].Time) == unit {
				which = "the first whole one"
			}
			d.keep(i, false, "%s: %s of %s", rung.Each, which, unit)
		}
	}
}

// neverMore lets the oldest go that only thinning keeps, where there are too many.
func (d *decision) neverMore() {
	if d.NeverMore <= 0 {
		return
	}
	for i := 0; i < len(d.points) && d.plan.Kept() > d.NeverMore; i++ {
		if v := &d.plan.Verdicts[i]; v.Keep && !d.strong[i] {
			v.Keep, v.Reason = false, fmt.Sprintf("never more than %d (it was kept as %s)", d.NeverMore, v.Reason)
		}
	}
}

func (r Rule) zone() *time.Location {
	if r.Zone == nil {
		return time.UTC
	}
	return r.Zone
}

// bucket names the unit of the calendar that a time lies in.
func (r Rule) bucket(u Unit, t time.Time) string {
	t = t.In(r.zone())
	switch u {
	case Hourly:
		return t.Format("2006-01-02 15h -0700") // an hour that a clock repeats is two
	case Daily:
		return t.Format("2006-01-02")
	case Weekly:
		y, w := t.ISOWeek()
		return fmt.Sprintf("week %d of %d", w, y)
	case Monthly:
		return t.Format("January 2006")
	}
	return strconv.Itoa(t.Year())
}

// Problems reports what in a rule contradicts itself, given how often points are
// taken at least; zero where that is not known.
func (r Rule) Problems(every time.Duration) (out []string) {
	if r.NeverMore > 0 && r.NeverFewer > r.NeverMore {
		out = append(out, fmt.Sprintf("never_fewer %d is more than never_more %d", r.NeverFewer, r.NeverMore))
	}
	if every > 0 && r.NeverMore > 0 && r.EveryMoment/every > time.Duration(r.NeverMore) {
		out = append(out, fmt.Sprintf("every_moment keeps about %d points, never_more %d of them", r.EveryMoment/every,
			r.NeverMore))
	}
	length := map[Unit]time.Duration{Hourly: time.Hour, Daily: 24 * time.Hour, Weekly: 7 * 24 * time.Hour,
		Monthly: 30 * 24 * time.Hour, Yearly: 365 * 24 * time.Hour}
	for _, g := range r.Thin {
		if g.For < length[g.Each] {
			out = append(out, fmt.Sprintf("%s for %s ends before its first unit does", g.Each, g.For))
		}
		// A day in autumn has 25 hours, and a month may have 31 days.
		if every > length[g.Each]+length[g.Each]/20 {
			out = append(out, fmt.Sprintf("%s: points are taken every %s only", g.Each, every))
		}
	}
	return out
}
