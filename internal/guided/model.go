package guided

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"dexamen/internal/view"
)

// step is where somebody is.
type step int

const (
	chooseCluster step = iota
	chooseMoment
	chooseWhat
	chooseHow
)

// way is how what was chosen is put back.
type way struct {
	name, conflict string
	beside, other  bool
}

var (
	wayBeside  = way{name: "beside what is there, under another name", beside: true}
	wayName    = way{name: "under its own name, where nothing is now"}
	wayReplace = way{name: "in the place of what is there now", conflict: "replace"}
	wayMerge   = way{name: "only records that are missing or differ", conflict: "merge"}
	wayFill    = way{name: "only records that are missing", conflict: "fill"}
	wayOther   = way{name: "onto another cluster", other: true}
)

// model implements [tea.Model].
type model struct {
	ctx           context.Context
	s             *view.Screen
	src           Source
	want          string // the cluster that was named
	width, height int
	step          step
	// busy says what is waited for; asked numbers questions, so that late answers are let go.
	busy   string
	asked  int
	note   string // what was wrong with the last key
	failed error
	done   bool

	clusters []Cluster
	at       int

	from, to, cursor time.Time
	events           []Event
	event            int    // -1: the cursor is at no event
	when             string // the moment as an address has it
	typing           bool
	typed            string

	rows   []Row
	row    int
	chosen map[string]bool
	filter string

	ways    []way
	way     int
	suffix  string
	targets []string
	target  int
}

func newModel(ctx context.Context, s *view.Screen, src Source, cluster string) *model {
	return &model{ctx: ctx, s: s, src: src, want: cluster, width: 80, height: 24, event: -1, suffix: firstSuffix,
		busy: "reading what can be restored"}
}

func (m *model) cluster() Cluster { return m.clusters[m.at] }

// Answers of a source.
type (
	answer struct {
		asked int
		err   error
		take  func()
	}
)

// ask has something found out beside what is drawn.
func (m *model) ask(busy string, find func(ctx context.Context) (take func(), err error)) tea.Cmd {
	m.busy, m.note = busy, ""
	m.asked++
	n, ctx := m.asked, m.ctx
	return func() tea.Msg {
		take, err := find(ctx)
		return answer{n, err, take}
	}
}

// Init implements [tea.Model].
func (m *model) Init() tea.Cmd {
	if m.clusters != nil {
		return nil // it goes on
	}
	return m.ask(m.busy, func(ctx context.Context) (func(), error) {
		list, err := m.src.Clusters(ctx)
		return func() {
			m.clusters = list
			m.at = max(0, slices.IndexFunc(list, func(c Cluster) bool { return c.Name == m.want }))
		}, err
	})
}

// Update implements [tea.Model].
func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = max(msg.Width, 40), max(msg.Height, 10)
	case answer:
		if msg.asked != m.asked {
			return m, nil
		}
		m.busy = ""
		if msg.err != nil {
			if m.clusters == nil {
				m.failed = msg.err
				return m, tea.Quit
			}
			m.note = msg.err.Error()
			return m, nil
		}
		msg.take()
		if m.step == chooseCluster && m.want != "" && len(m.clusters) > 0 {
			m.want = ""
			return m, m.enterCluster()
		}
	case tea.KeyPressMsg:
		return m.key(msg.String(), msg.Text)
	}
	return m, nil
}

func (m *model) key(k string, typed string) (tea.Model, tea.Cmd) {
	if k == "ctrl+c" {
		return m, tea.Quit
	}
	if m.typing {
		return m, m.type_(k, typed)
	}
	m.note = ""
	switch k {
	case "q":
		return m, tea.Quit
	case "esc", "backspace":
		if m.busy != "" && m.clusters != nil { // it is not waited for any longer
			m.asked++
			m.busy = ""
			return m, nil
		}
		if m.step == chooseCluster {
			return m, tea.Quit
		}
		m.step--
		return m, nil
	}
	if m.busy != "" || len(m.clusters) == 0 {
		return m, nil
	}
	switch m.step {
	case chooseCluster:
		return m, m.keyCluster(k)
	case chooseMoment:
		return m, m.keyMoment(k)
	case chooseWhat:
		return m, m.keyWhat(k)
	case chooseHow:
		return m, m.keyHow(k)
	}
	return m, nil
}

// moved moves a place in a list by a key.
func moved(at, n int, k string) int {
	switch k {
	case "up", "k":
		at--
	case "down", "j":
		at++
	case "pgup":
		at -= 10
	case "pgdown":
		at += 10
	case "home", "g":
		at = 0
	case "end", "G":
		at = n - 1
	}
	return max(0, min(at, n-1))
}

func (m *model) keyCluster(k string) tea.Cmd {
	if k == "enter" || k == "right" || k == "l" {
		return m.enterCluster()
	}
	m.at = moved(m.at, len(m.clusters), k)
	return nil
}

// enterCluster goes on to the moments of a cluster, and finds what happened there.
func (m *model) enterCluster() tea.Cmd {
	m.step, m.events, m.event, m.when = chooseMoment, nil, -1, ""
	c := m.cluster()
	m.from, m.to = bounds(c.Band)
	m.place(c.Latest)
	return m.ask("looking for what happened", func(ctx context.Context) (func(), error) {
		events, err := m.src.Events(ctx, c)
		return func() {
			m.events = events
			for i, e := range events { // the last that lost something is what most come for
				if e.Loss && e.When != "" {
					m.atEvent(i)
				}
			}
		}, err
	})
}

// enterMoment goes on to what there was at the moment.
func (m *model) enterMoment() tea.Cmd {
	if m.when == "" {
		m.note = "nothing can be restored of this moment; move to where the ribbon is solid, or to a point"
		return nil
	}
	c, when := m.cluster(), m.when
	return m.ask("looking at what there was and what there is", func(ctx context.Context) (func(), error) {
		rows, note, err := m.src.Rows(ctx, c, when)
		return func() {
			m.note = note
			m.step, m.rows, m.row, m.chosen, m.filter = chooseWhat, rows, 0, map[string]bool{}, ""
			if m.event >= 0 {
				m.choose(m.events[m.event].Namespace)
			}
		}, err
	})
}

// choose ticks the namespace that something happened to, and goes there.
func (m *model) choose(name string) {
	for i, r := range m.rows {
		if r.Name == name && r.Then >= 0 {
			m.chosen[name], m.row = true, i
		}
	}
}

// seen returns the rows that fit the filter.
func (m *model) seen() (out []Row) {
	for _, r := range m.rows {
		if strings.Contains(r.Name, m.filter) {
			out = append(out, r)
		}
	}
	return out
}

func (m *model) keyWhat(k string) tea.Cmd {
	seen := m.seen()
	switch k {
	case "space", "x":
		if m.row < len(seen) {
			if r := seen[m.row]; r.Then < 0 {
				m.note = r.Name + " was not there then; there is nothing of it to restore"
			} else if m.chosen[r.Name] = !m.chosen[r.Name]; !m.chosen[r.Name] {
				delete(m.chosen, r.Name)
			}
		}
	case "a", "d":
		fit := func(r Row) bool { return r.Then >= 0 && (k == "a" || r.Changed()) }
		all := !slices.ContainsFunc(seen, func(r Row) bool { return fit(r) && !m.chosen[r.Name] })
		for _, r := range seen {
			if fit(r) && !all {
				m.chosen[r.Name] = true
			} else if fit(r) {
				delete(m.chosen, r.Name)
			}
		}
	case "/":
		m.typing, m.typed = true, m.filter
	case "enter", "right", "l":
		if len(m.chosen) == 0 {
			m.note = "choose with the space bar what is to be restored; a chooses all, d all that differ"
			return nil
		}
		m.enterHow()
	default:
		m.row = moved(m.row, len(seen), k)
	}
	return nil
}

// enterHow goes on to how it is put back: the ways that what was chosen allows.
func (m *model) enterHow() {
	c := m.cluster()
	there := slices.ContainsFunc(m.rows, func(r Row) bool { return m.chosen[r.Name] && r.Now != -1 })
	ways := []way{wayName, wayBeside}
	if there {
		ways = []way{wayBeside, wayMerge, wayFill, wayReplace}
	}
	if !c.Configured {
		ways = nil
	}
	m.targets = slices.DeleteFunc(m.src.Targets(c.Engine), func(t string) bool { return t == c.Name })
	if len(m.targets) > 0 {
		ways = append(ways, wayOther)
	}
	if len(ways) == 0 {
		m.note = c.Name + " is not configured any more, and no other cluster takes what is of it"
		return
	}
	m.step, m.way, m.ways, m.target = chooseHow, 0, ways, 0
	taken := func() bool {
		return slices.ContainsFunc(m.rows, func(r Row) bool {
			return r.Now != -1 && slices.ContainsFunc(m.names(), func(n string) bool { return m.renamed(n) == r.Name })
		})
	}
	m.suffix = firstSuffix
	for n := 2; taken(); n++ {
		m.suffix = fmt.Sprint(firstSuffix, n)
	}
}

// firstSuffix is the ending of a name beside another, unless one has it already.
const firstSuffix = "_restored"

func (m *model) keyHow(k string) tea.Cmd {
	switch w := m.ways[m.way]; {
	case k == "enter":
		m.done = true
		return tea.Quit
	case k == "e" && w.beside:
		m.typing, m.typed = true, m.suffix
	case (k == "right" || k == "l") && w.other:
		m.target = (m.target + 1) % len(m.targets)
	case (k == "left" || k == "h") && w.other:
		m.target = (m.target + len(m.targets) - 1) % len(m.targets)
	default:
		m.way = moved(m.way, len(m.ways), k)
	}
	return nil
}

// type_ takes a key of a text.
func (m *model) type_(k, typed string) tea.Cmd {
	switch {
	case k == "esc":
		m.typing = false
		return nil
	case k == "backspace":
		if r := []rune(m.typed); len(r) > 0 {
			m.typed = string(r[:len(r)-1])
		}
	case k == "enter":
		m.typing = false
		return m.takeTyped()
	default:
		m.typed += typed
	}
	if m.step == chooseWhat {
		m.filter, m.row = m.typed, 0
	}
	return nil
}

func (m *model) takeTyped() tea.Cmd {
	switch m.step {
	case chooseMoment:
		when, at, err := m.src.Moment(m.typed)
		if err != nil {
			m.note = err.Error()
			return nil
		}
		if !at.IsZero() {
			m.place(at)
		}
		m.when, m.event = when, -1
	case chooseHow:
		if m.typed == "" {
			m.note = "without an ending it would have the name of what is there"
			return nil
		}
		m.suffix = m.typed
	}
	return nil
}

// renamed returns what a namespace that is restored beside is called: what ends names of its
// kind stays their end.
func (m *model) renamed(name string) string {
	if n := len(name); n > 1 && strings.ContainsRune("/:", rune(name[n-1])) {
		return name[:n-1] + m.suffix + name[n-1:]
	}
	return name + m.suffix
}

// names returns what was chosen, in order.
func (m *model) names() (out []string) {
	for _, r := range m.rows {
		if m.chosen[r.Name] {
			out = append(out, r.Name)
		}
	}
	return out
}

// restoreArgs returns the command that does what was chosen.
func (m *model) restoreArgs() []string {
	names := m.names()
	address := m.cluster().Name + "@" + m.when
	all := !slices.ContainsFunc(m.rows, func(r Row) bool { return r.Then >= 0 && !m.chosen[r.Name] })
	if !all {
		address += "/" + names[0]
	}
	args := []string{"restore", address}
	for i, n := range names {
		if i > 0 && !all {
			args = append(args, "--also", n)
		}
	}
	w := m.ways[m.way]
	if w.beside {
		for _, n := range names {
			args = append(args, "--rename", n+"="+m.renamed(n))
		}
	}
	if w.conflict != "" {
		args = append(args, "--conflict", w.conflict)
	}
	if w.other {
		args = append(args, "--to", m.targets[m.target])
	}
	return args
}
