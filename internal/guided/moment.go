package guided

import (
	"time"

	tea "charm.land/bubbletea/v2"

	"dexamen/internal/view"
)

// bounds returns the time that a band spans.
func bounds(b view.Band) (from, to time.Time) {
	take := func(t time.Time) {
		if t.IsZero() {
			return
		}
		if from.IsZero() || t.Before(from) {
			from = t
		}
		if t.After(to) {
			to = t
		}
	}
	for _, p := range b.Points {
		take(p)
	}
	for _, list := range [][][2]time.Time{b.Covered, b.Gaps} {
		for _, c := range list {
			take(c[0])
			take(c[1])
		}
	}
	if !to.After(from) {
		to = from.Add(time.Second)
	}
	return from, to
}

// ribbonWidth is how many cells the ribbon has.
func (m *model) ribbonWidth() int { return min(m.width-4, 140) }

// cell is how much time one cell of the ribbon stands for.
func (m *model) cellTime() time.Duration {
	return max(m.to.Sub(m.from)/time.Duration(m.ribbonWidth()-1), time.Millisecond)
}

// whenOf returns a time as an address has it.
func whenOf(t time.Time) string {
	return t.Local().Format("2006-01-02T15:04:05.000Z07:00")
}

// place puts the cursor at a time. Where not every moment can be had, a point within the cell
// counts.
func (m *model) place(t time.Time) {
	all0, all1 := bounds(m.cluster().Band)
	if t.Before(all0) {
		t = all0
	}
	if t.After(all1) {
		t = all1
	}
	m.cursor, m.event, m.when = t, -1, ""
	if t.Before(m.from) || t.After(m.to) { // what is seen moves along
		half := m.to.Sub(m.from) / 2
		m.from, m.to = t.Add(-half), t.Add(half)
	}
	b := m.cluster().Band
	for _, c := range b.Covered {
		if !t.Before(c[0]) && !t.After(c[1]) {
			// Written to the millisecond, which may be before the first moment.
			if m.cursor = t.Truncate(time.Millisecond); m.cursor.Before(c[0]) {
				m.cursor = m.cursor.Add(time.Millisecond)
			}
			m.when = whenOf(m.cursor)
			return
		}
	}
	for i, p := range b.Points {
		if d := p.Sub(t).Abs(); d <= m.cellTime() {
			m.cursor, m.when = p, m.cluster().Points[i]
			return
		}
	}
}

// atEvent puts the cursor just before something that happened.
func (m *model) atEvent(i int) {
	e := m.events[i]
	m.place(e.At.Add(-time.Millisecond))
	m.event = i
	if e.When != "" {
		m.when = e.When
	} else {
		m.note = "just before it: " + e.Cannot
	}
}

// move moves the cursor by cells; where nothing can be had it goes on to the next point.
func (m *model) move(cells int) {
	was := m.cursor
	t := was.Add(time.Duration(cells) * m.cellTime())
	m.place(t)
	if m.when != "" && m.cursor.After(was) == (cells > 0) && !m.cursor.Equal(was) {
		return
	}
	// Into a gap, or between points: to the next thing that can be had.
	best := time.Time{}
	consider := func(p time.Time) {
		if cells > 0 && p.After(t) && (best.IsZero() || p.Before(best)) ||
			cells < 0 && p.Before(t) && (best.IsZero() || p.After(best)) {
			best = p
		}
	}
	for _, p := range m.cluster().Band.Points {
		consider(p)
	}
	for _, c := range m.cluster().Band.Covered {
		consider(c[0])
		consider(c[1])
	}
	if best.IsZero() { // there is nothing further
		best = was
	}
	m.place(best)
}

// zoom makes a cell stand for more or less time, around the cursor.
func (m *model) zoom(by float64) {
	all0, all1 := bounds(m.cluster().Band)
	span := time.Duration(float64(m.to.Sub(m.from)) * by)
	span = min(max(span, time.Duration(m.ribbonWidth())*time.Millisecond), all1.Sub(all0))
	m.from = m.cursor.Add(-span / 2)
	if m.from.Before(all0) {
		m.from = all0
	}
	m.to = m.from.Add(span)
	if m.to.After(all1) {
		m.to, m.from = all1, all1.Add(-span)
	}
}

// nextEvent goes to the next thing that happened, or the one before.
func (m *model) nextEvent(forward bool) {
	best := -1
	for i, e := range m.events {
		switch {
		case m.event >= 0 && (forward && i == m.event+1 || !forward && i == m.event-1):
			best = i
		case m.event < 0 && forward && e.At.After(m.cursor) && best < 0:
			best = i
		case m.event < 0 && !forward && e.At.Before(m.cursor):
			best = i
		}
	}
	if best < 0 {
		m.note = "nothing else happened " + map[bool]string{true: "after this", false: "before this"}[forward]
		return
	}
	m.atEvent(best)
}

func (m *model) keyMoment(k string) tea.Cmd {
	switch k {
	case "left", "h":
		m.move(-1)
	case "right", "l":
		m.move(1)
	case "shift+left", "H", "pgup":
		m.move(-10)
	case "shift+right", "L", "pgdown":
		m.move(10)
	case "home", "g":
		from, _ := bounds(m.cluster().Band)
		m.place(from)
	case "end", "G":
		m.place(m.cluster().Latest)
	case "up", "k", "p":
		m.nextEvent(false)
	case "down", "j", "n":
		m.nextEvent(true)
	case "+", "=":
		m.zoom(0.5)
	case "-", "_":
		m.zoom(2)
	case "t":
		m.typing, m.typed = true, ""
	case "enter":
		return m.enterMoment()
	}
	return nil
}
