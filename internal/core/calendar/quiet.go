package calendar

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Hours is a stretch of the day, of some days of the week.
type Hours struct {
	text     string
	from, to int     // minutes since midnight; to may be past midnight
	days     [7]bool // of the day it begins on
	zone     *time.Location
}

var dayNames = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// ParseHours reads "08:00-18:00" or "22:00-06:00 mon-fri,sun". A nil zone is
// UTC.
func ParseHours(text string, zone *time.Location) (Hours, error) {
	if zone == nil {
		zone = time.UTC
	}
	h := Hours{text: text, zone: zone}
	bad := func() (Hours, error) {
		return h, fmt.Errorf("%q: write hours as 08:00-18:00, or with days as 22:00-06:00 mon-fri", text)
	}
	clock, days, _ := strings.Cut(strings.TrimSpace(text), " ")
	a, b, ok := strings.Cut(clock, "-")
	if !ok {
		return bad()
	}
	for i, s := range []string{a, b} {
		t, err := time.Parse("15:04", s)
		if err != nil && s != "24:00" {
			return bad()
		}
		m := t.Hour()*60 + t.Minute()
		if s == "24:00" {
			m = 24 * 60
		}
		if i == 0 {
			h.from = m
		} else {
			h.to = m
		}
	}
	if h.to <= h.from {
		h.to += 24 * 60
	}
	if days = strings.TrimSpace(strings.ToLower(days)); days == "" {
		h.days = [7]bool{true, true, true, true, true, true, true}
		return h, nil
	}
	for _, part := range strings.Split(days, ",") {
		first, last, ranged := strings.Cut(strings.TrimSpace(part), "-")
		i, j := slices.Index(dayNames, first), slices.Index(dayNames, last)
		if !ranged {
			j = i
		}
		if i < 0 || j < 0 {
			return bad()
		}
		for d := i; ; d = (d + 1) % 7 {
			h.days[d] = true
			if d == j {
				break
			}
		}
	}
	return h, nil
}

// String returns the hours as they were written.
func (h Hours) String() string { return h.text }

// Until reports whether a time lies within, and when that ends.
func (h Hours) Until(t time.Time) (end time.Time, within bool) {
	t = t.In(h.zone)
	// It may have begun today or yesterday.
	for back := range 2 {
		day := time.Date(t.Year(), t.Month(), t.Day()-back, 0, 0, 0, 0, h.zone)
		if !h.days[day.Weekday()] {
			continue
		}
		wall := func(minutes int) time.Time {
			return fromWall(time.Date(day.Year(), day.Month(), day.Day(), 0, minutes, 0, 0, time.UTC), h.zone)
		}
		if from, to := wall(h.from), wall(h.to); !t.Before(from) && t.Before(to) {
			return to, true
		}
	}
	return t, false
}

// Quiet returns the first time from t on that lies in none of the hours.
func Quiet(hours []Hours, t time.Time) time.Time {
	for range 64 { // hours that follow on each other
		moved := false
		for _, h := range hours {
			if end, ok := h.Until(t); ok {
				t, moved = end, true
			}
		}
		if !moved {
			break
		}
	}
	return t
}
