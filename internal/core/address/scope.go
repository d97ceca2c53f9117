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
// A pattern may hold dates, as strftime writes them with a distance from the
// day in question: "fieldnotes-{-1d:%Y.%m.%d}", "fieldnotes-{%Y.%m}".
type Scope []string

const exclusion = "not "

var dateToken = regexp.MustCompile(`\{([^{}]*)\}`)

// Check reports what is wrong with a pattern.
func (s Scope) Check() error {
	for _, p := range s {
		p = strings.TrimPrefix(p, exclusion)
		if strings.TrimSpace(p) == "" {
			return fmt.Errorf("an empty pattern; leave the list out to mean all")
		}
		if _, err := path.Match(dateToken.ReplaceAllString(p, "x"), ""); err != nil {
			return fmt.Errorf("%q: a '[' is not closed", p)
		}
		for _, t := range dateToken.FindAllStringSubmatch(p, -1) {
			if _, err := date(t[1], time.Unix(0, 0)); err != nil {
				return fmt.Errorf("%q: %w", p, err)
			}
		}
	}
	return nil
}

// date renders what stands between the braces.
func date(token string, now time.Time) (string, error) {
	layout := token
	if back, rest, ok := strings.Cut(token, ":"); ok && !strings.Contains(back, "%") {
		layout = rest
		sign := time.Duration(1)
		if strings.HasPrefix(back, "-") {
			sign = -1
		}
		d, err := ParseDistance(strings.TrimLeft(back, "+-"))
		if err != nil {
			return "", fmt.Errorf("{%s}: %w", token, err)
		}
		if days := d / (24 * time.Hour); d%(24*time.Hour) == 0 {
			now = now.AddDate(0, 0, int(sign*days)) // whole days are of the calendar
		} else {
			now = now.Add(sign * d)
		}
	}
	if !strings.Contains(layout, "%") {
		return "", fmt.Errorf("{%s}: write a date as {-1d:%%Y.%%m.%%d}", token)
	}
	if _, err := strftime.Layout(layout); err != nil {
		return "", fmt.Errorf("{%s}: %w", token, err)
	}
	return strftime.Format(layout, now), nil
}

// At returns the scope with its dates filled in, in the time's zone.
func (s Scope) At(now time.Time) Scope {
	var out Scope
	for _, p := range s {
		out = append(out, dateToken.ReplaceAllStringFunc(p, func(t string) string {
			text, err := date(t[1:len(t)-1], now)
			if err != nil {
				return t // found by Check
			}
			return text
		}))
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
