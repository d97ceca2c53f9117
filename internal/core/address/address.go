// Package address reads CLUSTER@WHEN/NAMESPACE, the one form in which every
// command names what, when and which part.
package address

import (
	"fmt"
	"path"
	"strings"
	"time"
)

// Address names a cluster, a moment and, by pattern, namespaces.
type Address struct {
	Cluster string
	When    When
	// Given: the moment is written, and not latest for want of one.
	Given bool
	// Pattern is a namespace name or glob; empty means all.
	Pattern string
}

// Kind describes how a moment is given.
type Kind int

// The ways to give a moment.
const (
	Latest Kind = iota // the last moment that can be restored
	Live               // the cluster itself
	Time               // a wall-clock time
	Point              // a point's id
	Place              // a log position
)

// When is a moment.
type When struct {
	Kind Kind
	Time time.Time // of Time
	Text string    // as given; the id of Point, the position of Place
}

// String returns the moment as it was written.
func (w When) String() string {
	switch w.Kind {
	case Latest:
		return "latest"
	case Live:
		return "live"
	case Place:
		return "log:" + w.Text
	}
	return w.Text
}

// String returns the address as it was written.
func (a Address) String() string {
	s := a.Cluster + "@" + a.When.String()
	if a.Pattern != "" {
		s += "/" + a.Pattern
	}
	return s
}

// Parse reads an address. Times of day and distances are relative to now, in
// now's zone. A missing @WHEN means latest.
func Parse(s string, now time.Time) (Address, error) {
	head, pattern, _ := strings.Cut(s, "/")
	cluster, when, given := strings.Cut(head, "@")
	a := Address{Cluster: cluster, Pattern: pattern}
	if cluster == "" {
		return a, fmt.Errorf("address %q: begins with a cluster's name, as in meadow@latest", s)
	}
	if pattern != "" {
		if _, err := path.Match(pattern, ""); err != nil {
			return a, fmt.Errorf("address %q: namespace pattern %q: a '[' is not closed", s, pattern)
		}
	}
	if !given {
		return a, nil
	}
	a.Given = true
	var err error
	if a.When, err = ParseWhen(when, now); err != nil {
		return a, fmt.Errorf("address %q: %w", s, err)
	}
	return a, nil
}

// ParseWhen reads the WHEN of an address.
func ParseWhen(s string, now time.Time) (When, error) {
	switch {
	case s == "latest":
		return When{}, nil
	case s == "live":
		return When{Kind: Live}, nil
	case strings.HasPrefix(s, "-"):
		d, err := ParseDistance(s[1:])
		if err != nil {
			return When{}, err
		}
		return When{Time, now.Add(-d), s}, nil
	case strings.HasPrefix(s, "log:"):
		return When{Kind: Place, Text: s[len("log:"):]}, nil
	}
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02 15:04:05",
		"2006-01-02"} {
		if t, err := time.ParseInLocation(layout, s, now.Location()); err == nil {
			return When{Time, t, s}, nil
		}
	}
	for _, layout := range []string{"15:04:05", "15:04"} {
		if t, err := time.Parse(layout, s); err == nil {
			y, m, d := now.Date()
			at := time.Date(y, m, d, t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), now.Location())
			if at.After(now) {
				return When{}, fmt.Errorf("%s is still to come today; for an earlier day write the date too, as in %s",
					s, now.AddDate(0, 0, -1).Format("2006-01-02T")+s)
			}
			return When{Time, at, s}, nil
		}
	}
	if looksLikePoint(s) {
		return When{Kind: Point, Text: s}, nil
	}
	return When{}, fmt.Errorf("%q is no moment: write latest, live, a time (10:14:04 or 2026-11-23T10:14:04Z), a "+
		"distance back (-15m), a point's id, or log:POSITION", s)
}

// looksLikePoint reports whether a text has the shape of a point's id, 20261123-101404-k7qx, or of the
// end of one: 101404-k7qx or k7qx. An end of digits alone is too much like a year.
func looksLikePoint(s string) bool {
	p := strings.Split(s, "-")
	end := p[len(p)-1]
	if len(p) > 3 || len(end) != 4 || strings.Trim(end, "0123456789abcdefghijklmnopqrstuvwxyz") != "" {
		return false
	}
	var err error
	switch len(p) {
	case 1:
		return strings.Trim(end, "0123456789") != ""
	case 2:
		_, err = time.Parse("150405", p[0])
	case 3:
		_, err = time.Parse("20060102-150405", p[0]+"-"+p[1])
	}
	return err == nil
}

// maxDistance is the longest length of time that is taken.
const maxDistance = 100 * 366 * 24 * time.Hour

// ParseDistance reads a duration such as 90s, 15m, 2h30m, 7d or 2w.
func ParseDistance(s string) (time.Duration, error) {
	var total time.Duration
	rest := s
	for rest != "" {
		i := 0
		for i < len(rest) && (rest[i] >= '0' && rest[i] <= '9' || rest[i] == '.') {
			i++
		}
		j := i
		for j < len(rest) && (rest[j] < '0' || rest[j] > '9') {
			j++
		}
		part, unit := rest[:i], rest[i:j]
		rest = rest[j:]
		hours := time.Duration(1)
		switch unit {
		case "d":
			unit, hours = "h", 24
		case "w":
			unit, hours = "h", 7*24
		}
		d, err := time.ParseDuration(part + unit)
		if err != nil || i == 0 {
			return 0, fmt.Errorf("%q is no duration, such as 90s, 15m, 2h30m or 7d", s)
		}
		if d > maxDistance/hours || total > maxDistance-d*hours {
			return 0, fmt.Errorf("%q is longer than a hundred years", s)
		}
		total += d * hours
	}
	if s == "" {
		return 0, fmt.Errorf("a duration is missing, such as 90s, 15m, 2h30m or 7d")
	}
	return total, nil
}

// Match reports whether a namespace fits the pattern; an empty one fits all. A
// '*' stands for any run of characters, dots included.
func (a Address) Match(namespace string) bool { return Match(a.Pattern, namespace) }

// Match reports whether a namespace fits a name or glob.
func Match(pattern, namespace string) bool {
	if pattern == "" || pattern == namespace {
		return true
	}
	if Literal(pattern) {
		return false
	}
	// path.Match lets '*' stop at slashes only, and names may hold those: something that is
	// in neither stands for them.
	stand := rune(1)
	for strings.ContainsRune(pattern, stand) || strings.ContainsRune(namespace, stand) {
		stand++
	}
	slash := strings.NewReplacer("/", string(stand))
	ok, err := path.Match(slash.Replace(pattern), slash.Replace(namespace))
	return err == nil && ok
}

// Literal reports whether a pattern is a plain name.
func Literal(pattern string) bool { return !strings.ContainsAny(pattern, `*?[\`) }
