package report

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
)

//go:embed page.html
var pageHTML string

//go:embed page.css
var pageCSS string

// drawn is a chart in a page.
type drawn struct {
	Title string
	SVG   template.HTML
}

var page = template.Must(template.New("").Funcs(template.FuncMap{
	"css":     func() template.CSS { return template.CSS(pageCSS) }, //nolint:gosec // our own
	"time":    func(t time.Time) string { return t.Local().Format("2006-01-02 15:04 -07:00") },
	"day":     func(t time.Time) string { return t.Local().Format("2 Jan 2006") },
	"zone":    func(t time.Time) string { return "UTC" + t.Local().Format("-07:00") },
	"mid":     func(a, z time.Time) string { return a.Add(z.Sub(a) / 2).Local().Format("2 Jan 2006") },
	"ago":     func(t, now time.Time) string { return span(max(0, now.Sub(t))) },
	"secs":    func(s float64) string { return span(time.Duration(s * float64(time.Second))) },
	"count":   func(n int64) string { return humanize.Comma(n) },
	"bytes":   func(n int64) string { return humanize.IBytes(uint64(max(n, 0))) },
	"ribbon":  ribbon,
	"charts":  charts,
	"met":     met,
	"verdict": verdict,
	"gaps": func(d *Data) bool {
		return slices.ContainsFunc(d.Clusters, func(c *Cluster) bool { return len(c.Gaps) > 0 })
	},
	"full": func(s *Store, now time.Time) string {
		return fmt.Sprintf("about %s (%.0f days)", now.Add(time.Duration(s.Days*24)*time.Hour).Local().Format(
			"2 Jan 2006"),
			s.Days)
	},
	"plural": plural,
}).Parse(pageHTML))

// HTML writes the report as one file that needs no other, and no script.
func (d *Data) HTML(w io.Writer) error { return execute(w, page, "report", d) }

func execute(w io.Writer, t *template.Template, name string, data any) error {
	var out bytes.Buffer // nothing is written where something fails
	if err := t.ExecuteTemplate(&out, name, data); err != nil {
		return err
	}
	_, err := out.WriteTo(w)
	return err
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// span words a length of time with two parts at most.
func span(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Hour:
		return strings.TrimSuffix(fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60), " 0 s")
	case d < 48*time.Hour:
		return strings.TrimSuffix(fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60), " 0 min")
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

func met(c *Cluster) template.HTML {
	if c.Promised <= 0 {
		return "nothing is promised"
	}
	promised := span(time.Duration(c.Promised * float64(time.Second)))
	share, ok := c.Met()
	switch {
	case !ok:
		return template.HTML("of at most " + promised + ": not known yet") //nolint:gosec // numbers
	case c.Broken == 0:
		return template.HTML(`<span class="good">✓ 100 %</span> of at most ` + promised) //nolint:gosec // numbers
	}
	return template.HTML(fmt.Sprintf(`<span class="loss">✕ %s %%</span> of at most %s; broken for %s`,
		//nolint:gosec // numbers
		percent(share), promised, span(time.Duration(c.Broken*float64(time.Second)))))
}

// percent never rounds up to what is not so.
func percent(share float64) string {
	return fmt.Sprintf("%.2f", float64(int(share*10000))/100)
}

// verdict says in one sentence how all is.
func verdict(d *Data) string {
	oldest, unknown, none := d.To, 0, 0 // of the newest moments
	for _, c := range d.Clusters {
		switch {
		case c.Error != "":
			unknown++
		case c.Newest.IsZero():
			none++
		case c.Newest.Before(oldest):
			oldest = c.Newest
		}
	}
	if len(d.Clusters) == 0 {
		return "No policy protects a cluster."
	}
	text := ""
	if unknown > 0 {
		text += fmt.Sprintf("Of %s nothing is known. ", plural(unknown, "cluster"))
	}
	if none > 0 {
		text += fmt.Sprintf("%s no moment that can be restored. ", map[bool]string{true: "1 cluster has",
			false: fmt.Sprintf("%d clusters have", none)}[none == 1])
	}
	if good := len(d.Clusters) - unknown - none; good > 0 {
		which, when := "Each of", "before this report"
		if unknown+none > 0 {
			which = "Each of the other"
		}
		if d.Live {
			when = "ago"
		}
		text += fmt.Sprintf("%s %s can be restored as it was %s %s. ", which, plural(good, "cluster"),
			span(max(0, d.To.Sub(oldest))), when)
	}
	never := 0
	for _, c := range d.Clusters {
		if c.Drill == nil {
			never++
		}
	}
	if never > 0 {
		text += fmt.Sprintf("No restore of %s has been rehearsed. ", plural(never, "cluster"))
	}
	switch n := len(d.Alerts); {
	case n > 0:
		text += plural(n, "alert") + " now."
	default:
		text += "No alerts now."
	}
	return text
}

// charts draws what there is to draw.
func charts(d *Data) ([]drawn, error) {
	all := []Chart{
		{Title: "Added to the stores since the beginning, by cluster", Unit: Bytes},
		{Title: "How long snapshots took", Unit: Seconds, Dots: true},
		{Title: "How old the newest moment was when a capture or a snapshot ended", Unit: Seconds}}
	for _, c := range d.Clusters {
		all[0].Series = append(all[0].Series, Series{c.Name, sums(c.Grown)})
		all[1].Series = append(all[1].Series, Series{c.Name, c.Durations})
		all[2].Series = append(all[2].Series, Series{c.Name, thinned(c.Lag, d.From, d.To)})
	}
	var out []drawn
	for _, c := range all {
		c.Series = Largest(c.Series)
		if len(c.Series) == 0 {
			continue
		}
		c.From, c.To = earliest(c.Series, d.From, d.To), d.To
		svg, err := c.SVG(620, 230)
		if err != nil {
			return nil, err
		}
		out = append(out, drawn{c.Title, template.HTML(svg)}) //nolint:gosec // made by us, its texts escaped
	}
	return out, nil
}

// earliest returns where the time axis of a chart begins: not long before the first sample.
func earliest(all []Series, from, to time.Time) time.Time {
	first := to.Add(-time.Hour)
	for _, s := range all {
		if t := s.Samples[0].Time; t.Before(first) {
			first = t
		}
	}
	if first = first.Add(-to.Sub(first) / 40); first.Before(from) {
		return from
	}
	return first
}

// sums adds samples up.
func sums(list []Sample) (out []Sample) {
	total := 0.0
	for _, s := range list {
		total += s.Value
		out = append(out, Sample{s.Time, total})
	}
	return out
}

// thinned returns of many samples the largest of each of 300 parts of the time.
func thinned(list []Sample, from, to time.Time) (out []Sample) {
	part := to.Sub(from) / 300
	for _, s := range list {
		if n := len(out); n > 0 && part > 0 && s.Time.Sub(out[n-1].Time) < part {
			out[n-1].Value = max(out[n-1].Value, s.Value)
			continue
		}
		out = append(out, s)
	}
	return out
}

// Largest returns the series that have the largest values, so many as can be told apart.
func Largest(all []Series) []Series {
	all = slices.DeleteFunc(all, func(s Series) bool { return len(s.Samples) == 0 })
	top := func(s Series) (most float64) {
		for _, x := range s.Samples {
			most = max(most, x.Value)
		}
		return most
	}
	slices.SortStableFunc(all, func(a, b Series) int {
		switch x, y := top(a), top(b); {
		case x > y:
			return -1
		case x < y:
			return 1
		}
		return 0
	})
	return all[:min(len(all), MaxSeries)]
}

// Verdict says in one sentence how all is.
func (d *Data) Verdict() string { return verdict(d) }
