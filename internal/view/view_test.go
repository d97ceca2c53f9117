package view_test

import (
	"bytes"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"dexamen/internal/run"
	"dexamen/internal/view"
)

func TestRibbonShowsPointsStretchesAndGaps(t *testing.T) {
	base := time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)
	at := func(min int) time.Time { return base.Add(time.Duration(min) * time.Minute) }
	var out bytes.Buffer
	s := &view.Screen{Out: &out, Width: 80}
	s.Ribbon([]view.Band{
		{Name: "meadow", Points: []time.Time{at(0), at(60)},
			Covered: [][2]time.Time{{at(0), at(30)}, {at(60), at(90)}}, Gaps: [][2]time.Time{{at(30), at(45)}}},
		{Name: "orchard", Points: []time.Time{at(45)}},
	})
	lines := strings.Split(out.String(), "\n")
	row := lines[0][len("orchard  "):]
	require.Regexp(t, `^o=+x+ +o=+$`, row)
	require.Equal(t, "o", strings.TrimSpace(lines[1][len("orchard  "):]))
	for _, l := range lines {
		require.LessOrEqual(t, utf8.RuneCountInString(l), 80)
	}
}

func TestNumbersForPeople(t *testing.T) {
	require.Equal(t, "2m14s", view.Duration(134*time.Second))
	require.Equal(t, "180ms", view.Duration(180*time.Millisecond))
	require.Equal(t, "3d4h", view.Duration(76*time.Hour))
	require.Equal(t, "1h30m", view.Duration(90*time.Minute))
	require.Equal(t, "1.5 GiB", view.Bytes(3<<29))
	require.Equal(t, "1 record", view.Plural(1, "record"))
	require.Equal(t, "12,345 records", view.Plural(12345, "record"))
}

func TestProgressElsewhereIsPlainLines(t *testing.T) {
	var out bytes.Buffer
	p := (&view.Screen{Err: &out, Width: 80}).NewProgress()
	p.Event(run.Event{Kind: run.Step, Text: "scanning"})
	p.Event(run.Event{Kind: run.Progress, Records: 10})
	p.Event(run.Event{Kind: run.Warning, Text: "left out"})
	p.Done()
	require.Equal(t, "- scanning\n! left out\n", out.String())
	out.Reset()
	p = (&view.Screen{Err: &out, JSON: true}).NewProgress()
	p.Event(run.Event{Kind: run.Note, Text: "x"})
	require.Contains(t, out.String(), `"kind":"note"`)
}
