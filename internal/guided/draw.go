package guided

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/jedib0t/go-pretty/v6/text"

	"dexamen/internal/view"
)

var titles = []string{"cluster", "moment", "what", "how"}

// View implements [tea.Model].
func (m *model) View() tea.View {
	v := tea.NewView(m.draw())
	v.AltScreen = true
	return v
}

func (m *model) draw() string {
	s := m.s
	var head []string
	for i, t := range titles {
		t = fmt.Sprintf("%d %s", i+1, t)
		if step(i) == m.step {
			t = s.Accent("[" + t + "]")
		} else {
			t = s.Faint(" " + t + " ")
		}
		head = append(head, t)
	}
	title := " restore  " + strings.Join(head, " ")
	if m.width < 52 {
		title = fmt.Sprintf(" restore  %d of %d  %s", m.step+1, len(titles), s.Accent(titles[m.step]))
	}
	lines := []string{title, ""}
	foot := m.foot()
	room := max(m.height-len(lines)-len(foot), 3)
	var body []string
	switch {
	case m.clusters == nil:
		body = []string{" " + m.busy + " …"}
	case len(m.clusters) == 0:
		body = []string{" nothing can be restored yet; take a point with: dexamen snapshot CLUSTER"}
	case m.step == chooseCluster:
		body = m.drawClusters(room)
	case m.step == chooseMoment:
		body = m.drawMoment(room)
	case m.step == chooseWhat:
		body = m.drawRows(room)
	case m.step == chooseHow:
		body = m.drawHow()
	}
	for len(body) < room {
		body = append(body, "")
	}
	lines = append(append(lines, body[:room]...), foot...)
	for i, l := range lines {
		lines[i] = s.Rendered(text.Trim(l, m.width))
	}
	return strings.Join(lines, "\n")
}

// foot is what is below: what is waited for or was wrong, the command, the keys.
func (m *model) foot() (out []string) {
	s := m.s
	wrap := func(text_, indent string, paint func(string) string) {
		for i, l := range strings.Split(text.WrapSoft(text_, m.width-4), "\n") {
			if i > 0 {
				l = indent + strings.TrimSpace(l)
			}
			out = append(out, " "+paint(strings.TrimRight(l, " ")))
		}
	}
	plain := func(t string) string { return t }
	switch {
	case m.busy != "" && m.clusters != nil:
		out = append(out, " "+s.Accent(m.busy+" …"))
	case m.note != "":
		wrap(m.note, "", s.Loss)
	default:
		out = append(out, "")
	}
	if c := m.command(); c != nil {
		wrap("$ "+CommandLine(c), "    ", plain)
	}
	line := ""
	for _, k := range m.keys() {
		if line != "" && len(line)+3+len(k) > m.width-2 {
			out = append(out, " "+s.Faint(line))
			line = ""
		}
		line += strings.Repeat(" ", 3*min(1, len(line))) + k
	}
	return append(out, " "+s.Faint(line))
}

// command is the command that shows the same as the step, or does it.
func (m *model) command() []string {
	if len(m.clusters) == 0 {
		return nil
	}
	name := m.cluster().Name
	switch m.step {
	case chooseCluster:
		return []string{"coverage", name}
	case chooseMoment:
		if m.when == "" {
			return []string{"pinpoint", name}
		}
		return []string{"browse", name + "@" + m.when}
	case chooseWhat:
		return []string{"compare", name + "@" + m.when, name + "@live"}
	}
	return m.restoreArgs()
}

func (m *model) keys() []string {
	if m.typing {
		return []string{"enter takes it", "esc leaves it"}
	}
	switch m.step {
	case chooseMoment:
		return []string{"left right move", "up down events", "+ - zoom", "t type", "enter next", "esc back"}
	case chooseWhat:
		return []string{"space choose", "a all", "d what differs", "/ find", "enter next", "esc back"}
	case chooseHow:
		keys := []string{"up down move"}
		if w := m.ways[m.way]; w.beside {
			keys = append(keys, "e its ending")
		} else if w.other {
			keys = append(keys, "left right which cluster")
		}
		return append(keys, "enter plan", "esc back", "q quit")
	}
	return []string{"up down move", "enter next", "q quit"}
}

// window returns which of n lines are seen, so that one of them is.
func window(n, at, room int) (from, to int) {
	from = max(0, min(at-room/2, n-room))
	return from, min(n, from+room)
}

func (m *model) pointer(here bool) string {
	switch {
	case !here:
		return "   "
	case m.s.Unicode:
		return " " + m.s.Accent("▸") + " "
	}
	return " " + m.s.Accent(">") + " "
}

// fit cuts a text to a width and fills it up.
func fit(t string, width int) string {
	if r := []rune(t); len(r) > width {
		t = string(r[:max(width-1, 0)]) + "…"
	}
	return text.Pad(t, width, ' ')
}

func (m *model) drawClusters(room int) (out []string) {
	name := 7
	for _, c := range m.clusters {
		name = max(name, len(c.Name))
	}
	name = min(name, m.width/3)
	out = append(out, "   "+m.s.Faint(fmt.Sprintf("%s  %-8s  %9s  %s", fit("cluster", name), "kind", "points",
		"newest moment")))
	from, to := window(len(m.clusters), m.at, room-1)
	for i := from; i < to; i++ {
		c := m.clusters[i]
		out = append(out, m.pointer(i == m.at)+fmt.Sprintf("%s  %-8s  %9s  %s", fit(c.Name, name), c.Engine,
			view.Count(int64(len(c.Points))), view.Time(c.Latest)))
	}
	return out
}

func (m *model) drawMoment(room int) (out []string) {
	s, w, c := m.s, m.ribbonWidth(), m.cluster()
	mark, here := "▼", "▲"
	if !s.Unicode {
		mark, here = "v", "^"
	}
	above := make([]string, w)
	for i := range above {
		above[i] = " "
	}
	for _, e := range m.events {
		if e.At.Before(m.from) || e.At.After(m.to) {
			continue
		}
		i := view.Cell(e.At, m.from, m.to, w)
		if e.Loss {
			above[i] = s.Loss(mark)
		} else if above[i] == " " {
			above[i] = s.Faint(mark)
		}
	}
	strip := s.Strip(c.Band, m.from, m.to, w)
	at := view.Cell(m.cursor, m.from, m.to, w)
	out = append(out, "  "+s.Accent(c.Name), "  "+strings.Join(above, ""), "  "+strings.Join(strip, ""),
		"  "+strings.Repeat(" ", at)+s.Accent(here), "  "+s.Faint(view.Axis(m.from, m.to, w)),
		"  "+s.Legend())
	if event := s.Loss(mark) + " something happened"; m.width < 60 {
		out = append(out, "  "+event)
	} else {
		out[len(out)-1] += "   " + event
	}
	out = append(out, "")
	switch {
	case m.typing:
		out = append(out, "  moment: "+m.typed+"_", "  10:14:04, 2026-11-23T10:14:04Z, -15m, or a point's id")
	case m.event >= 0:
		e := m.events[m.event]
		out = append(out, "  "+s.Accent(fit("just before "+view.Precise(e.At), m.width-4)), "  "+
			fit(e.Namespace+": "+e.What, m.width-4))
	case m.when == "":
		out = append(out, "  "+s.Loss("nothing can be restored of "+view.Precise(m.cursor)), "")
	case slices.Contains(c.Points, m.when):
		out = append(out, "  "+s.Accent(view.Precise(m.cursor)), "  point "+m.when)
	case m.when != whenOf(m.cursor): // as it was typed
		out = append(out, "  "+s.Accent(m.when), "")
	default:
		out = append(out, "  "+s.Accent(view.Precise(m.cursor)), "")
	}
	out = append(out, "")
	if left := room - len(out); left > 0 {
		out = append(out, m.drawEvents(left)...)
	}
	return out
}

func (m *model) drawEvents(room int) (out []string) {
	if len(m.events) == 0 {
		if m.busy == "" {
			out = append(out, "  "+m.s.Faint("nothing happened that would stand out"))
		}
		return out
	}
	near := m.event
	if near < 0 {
		for i, e := range m.events {
			if !e.At.After(m.cursor) {
				near = i
			}
		}
	}
	name := 0
	for _, e := range m.events {
		name = max(name, len([]rune(e.Namespace)))
	}
	name = min(name, m.width/3)
	from, to := window(len(m.events), max(near, 0), room)
	for i := from; i < to; i++ {
		e := m.events[i]
		what := fit(e.What, max(m.width-name-20, 8))
		if e.Loss {
			what = m.s.Loss(what)
		}
		out = append(out, m.pointer(i == m.event)+fmt.Sprintf("%s  %s  %s", view.Clock(e.At), fit(e.Namespace, name),
			strings.TrimRight(what, " ")))
	}
	return out
}

func (m *model) drawRows(room int) (out []string) {
	s, seen := m.s, m.seen()
	if m.typing || m.filter != "" {
		text := m.filter
		if m.typing {
			text += "_"
		}
		out = append(out, "  names that hold: "+s.Accent(text))
	}
	name := 9
	for _, r := range m.rows {
		name = max(name, len([]rune(r.Name)))
	}
	name = min(name, max(m.width-46, 12))
	out = append(out, "       "+s.Faint(fmt.Sprintf("%s  %11s  %11s  %s", fit("namespace", name), "then", "now",
		"since")))
	tilde := slices.ContainsFunc(seen, func(r Row) bool { return r.About })
	from, to := window(len(seen), m.row, max(room-len(out)-2*min(1, len(seen)), 1))
	for i := from; i < to; i++ {
		r := seen[i]
		box := "[ ]"
		if m.chosen[r.Name] {
			box = s.Accent("[x]")
		}
		then, now, since := view.Count(r.Then), view.Count(r.Now), ""
		if r.About {
			then = "~" + then
		}
		switch {
		case r.Then < 0:
			box, then, since = "   ", "-", s.Faint("not there then")
		case r.Now == -2:
			now, since = "?", ""
		case r.Now < 0:
			now, since = "-", s.Loss("gone")
		case r.Since > 0:
			since = view.Plural(r.Since, "change")
		case r.Since < 0 && r.Now != r.Then:
			since = "differs"
		case r.Since == 0:
			since = s.Faint("unchanged")
		}
		out = append(out, m.pointer(i == m.row)+box+" "+fmt.Sprintf("%s  %11s  %11s  %s", fit(r.Name, name), then, now,
			since))
	}
	if len(seen) == 0 {
		out = append(out, "   "+s.Faint("no name holds it"))
	}
	if tilde {
		out = append(out, "", "       "+s.Faint("~ as the point before has it; the log has changes up to the moment"))
	}
	return out
}

func (m *model) drawHow() (out []string) {
	s := m.s
	names := m.names()
	shown := strings.Join(names[:min(len(names), 3)], ", ")
	if len(names) > 3 {
		shown += fmt.Sprintf(" and %d more", len(names)-3)
	}
	out = append(out, "  "+s.Accent(fit(shown, m.width-4)), "  of "+m.cluster().Name+"@"+m.when, "")
	for i, w := range m.ways {
		line := w.name
		switch {
		case w.beside && m.typing:
			line = "beside, with the ending " + s.Accent(m.typed+"_")
		case w.beside:
			line += ": " + s.Accent(m.renamed(names[0]))
			if len(names) > 1 {
				line += " …"
			}
		case w.other:
			line += ": " + s.Accent(m.targets[m.target])
		}
		out = append(out, m.pointer(i == m.way)+line)
	}
	out = append(out, "", "  "+s.Faint("what is there now is kept before it is changed: dexamen undo brings it back"))
	return out
}
