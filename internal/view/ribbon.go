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
	for _, b := range bands {
		s.Line("%-*s  %s", name, b.Name, strings.Join(s.Strip(b, from, to, width), ""))
	}
	s.Line("%-*s  %s", name, "", s.Faint(Axis(from, to, width)))
	s.Line("%-*s  %s", name, "", s.Legend())
}

// glyphs returns what stands for every moment, a point and a gap.
func (s *Screen) glyphs() (solid, diamond, cross string) {
	if !s.Unicode {
		return "=", "o", "x"
	}
	return "━", "◆", "╳"
}

// Legend says what the signs of a ribbon mean.
func (s *Screen) Legend() string {
	solid, diamond, cross := s.glyphs()
	return s.Accent(strings.Repeat(solid, 3)) + " every moment   " + s.Accent(diamond) + " point   " +
		s.Loss(cross) + " gap"
}

// Cell returns in which of some cells over a stretch of time a time is; what is before or
// after it is in the first or the last.
func Cell(t, from, to time.Time, width int) int {
	span := max(to.Sub(from), 1)
	at := float64(width-1) * float64(t.Sub(from)) / float64(span)
	return int(max(0, min(at, float64(width-1))))
}

// Strip returns the cells of a band over a stretch of time; what is before or after it is left
// out.
func (s *Screen) Strip(b Band, from, to time.Time, width int) []string {
	solid, diamond, cross := s.glyphs()
	row := make([]string, width)
	for i := range row {
		row[i] = " "
	}
	fill := func(list [][2]time.Time, with string) {
		for _, c := range list {
			if c[1].Before(from) || c[0].After(to) {
				continue
			}
			for i := Cell(c[0], from, to, width); i <= Cell(c[1], from, to, width); i++ {
				row[i] = with
			}
		}
	}
	fill(b.Covered, s.Accent(solid))
	fill(b.Gaps, s.Loss(cross))
	for _, p := range b.Points {
		if !p.Before(from) && !p.After(to) {
			row[Cell(p, from, to, width)] = s.Accent(diamond)
		}
	}
	return row
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

// Axis labels the ends of the time axis and as many places between as fit.
func Axis(from, to time.Time, width int) string {
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
