package view

import (
	"strings"
	"time"
)

// Band is one row of the coverage ribbon.
type Band struct {
	Name    string
	Covered [][2]time.Time // stretches in which every moment can be had
	Points  []time.Time
	Gaps    [][2]time.Time
}

// Ribbon draws one row a band over a common time axis: solid where every
// moment can be restored, a diamond for a point, a cross where a gap is, and
// nothing where nothing can be had.
func (s *Screen) Ribbon(bands []Band) {
	var from, to time.Time
	name := 0
	for _, b := range bands {
		name = max(name, len(b.Name))
		for _, t := range b.times() {
			if from.IsZero() || t.Before(from) {
				from = t
			}
			if t.After(to) {
				to = t
			}
		}
	}
	width := max(min(s.Width-name-4, 120), 20)
	if !to.After(from) {
		to = from.Add(time.Second)
	}
	span := to.Sub(from)
	cell := func(t time.Time) int {
		return max(0, min(int(int64(width-1)*int64(t.Sub(from))/int64(span)), width-1))
	}
	solid, diamond, cross := "━", "◆", "╳"
	if !s.Unicode {
		solid, diamond, cross = "=", "o", "x"
	}
	for _, b := range bands {
		row := make([]string, width)
		for i := range row {
			row[i] = " "
		}
		for _, c := range b.Covered {
			for i := cell(c[0]); i <= cell(c[1]); i++ {
				row[i] = s.Accent(solid)
			}
		}
		for _, g := range b.Gaps {
			for i := cell(g[0]); i <= cell(g[1]); i++ {
				row[i] = s.Loss(cross)
			}
		}
		for _, p := range b.Points {
			row[cell(p)] = s.Accent(diamond)
		}
		s.Line("%-*s  %s", name, b.Name, strings.Join(row, ""))
	}
	s.Line("%-*s  %s", name, "", s.Faint(axis(from, to, width)))
	s.Line("%-*s  %s every moment   %s point   %s gap", name, "", s.Accent(strings.Repeat(solid, 3)),
		s.Accent(diamond), s.Loss(cross))
}

func (b Band) times() []time.Time {
	out := append([]time.Time{}, b.Points...)
	for _, list := range [][][2]time.Time{b.Covered, b.Gaps} {
		for _, c := range list {
			if !c[0].IsZero() {
				out = append(out, c[0])
			}
			out = append(out, c[1])
		}
	}
	return out
}

// axis labels the ends of the time axis and as many places between as fit.
func axis(from, to time.Time, width int) string {
	from, to = from.Local(), to.Local()
	layout := "15:04:05"
	if to.Sub(from) > 36*time.Hour {
		layout = "01-02 15:04"
	} else if from.YearDay() != to.YearDay() || to.Sub(from) > 3*time.Hour {
		layout = "02. 15:04"
	}
	row := []byte(strings.Repeat(" ", width))
	n := max(1, width/(len(layout)+12))
	for i := range n + 1 {
		label := from.Add(to.Sub(from) * time.Duration(i) / time.Duration(n)).Format(layout)
		at := (width - 1) * i / n
		if i == n {
			at = width - len(label)
		} else if i > 0 {
			at -= len(label) / 2
		}
		copy(row[max(at, 0):], label)
	}
	return string(row)
}
