package report

import (
	"encoding/csv"
	"fmt"
	"io"
	"strconv"
	"time"
)

// Tables are the names of the tables that [Data.CSV] writes.
var Tables = []string{"clusters", "stores", "not_protected", "alerts", "evidence", "gaps", "growth", "durations"}

// CSV writes one of the tables (RFC 4180). Texts that a spreadsheet would take for a formula begin
// with an apostrophe.
func (d *Data) CSV(w io.Writer, table string) error {
	out := csv.NewWriter(w)
	row := func(cells ...string) {
		for i, c := range cells {
			if c != "" && (c[0] == '=' || c[0] == '+' || c[0] == '-' || c[0] == '@' || c[0] == '\t' || c[0] == '\r') {
				if _, err := strconv.ParseFloat(c, 64); err != nil {
					cells[i] = "'" + c
				}
			}
		}
		_ = out.Write(cells) // Error tells at the end
	}
	at := func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.UTC().Format(time.RFC3339)
	}
	num := func(f float64) string { return strconv.FormatFloat(f, 'f', -1, 64) }
	switch table {
	case "clusters":
		row("cluster", "policy", "store", "newest_moment", "promised_seconds", "met_share", "points", "records",
			"bytes",
			"proof", "drill", "recovery_seconds", "alerts", "error")
		for _, c := range d.Clusters {
			met, drilled, recovery := "", "", ""
			if share, ok := c.Met(); ok {
				met = strconv.FormatFloat(share, 'f', 5, 64)
			}
			if c.Drill != nil {
				drilled, recovery = at(c.Drill.Time), num(c.Drill.Recovery)
			}
			row(c.Name, c.Policy, c.Store, at(c.Newest), num(c.Promised), met, fmt.Sprint(c.Points),
				fmt.Sprint(c.Records),
				fmt.Sprint(c.Bytes), at(c.Proof), drilled, recovery, fmt.Sprint(c.Alerts), c.Error)
		}
	case "stores":
		row("store", "used_bytes", "free_bytes", "days_until_full", "scrub", "error")
		for _, s := range d.Stores {
			row(s.Name, fmt.Sprint(s.Used), fmt.Sprint(s.Free), num(s.Days), at(s.Scrub), s.Error)
		}
	case "not_protected":
		row("what", "reason")
		for _, l := range d.Left {
			row(l.What, l.Reason)
		}
	case "alerts":
		row("since", "about", "text", "do")
		for _, a := range d.Alerts {
			row(at(a.Since), a.About, a.Text, a.Do)
		}
	case "evidence":
		row("store", "number", "finished", "kind", "cluster", "moment", "target", "result", "took_seconds",
			"recovery_seconds")
		for _, s := range d.Evidence {
			row(s.Store, fmt.Sprint(s.Number), at(s.Ended), s.Kind, s.Cluster, at(s.Moment), s.Target, s.Result,
				num(s.Took),
				num(s.Recovery))
		}
	case "gaps":
		row("cluster", "from", "to", "reason")
		for _, c := range d.Clusters {
			for _, g := range c.Gaps {
				row(c.Name, at(g.From), at(g.To), g.Reason)
			}
		}
	case "growth", "durations":
		row("cluster", "time", map[bool]string{true: "added_bytes", false: "snapshot_seconds"}[table == "growth"])
		for _, c := range d.Clusters {
			list := c.Grown
			if table == "durations" {
				list = c.Durations
			}
			for _, s := range list {
				row(c.Name, at(s.Time), num(s.Value))
			}
		}
	default:
		return fmt.Errorf("there is no table %q", table)
	}
	out.Flush()
	return out.Error()
}
