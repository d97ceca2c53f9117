package address

import (
	"fmt"
	"path"
	"regexp"
	"strings"
	"time"

	"github.com/ncruces/go-strftime"
)

// Scope chooses namespaces: those that fit one of its patterns and none that
// begins with "not ". Without a pattern that chooses, all are chosen.
//
// A pattern may hold a date, in strftime's tokens, with the day it means behind it:
// "fieldnotes-%Y.%m.%d on -1d", "fieldnotes-%Y.%m on today".
type Scope []string

const exclusion = "not "

// dated is a pattern with the day it means: "today", or a distance from it.
var dated = regexp.MustCompile(`^(.*) on (today|[+-]\S+)$`)

// undated finds tokens of dates in patterns that name no day. Keys of key-value
// clusters have bytes as %XX in their names, so other tokens are not told from them.
var undated = regexp.MustCompile(`%[YmHMj]`)

// Check reports what is wrong with a pattern.
func (s Scope) Check() error {
	for _, p := range s {
		p = strings.TrimPrefix(p, exclusion)
		if strings.TrimSpace(p) == "" {
			return fmt.Errorf("an empty pattern; leave the list out to mean all")
		}
		plain, err := onDay(p, time.Unix(0, 0))
		if err != nil {
			return fmt.Errorf("%q: %w", p, err)
		}
		if token := undated.FindString(plain); token != "" {
			return fmt.Errorf("%q: say which day %s is of, as in NAME-%%Y.%%m.%%d on -1d, or on today", p, token)
		}
		if _, err := path.Match(plain, ""); err != nil {
			return fmt.Errorf("%q: a '[' is not closed", p)
		}
	}
	return nil
}

// onDay fills the date into a pattern that has one.
func onDay(pattern string, now time.Time) (string, error) {
	m := dated.FindStringSubmatch(pattern)
	if m == nil {
		return pattern, nil
	}
	layout, day := m[1], m[2]
	if !strings.Contains(layout, "%") {
		return "", fmt.Errorf("it names a day, and no date: write it as NAME-%%Y.%%m.%%d on %s", day)
	}
	if day != "today" {
		d, err := ParseDistance(day[1:])
		if err != nil {
			return "", err
		}
		if day[0] == '-' {
			d = -d
		}
		if d%(24*time.Hour) == 0 {
			now = now.AddDate(0, 0, int(d/(24*time.Hour))) // whole days are of the calendar
		} else {
			now = now.Add(d)
		}
	}
	if _, err := strftime.Layout(layout); err != nil {
		return "", err
	}
	return strftime.Format(layout, now), nil
}

// At returns the scope with its dates filled in, in the time's zone.
func (s Scope) At(now time.Time) Scope {
	var out Scope
	for _, p := range s {
		not, is := strings.CutPrefix(p, exclusion)
		text, err := onDay(not, now)
		switch {
		case err != nil:
			text = p // found by Check
		case is:
			text = exclusion + text
		}
		out = append(out, text)
	}
	return out
}

// Match reports whether a namespace is chosen. Dates must be filled in.
func (s Scope) Match(namespace string) bool {
	chosen, any := false, false
	for _, p := range s {
		if not, ok := strings.CutPrefix(p, exclusion); ok {
			if Match(strings.TrimSpace(not), namespace) {
				return false
			}
			continue
		}
		any = true
		chosen = chosen || Match(p, namespace)
	}
	return chosen || !any
}
