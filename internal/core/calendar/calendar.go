// Package calendar says when work is due: schedules in a time zone across the
// changes of its clocks, and hours of the day that are kept quiet. It looks at
// no clock of its own.
package calendar

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/robfig/cron/v3"
)

// Schedule is a row of times at which something is due.
type Schedule struct {
	text  string
	every time.Duration
	cron  *cron.SpecSchedule
	// anyHour: the field of hours is a bare '*'.
	anyHour bool
	zone    *time.Location
}

// ParseSchedule reads a five-field cron line or "every 6h"; distance reads the
// length of time. A nil zone is UTC.
func ParseSchedule(text string, zone *time.Location, distance func(string) (time.Duration, error)) (Schedule, error) {
	if zone == nil {
		zone = time.UTC
	}
	s := Schedule{text: strings.Join(strings.Fields(text), " "), zone: zone}
	if rest, ok := strings.CutPrefix(s.text, "every "); ok {
		var err error
		if s.every, err = distance(rest); err != nil {
			return s, fmt.Errorf("%q: %w", text, err)
		}
		if s.every < time.Second {
			return s, fmt.Errorf("%q: more often than every second", text)
		}
		return s, nil
	}
	if n := len(strings.Fields(text)); n != 5 || strings.HasPrefix(s.text, "@") {
		return s, fmt.Errorf("%q: write five fields (minute, hour, day of the month, month, day of the week) such "+
			"as 15 1 * * *, or every 6h", text)
	}
	// In UTC every day has all its hours: what zones do is added in Next.
	c, err := cron.ParseStandard("CRON_TZ=UTC " + s.text)
	if err != nil {
		return s, fmt.Errorf("%q: %w", text, err)
	}
	s.cron = c.(*cron.SpecSchedule)
	hours := strings.Split(strings.Fields(s.text)[1], ",")
	s.anyHour = slices.Contains(hours, "*") || slices.Contains(hours, "?")
	if s.Next(time.Unix(0, 0)).IsZero() {
		return s, fmt.Errorf("%q: there is no such day", text)
	}
	return s, nil
}

// String returns the schedule as it was written.
func (s Schedule) String() string { return s.text }

// IsZero reports whether there is no schedule.
func (s Schedule) IsZero() bool { return s.every == 0 && s.cron == nil }

// Next returns the first time after t; the zero time where there is none.
//
// "every 6h" counts multiples of its length by the zone's clocks: from each midnight where a day is a
// multiple of it, else from the midnight of a Monday of 2001, whoever asks. A cron line whose hour is
// '*' runs through the hour that clocks repeat, and leaves out the one they skip. One with fixed hours
// is due once a day that has it: at the first of two equal times, and at the end of the hour that is
// skipped.
func (s Schedule) Next(t time.Time) time.Time {
	if k := s.known(t); k != nil {
		return k.next
	}
	return s.following(t)
}

// between are two times of a schedule that follow each other.
type between struct{ last, next time.Time }

// betweens holds, by a schedule's text and zone, what was found last: all who ask about the same time, such as daemons
// of clusters under one policy, need not work it out again.
var betweens sync.Map

type scheduleKey struct{ text, zone string }

func (s Schedule) key() scheduleKey {
	if s.zone == nil {
		return scheduleKey{s.text, ""}
	}
	return scheduleKey{s.text, s.zone.String()}
}

// known returns between which times of the schedule t is, where that was found before; else nil.
func (s Schedule) known(t time.Time) *between {
	if s.text == "" {
		return nil
	}
	v, ok := betweens.Load(s.key())
	if !ok {
		return nil
	}
	if b := v.(*between); !t.Before(b.last) && t.Before(b.next) {
		return b
	}
	return nil
}

func (s Schedule) following(t time.Time) time.Time {
	switch {
	case s.every > 0:
		return s.nextMultiple(t)
	case s.cron == nil:
		return time.Time{}
	case s.anyHour:
		c := *s.cron
		c.Location = s.zone
		return c.Next(t.In(s.zone))
	}
	// wall clocks are followed as if they were UTC's, from far enough back to
	// see times again that a change of clocks has moved past t.
	wall := asUTC(t.In(s.zone)).Add(-3 * time.Hour)
	for {
		wall = s.cron.Next(wall)
		if wall.IsZero() {
			return time.Time{}
		}
		if at := fromWall(wall, s.zone); at.After(t) {
			return at
		}
	}
}

const day = 24 * time.Hour

// offset is how far a zone's clocks are ahead of UTC at a time.
func (s Schedule) offset(t time.Time) time.Duration {
	_, off := t.In(s.zone).Zone()
	return time.Duration(off) * time.Second
}

// truncate returns the last multiple of the length that is not after t, by clocks that are so far
// ahead of UTC. The zero time of the language is the midnight of a Monday.
func (s Schedule) truncate(t time.Time, offset time.Duration) time.Time {
	return t.Add(offset).Truncate(s.every).Add(-offset).In(s.zone)
}

// fixed is the offset by which lengths are counted of which a day is no multiple.
func (s Schedule) fixed() time.Duration { return s.offset(time.Date(2001, 1, 1, 0, 0, 0, 0, s.zone)) }

// lastMultiple returns the last time that is not after t.
func (s Schedule) lastMultiple(t time.Time) time.Time {
	switch {
	case s.every%day == 0:
		return s.midnight(asUTC(t.In(s.zone)).Truncate(s.every))
	case day%s.every != 0:
		return s.truncate(t, s.fixed())
	}
	at := s.truncate(t, s.offset(t))
	if before := s.offset(at); before != s.offset(t) {
		// Clocks were changed since: what they showed until then counts.
		return s.truncate(changed(s.zone, at, t).Add(-1), before)
	}
	return at
}

// nextMultiple returns the first time after t.
func (s Schedule) nextMultiple(t time.Time) time.Time {
	switch {
	case s.every%day == 0:
		for wall := asUTC(t.In(s.zone)).Truncate(s.every); ; wall = wall.Add(s.every) {
			if at := s.midnight(wall); at.After(t) {
				return at
			}
		}
	case day%s.every != 0:
		return s.truncate(t, s.fixed()).Add(s.every)
	}
	at := s.truncate(t, s.offset(t)).Add(s.every)
	if after := s.offset(at); after != s.offset(t) {
		change := changed(s.zone, t, at)
		if at = s.truncate(change, after); at.Before(change) {
			at = at.Add(s.every)
		}
	}
	return at
}

// midnight is when a zone's clocks first show what wall says in UTC.
func (s Schedule) midnight(wall time.Time) time.Time { return fromWall(wall, s.zone).In(s.zone) }

// changed returns when a zone's clocks are changed between two times.
func changed(zone *time.Location, lo, hi time.Time) time.Time {
	_, before := lo.In(zone).Zone()
	for hi.Sub(lo) > time.Second {
		mid := lo.Add(hi.Sub(lo) / 2)
		if _, off := mid.In(zone).Zone(); off == before {
			lo = mid
		} else {
			hi = mid
		}
	}
	return hi.Truncate(time.Second)
}

func asUTC(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, time.UTC)
}

// fromWall returns the time at which a zone's clocks first show what wall says in
// UTC; of a time they never show, the moment at which they skip it.
func fromWall(wall time.Time, zone *time.Location) time.Time {
	t := time.Date(wall.Year(), wall.Month(), wall.Day(), wall.Hour(), wall.Minute(), wall.Second(), 0, zone)
	if !asUTC(t).Equal(wall) {
		// Skipped: the offset changes within hours of here, at one instant.
		return changed(zone, t.Add(-4*time.Hour), t.Add(4*time.Hour))
	}
	for _, back := range []time.Duration{2 * time.Hour, time.Hour, 30 * time.Minute} {
		if e := t.Add(-back); asUTC(e).Equal(wall) {
			return e
		}
	}
	return t
}

// Last returns the last time that is not after t; the zero time where there is
// none in the four years before.
func (s Schedule) Last(t time.Time) time.Time {
	if k := s.known(t); k != nil {
		return k.last
	}
	at := s.preceding(t)
	if next := s.following(t); !at.IsZero() && !next.IsZero() && s.text != "" {
		betweens.Store(s.key(), &between{at, next})
	}
	return at
}

func (s Schedule) preceding(t time.Time) time.Time {
	if s.every > 0 {
		return s.lastMultiple(t)
	}
	for back := 2 * time.Hour; back < 5*366*24*time.Hour; back *= 4 {
		from := t.Add(-back)
		at := s.following(from)
		if at.IsZero() || at.After(t) {
			continue
		}
		for {
			next := s.following(at)
			if next.IsZero() || next.After(t) {
				return at
			}
			at = next
		}
	}
	return time.Time{}
}

// Spacing returns the longest time between two runs of the following year, which
// is how often something is done at least.
func (s Schedule) Spacing(from time.Time) time.Duration {
	if s.every > 0 && (s.every <= time.Hour || day%s.every != 0 && s.every%day != 0) {
		return s.every
	}
	var most time.Duration
	at := s.Next(from)
	for n := 0; n < 1000 && !at.IsZero(); n++ {
		next := s.Next(at)
		if next.IsZero() || next.Sub(from) > 370*24*time.Hour && n > 0 {
			break
		}
		most, at = max(most, next.Sub(at)), next
	}
	return most
}
