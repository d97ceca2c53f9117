package guided

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/stretchr/testify/require"

	"dexamen/internal/view"
)

var start = time.Date(2026, 11, 27, 10, 0, 0, 0, time.UTC)

func at(min int) time.Time { return start.Add(time.Duration(min) * time.Minute) }

// fake has a cluster with a log and a gap in it, one with points alone, and many others.
type fake struct{ rows []Row }

func (fake) Clusters(context.Context) ([]Cluster, error) {
	list := []Cluster{
		{Name: "comb", Store: "larder", Engine: "folder", Configured: true, Points: []string{"p0", "p1"},
			Latest: at(30), Band: view.Band{Points: []time.Time{at(0), at(30)}}},
		{Name: "meadow", Store: "larder", Engine: "document", Configured: true, Points: []string{"p2"}, Latest: at(60),
			Band: view.Band{Points: []time.Time{at(0)}, Covered: [][2]time.Time{{at(0), at(20)}, {at(40), at(60)}},
				Gaps: [][2]time.Time{{at(20), at(40)}}}},
		{Name: "gone", Store: "larder", Engine: "redis", Points: []string{"p3"}, Latest: at(1),
			Band: view.Band{Points: []time.Time{at(1)}}}}
	for n := range 40 {
		c := list[0]
		c.Name = fmt.Sprintf("zz-a-cluster-with-a-very-long-name-of-its-own-%d", n)
		list = append(list, c)
	}
	return list, nil
}

func (fake) Events(_ context.Context, c Cluster) ([]Event, error) {
	if c.Name != "meadow" {
		return nil, nil
	}
	return []Event{
		{At: at(10), Namespace: "apiary.harvests", What: "dropped", Loss: true, When: "log:17.2"},
		{At: at(12), Namespace: "apiary.work", What: "put in place by a restore",
			Cannot: "nothing of this name was there"},
		{At: at(50), Namespace: "apiary.colonies", What: "858 updates of status in 18ms", Loss: true,
			When: "log:19.1"}}, nil
}

func (f fake) Rows(_ context.Context, _ Cluster, when string) ([]Row, string, error) {
	if when == "log:bad" {
		return nil, "", errors.New("that segment is damaged")
	}
	return f.rows, "", nil
}

func (fake) Moment(text string) (string, time.Time, error) {
	if text == "nonsense" {
		return "", time.Time{}, errors.New("no moment")
	}
	return text, time.Time{}, nil
}

func (fake) Targets(engine string) []string {
	if engine == "document" {
		return []string{"meadow", "paddock"}
	}
	return nil
}

// drive gives keys to the steps, as somebody would type them, and holds every view against the
// width and the height of the terminal.
type drive struct {
	t    *testing.T
	m    *model
	quit bool
}

func newDrive(t *testing.T, width, height int, cluster string) *drive {
	s := &view.Screen{Width: width, Unicode: false}
	m := newModel(context.Background(), s, fake{rows: []Row{
		{Name: "apiary.colonies", Then: 2000, Now: 2000, Since: 858, About: true},
		{Name: "apiary.harvests", Then: 2500, Now: -1, Since: 1},
		{Name: "apiary.keepers", Then: 40, Now: 40},
		{Name: "apiary.new", Then: -1, Now: 7},
		{Name: "apiary.harvests_restored", Then: -1, Now: 7}}}, cluster)
	d := &drive{t: t, m: m}
	d.take(tea.WindowSizeMsg{Width: width, Height: height})
	d.run(m.Init())
	return d
}

func (d *drive) run(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	if msg := cmd(); msg != nil {
		d.take(msg)
	}
}

func (d *drive) take(msg tea.Msg) {
	if _, ok := msg.(tea.QuitMsg); ok {
		d.quit = true
		return
	}
	_, cmd := d.m.Update(msg)
	lines := strings.Split(d.m.draw(), "\n")
	require.LessOrEqual(d.t, len(lines), max(d.m.height, 12), strings.Join(lines, "\n"))
	for _, l := range lines {
		require.LessOrEqual(d.t, text.StringWidthWithoutEscSequences(l), d.m.width, l)
		require.NotContains(d.t, l, "\x1b")
	}
	d.run(cmd)
}

var named = map[string]tea.KeyPressMsg{"enter": {Code: tea.KeyEnter}, "esc": {Code: tea.KeyEscape},
	"up": {Code: tea.KeyUp}, "down": {Code: tea.KeyDown}, "left": {Code: tea.KeyLeft}, "right": {Code: tea.KeyRight},
	"space": {Code: tea.KeySpace, Text: " "}, "backspace": {Code: tea.KeyBackspace}}

func (d *drive) keys(list ...string) *drive {
	for _, k := range list {
		if msg, ok := named[k]; ok {
			d.take(msg)
			continue
		}
		for _, r := range k {
			d.take(tea.KeyPressMsg{Code: r, Text: string(r)})
		}
	}
	return d
}

func (d *drive) command() string { return CommandLine(d.m.command()) }

// TestGuided: what is typed leads to the command that does it, which every step shows.
func TestGuided(t *testing.T) {
	for _, size := range [][2]int{{80, 24}, {40, 24}, {157, 47}, {80, 12}} {
		t.Run(fmt.Sprint(size), func(t *testing.T) {
			d := newDrive(t, size[0], size[1], "meadow")
			// The last thing that lost something is where it begins.
			require.Equal(t, "dexamen browse meadow@log:19.1", d.command())
			d.keys("up")
			require.Contains(t, d.m.note, "nothing of this name was there")
			require.Equal(t, whenOf(at(12).Add(-time.Millisecond)), d.m.when, "others were")
			d.keys("up")
			require.Equal(t, "dexamen browse meadow@log:17.2", d.command())
			d.keys("enter")
			require.Equal(t, "dexamen compare meadow@log:17.2 meadow@live", d.command())
			require.Equal(t, []string{"apiary.harvests"}, d.m.names())
			d.keys("enter")
			require.Equal(t, "dexamen restore meadow@log:17.2/apiary.harvests", d.command())
			d.keys("down")
			require.Equal(t, "dexamen restore meadow@log:17.2/apiary.harvests "+
				"--rename apiary.harvests=apiary.harvests_restored2", d.command(), "the first name is taken")
			d.keys("e", "backspace", "backspace", "3", "enter")
			require.Contains(t, d.command(), "=apiary.harvests_restore3")
			d.keys("down")
			require.Equal(t, "dexamen restore meadow@log:17.2/apiary.harvests --to paddock", d.command())
			d.keys("esc", "d") // what differs: two
			require.Equal(t, []string{"apiary.colonies", "apiary.harvests"}, d.m.names())
			d.keys("enter", "down")
			require.Equal(t, "dexamen restore meadow@log:17.2/apiary.colonies --also apiary.harvests --conflict merge",
				d.command())
			d.keys("esc", "a", "enter", "down", "down", "down")
			require.Equal(t, "dexamen restore meadow@log:17.2 --conflict replace", d.command())
			d.keys("enter")
			require.True(t, d.quit && d.m.done)
		})
	}
}

// TestGuidedElsewhere: what cannot be chosen says why, and is not chosen.
func TestGuidedElsewhere(t *testing.T) {
	d := newDrive(t, 80, 24, "meadow")
	d.keys("t", "nonsense", "enter")
	require.Equal(t, "no moment", d.m.note)
	d.keys("t", "log:bad", "enter", "enter")
	require.Equal(t, "that segment is damaged", d.m.note)
	require.Equal(t, chooseMoment, d.m.step)
	// Along the ribbon: never a moment of the gap, and every step goes on.
	d.keys("g")
	seen := d.m.cursor
	require.Equal(t, at(0), seen)
	for n := 0; n < 200 && d.m.cursor.Before(at(60)); n++ {
		d.keys("right")
		require.True(t, d.m.cursor.After(seen) || n > 60)
		seen = d.m.cursor
		require.NotEmpty(t, d.m.when)
		require.False(t, seen.After(at(20)) && seen.Before(at(40)), seen)
	}
	for range 30 {
		d.keys("+", "left", "+", "right", "-")
		require.NotEmpty(t, d.m.when)
		require.False(t, d.m.cursor.Before(d.m.from) || d.m.cursor.After(d.m.to))
	}
	d.keys("enter", "g", "j", "j", "j", "space")
	require.Contains(t, d.m.note, "apiary.new was not there then")
	d.keys("/", "harvest", "enter")
	require.Len(t, d.m.seen(), 2)
	d.keys("a")
	require.Equal(t, []string{"apiary.harvests"}, d.m.names())
	d.keys("a", "enter")
	require.Contains(t, d.m.note, "choose with the space bar")
	// A cluster of points alone: from one to the next.
	d = newDrive(t, 80, 24, "comb")
	require.Equal(t, "dexamen browse comb@p1", d.command())
	d.keys("left")
	require.Equal(t, "dexamen browse comb@p0", d.command())
	d.keys("left", "right")
	require.Equal(t, "dexamen browse comb@p1", d.command())
	// One that is configured no more goes nowhere.
	d = newDrive(t, 80, 24, "gone")
	d.keys("enter", "space", "enter")
	require.Contains(t, d.m.note, "not configured any more")
	d.keys("esc", "esc", "esc")
	require.True(t, d.quit)
	require.False(t, d.m.done)
}

func TestCommandLine(t *testing.T) {
	require.Equal(t, `dexamen restore 'm@latest/a b' --rename 'it'\''s=x' ''`,
		CommandLine([]string{"restore", "m@latest/a b", "--rename", "it's=x", ""}))
}
