package report_test

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"image/png"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"dexamen/internal/report"
)

// sample is a month of so many clusters, made up.
func sample(clusters int) *report.Data {
	to := time.Date(2026, 11, 28, 6, 0, 0, 0, time.UTC)
	from := to.Add(-30 * 24 * time.Hour)
	r := rand.New(rand.NewPCG(23, 3))
	d := &report.Data{From: from, To: to, Host: "desk.lindenholt.example", Tool: "dexamen test",
		Key: "82-t6SN8SdVlorRl",
		Stores: []*report.Store{{Name: "larder", Used: 412 << 30, Free: 1 << 40, Days: 214,
			Scrub: to.Add(-50 * time.Hour)},
			{Name: "loft", Free: -1, Error: "store loft cannot be used: no answer for 15 seconds"}},
		Left: []report.Left{{What: "cluster orchard", Reason: "no policy chooses it"},
			{What: "meadow: apiary.scratch_1", Reason: "policy nightly does not choose it"}},
		Alerts: []report.Alert{{Since: to.Add(-3 * time.Hour), About: "rpo",
			Text: "willow: the newest moment that can be restored is 3 hours old; promised is one of the last 30m",
			Do:   "dexamen runs willow"}}}
	names := []string{"meadow", "willow", "bramble", "fieldnotes", "comb"}
	for i := range clusters {
		name := fmt.Sprintf("hive-%04d", i)
		if i < len(names) {
			name = names[i]
		}
		c := &report.Cluster{Name: name, Policy: "nightly", Store: "larder",
			Newest: to.Add(-time.Duration(r.IntN(900)) * time.Second),
			Points: 30, Records: int64(r.IntN(4_000_000)), Bytes: int64(r.IntN(1 << 33)), Promised: 1800,
			Known: 30 * 24 * 3600,
			Proof: to.Add(-10 * time.Hour), ProofGood: true, Kept: []report.Reason{
				{Text: "newest of its day", Points: 23},
				{Text: "within the time of which every moment is kept", Points: 7}}}
		if i%3 != 2 {
			c.Drill = &report.Drill{Time: to.Add(-6 * 24 * time.Hour), FirstAnswer: 2, Recovery: 754, Age: 41}
		}
		c.Stretches = [][2]time.Time{{from.Add(time.Duration(i) * 20 * time.Hour), to.Add(-time.Minute)}}
		if i == 1 {
			at := from.Add(17 * 24 * time.Hour)
			c.Stretches = [][2]time.Time{{from, at}, {at.Add(31 * time.Hour), to.Add(-3 * time.Hour)}}
			c.Gaps = []report.Gap{{From: at, To: at.Add(31 * time.Hour), Reason: "the server's log had rolled over"}}
			c.Broken, c.Alerts, c.DrillFailed = 34*3600, 1, "the last one: refused"
		}
		size := float64(r.IntN(1 << 31))
		for at := from; at.Before(to); at = at.Add(24 * time.Hour) {
			c.Times = append(c.Times, at.Add(time.Hour))
			c.Durations = append(c.Durations, report.Sample{Time: at, Value: 60 + r.Float64()*300*float64(i+1)})
			c.Grown = append(c.Grown, report.Sample{Time: at, Value: size/30 + r.Float64()*size/60})
		}
		for at := to.Add(-7 * 24 * time.Hour); at.Before(to); at = at.Add(10 * time.Minute) {
			c.Lag = append(c.Lag, report.Sample{Time: at, Value: 3 + r.Float64()*20})
		}
		d.Clusters = append(d.Clusters, c)
	}
	for i := range 12 {
		d.Evidence = append(d.Evidence, report.Statement{Number: int64(40 - i), Store: "larder",
			Ended: to.Add(-time.Duration(i*26) * time.Hour), Kind: "drill", Cluster: names[i%5],
			Moment: to.Add(-time.Duration(i*27) * time.Hour),
			Target: "paddock", Result: []string{"done", "done", "done", "differs"}[i%4], Took: 800, Recovery: 754})
	}
	return d
}

func written(t testing.TB, d *report.Data) string {
	var out bytes.Buffer
	require.NoError(t, d.HTML(&out))
	return out.String()
}

// TestAReportNeedsNothingElse: no script, nothing that is loaded, no colour alone; DEXAMEN_REPORT keeps it
// to be looked at.
func TestAReportNeedsNothingElse(t *testing.T) {
	t.Parallel()
	text := written(t, sample(5))
	if to := os.Getenv("DEXAMEN_REPORT"); to != "" {
		require.NoError(t, os.WriteFile(to, []byte(text), 0o600))
	}
	for _, never := range []string{"<script", "http:", "https:", "url(", "@import", "<link", " src=", " style=",
		"NaN"} {
		require.NotContains(t, text, never)
	}
	_, err := html.Parse(strings.NewReader(text))
	require.NoError(t, err)
	for _, what := range []string{"meadow", "✕ 95.27 % of", "the server&#39;s log had rolled over", "paddock",
		"cluster orchard", "about 30 Jun 2027 (214 days)", "No restore of 1 cluster has been rehearsed",
		"1 alert now"} {
		require.Contains(t, strings.ReplaceAll(text, "</span>", ""), what)
	}
	require.Equal(t, 3, strings.Count(text, `class="chart"`))
	require.Equal(t, 5, strings.Count(text, `class="ribbon"`))
}

// TestHostileTexts: whatever a server, a store or a configuration says is text.
func TestHostileTexts(t *testing.T) {
	t.Parallel()
	d := sample(2)
	evil := `"><script>alert(1)</script><img src=x onerror=alert(1)>'=HYPERLINK("x")` + "\x1b[31m\u202e"
	c := d.Clusters[0]
	c.Name, c.Policy, c.Error, c.DrillFailed = evil, evil, evil, evil
	c.Gaps, c.Kept = []report.Gap{{Reason: evil}}, []report.Reason{{Text: evil}}
	d.Left, d.Alerts, d.Faults = []report.Left{{What: evil, Reason: evil}},
		[]report.Alert{{About: evil, Text: evil, Do: evil}}, []string{evil}
	d.Evidence, d.Stores[0].Name, d.Host = []report.Statement{{Kind: evil, Cluster: evil, Target: evil, Result: evil}},
		evil, evil
	text := written(t, d)
	doc, err := html.Parse(strings.NewReader(text))
	require.NoError(t, err)
	for n := range doc.Descendants() {
		require.NotContains(t, []string{"script", "img", "iframe", "object"}, n.Data)
		for _, a := range n.Attr {
			require.False(t, strings.HasPrefix(a.Key, "on") || a.Key == "href" || a.Key == "style", a.Key)
		}
	}
	for _, table := range report.Tables {
		var out bytes.Buffer
		d.Alerts[0].Text = "=1+1"
		require.NoError(t, d.CSV(&out, table))
		rows, err := csv.NewReader(&out).ReadAll()
		require.NoError(t, err, table)
		require.Greater(t, len(rows), 1, table)
		for _, r := range rows {
			for _, cell := range r {
				require.NotEqual(t, "=1+1", cell)
			}
		}
	}
	require.Error(t, d.CSV(&bytes.Buffer{}, "nothing"))
}

// TestReportsOfNothing: what was never done is said to be so.
func TestReportsOfNothing(t *testing.T) {
	t.Parallel()
	to := time.Now()
	require.Contains(t, written(t, &report.Data{From: to.Add(-time.Hour), To: to}), "No policy protects a cluster")
	text := written(t, &report.Data{From: to.Add(-time.Hour), To: to, Clusters: []*report.Cluster{{Name: "meadow"}}})
	require.Contains(t, text, "no moment that can be restored")
	require.NotContains(t, text, `class="chart"`)
	// A cluster that has nothing, or of which nothing is known, is not among those that can be restored.
	some := sample(4)
	some.Clusters[1].Newest, some.Clusters[2].Error = time.Time{}, "gone"
	some.Clusters[0].Newest, some.Clusters[3].Newest = some.To.Add(-time.Minute), some.To.Add(-2*time.Hour)
	require.Contains(t, some.Verdict(), "Of 1 cluster nothing is known. 1 cluster has no moment that can be restored. "+
		"Each of the other 2 clusters can be restored as it was 2 h before this report.")
	// Not even a hundredth of a percent is rounded away.
	d := sample(1)
	d.Clusters[0].Broken = 1
	require.Contains(t, written(t, d), "99.99 %")
}

func TestManyClusters(t *testing.T) {
	t.Parallel()
	text := written(t, sample(300))
	require.Less(t, len(text), 2<<20)
	require.Contains(t, text, "hive-0299")
}

func TestPictures(t *testing.T) {
	t.Parallel()
	d := sample(3)
	c := report.Chart{Title: "How long snapshots took", Unit: report.Seconds, From: d.From, To: d.To}
	for _, x := range d.Clusters {
		c.Series = append(c.Series, report.Series{Name: x.Name, Samples: x.Durations})
	}
	var out bytes.Buffer
	p := report.Picture{Charts: []report.Chart{c}, Rows: d.Clusters, From: d.From, To: d.To}
	require.NoError(t, p.Write(&out, true))
	if to := os.Getenv("DEXAMEN_PICTURE"); to != "" {
		require.NoError(t, os.WriteFile(to, out.Bytes(), 0o600))
	}
	img, err := png.Decode(&out)
	require.NoError(t, err)
	require.Equal(t, 1500, img.Bounds().Dx())
	out.Reset()
	require.NoError(t, p.Write(&out, false))
	require.Contains(t, out.String(), "meadow")
	require.NotContains(t, out.String(), "var(")
	require.Error(t, (&report.Picture{}).Write(&out, true))
}
