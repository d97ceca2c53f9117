package report

import (
	"fmt"
	"html/template"
	"strings"
	"time"
)

// ribbon returns a picture of which moments of a cluster can be restored, over a time: a band where
// every moment can, a tick for a point, a crossed box for a gap.
func ribbon(c *Cluster, from, to time.Time) template.HTML {
	const width, height = 1000.0, 22.0
	span := to.Sub(from).Seconds()
	if span <= 0 {
		return ""
	}
	at := func(t time.Time) float64 {
		return min(max(t.Sub(from).Seconds()/span*width, 0), width)
	}
	var b strings.Builder
	fmt.Fprintf(&b, `<svg viewBox="0 0 %g %g" preserveAspectRatio="none" role="img" class="ribbon" aria-label="%s">`,
		width, height, escape(ribbonText(c, from, to)))
	fmt.Fprintf(&b, `<rect x="0" y="10" width="%g" height="2" fill="var(--line)"/>`, width)
	for _, s := range c.Stretches {
		if s[1].Before(from) || s[0].After(to) {
			continue
		}
		fmt.Fprintf(&b, `<rect x="%.2f" y="6" width="%.2f" height="10" fill="var(--c0)"/>`, at(s[0]),
			max(at(s[1])-at(s[0]), 1))
	}
	last := -10.0
	for _, t := range c.Times {
		x := at(t)
		if t.Before(from) || t.After(to) || x-last < 3 { // so close that one hides the other
			continue
		}
		last = x
		fmt.Fprintf(&b, `<rect x="%.2f" y="2" width="2" height="18" fill="var(--ink)"/>`, x-1)
	}
	for _, g := range c.Gaps {
		if g.To.Before(from) || g.From.After(to) {
			continue
		}
		x, w := at(g.From), max(at(g.To)-at(g.From), 4)
		fmt.Fprintf(&b, `<rect x="%.2f" y="4" width="%.2f" height="14" fill="var(--paper)" stroke="var(--loss)" `+
			`stroke-width="2"/><path d="M%.2f 4L%.2f 18M%.2f 18L%.2f 4" stroke="var(--loss)" stroke-width="1.5"/>`,
			x, w, x, x+w, x, x+w)
	}
	b.WriteString("</svg>")
	return template.HTML(b.String()) //nolint:gosec // numbers, and a text that was escaped
}

// ribbonText says in words what the ribbon shows.
func ribbonText(c *Cluster, from, to time.Time) string {
	var covered time.Duration
	for _, s := range c.Stretches {
		a, z := s[0], s[1]
		if a.Before(from) {
			a = from
		}
		if z.After(to) {
			z = to
		}
		covered += max(z.Sub(a), 0)
	}
	return fmt.Sprintf("%s: every moment of %.0f %% of the time can be restored; %d points, %d gaps", c.Name,
		100*covered.Seconds()/to.Sub(from).Seconds(), len(c.Times), len(c.Gaps))
}
