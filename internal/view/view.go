// Package view renders what commands found: tables, the coverage ribbon,
// progress. It knows the terminal and nothing of databases.
package view

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"
)

// Screen is where a command's output goes and what may be used there.
type Screen struct {
	Out      io.Writer // results
	Err      io.Writer // progress, notes, questions
	Data     io.Writer // content as it is, for other programs
	encoded  bool      // a result was written as JSON
	bar      io.Writer // what moves the cursor; Err where it is nil
	JSON     bool
	Quiet    bool
	Calm     bool // no progress is shown
	Color    bool
	Unicode  bool
	Terminal bool // Err is a terminal that a person watches
	Width    int
	// Bounded: results go to a terminal of that width.
	Bounded bool
}

// NewScreen finds out what the standard streams can do.
func NewScreen(noColor bool) *Screen {
	s := &Screen{Out: clean{os.Stdout}, Err: clean{os.Stderr}, Data: os.Stdout, bar: os.Stderr, Width: 100}
	out := term.IsTerminal(int(os.Stdout.Fd()))
	s.Terminal = term.IsTerminal(int(os.Stderr.Fd())) && term.IsTerminal(int(os.Stdin.Fd()))
	s.Bounded = out
	if w, _, err := term.GetSize(int(os.Stdout.Fd())); err == nil && w > 20 {
		s.Width = w
	}
	s.Color = out && !noColor && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	lang := os.Getenv("LC_ALL") + os.Getenv("LC_CTYPE") + os.Getenv("LANG")
	s.Unicode = strings.Contains(strings.ToUpper(strings.ReplaceAll(lang, "-", "")), "UTF8")
	return s
}

// Accent marks what matters most in a view.
func (s *Screen) Accent(t string) string { return s.paint(t, text.FgCyan) }

// Loss marks what is missing, lost or different; nothing else is red.
func (s *Screen) Loss(t string) string { return s.paint(t, text.FgRed) }

// Faint marks what may be passed over.
func (s *Screen) Faint(t string) string { return s.paint(t, text.Faint) }

func (s *Screen) paint(t string, c text.Color) string {
	if !s.Color {
		return t
	}
	return mark(int(c)) + visible(t, false) + mark(int(text.Reset))
}

// Line writes one line of results.
func (s *Screen) Line(format string, args ...any) { fmt.Fprintf(s.Out, format+"\n", shown(args)...) }

// Note writes a line beside the results.
func (s *Screen) Note(format string, args ...any) { fmt.Fprintf(s.Err, format+"\n", shown(args)...) }

// Encode writes a result as JSON.
func (s *Screen) Encode(v any) error {
	s.encoded = true
	e := json.NewEncoder(s.Out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// EncodeError writes an error as JSON: as the result where there is none, else beside it, so that
// results are one document.
func (s *Screen) EncodeError(text string, exit int) {
	e := json.NewEncoder(s.Out)
	if s.encoded {
		e = json.NewEncoder(s.Err)
	} else {
		e.SetIndent("", "  ")
	}
	e.SetEscapeHTML(false)
	_ = e.Encode(map[string]any{"error": text, "exit": exit})
}

// Bytes renders a size in IEC units.
func Bytes(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }

// Count renders a number with its thousands apart.
func Count(n int64) string { return humanize.Comma(n) }

// Time renders a moment in the local zone with its offset.
func Time(t time.Time) string {
	if t.IsZero() {
		return "-"
	}
	return t.Local().Format("2006-01-02 15:04:05 -07:00")
}

// Precise renders a moment to the millisecond.
func Precise(t time.Time) string {
	if t.IsZero() {
		return "-"
	}
	return t.Local().Format("2006-01-02 15:04:05.000 -07:00")
}

// Clock renders a moment of today by its time alone, and any other in full.
func Clock(t time.Time) string {
	if y, m, d := t.Local().Date(); !t.IsZero() {
		if ny, nm, nd := time.Now().Date(); y == ny && m == nm && d == nd {
			return t.Local().Format("15:04:05")
		}
	}
	return Time(t)
}

// Long renders a length of time as it is configured: 7d, 10m, 36h.
func Long(d time.Duration) string {
	for _, u := range []struct {
		of   time.Duration
		name string
	}{{24 * time.Hour, "d"}, {time.Hour, "h"}, {time.Minute, "m"}, {time.Second, "s"}} {
		if d >= u.of && d%u.of == 0 {
			return fmt.Sprintf("%d%s", d/u.of, u.name)
		}
	}
	return Duration(d)
}

// Duration renders a length of time shortly: 2m14s, 3d4h, 180ms.
func Duration(d time.Duration) string {
	switch {
	case d < 0:
		return "-" + Duration(-d)
	case d < time.Millisecond:
		return d.Round(time.Microsecond).String()
	case d < time.Second:
		return d.Round(time.Millisecond).String()
	case d < 10*time.Second:
		return d.Round(100 * time.Millisecond).String()
	case d < time.Hour:
		return d.Round(time.Second).String()
	case d < 24*time.Hour:
		d = d.Round(time.Minute)
		return fmt.Sprintf("%dh%dm", d/time.Hour, d%time.Hour/time.Minute)
	}
	d = d.Round(time.Hour)
	return fmt.Sprintf("%dd%dh", d/(24*time.Hour), d%(24*time.Hour)/time.Hour)
}

// Plural renders a number with its noun: 1 record, 2 records.
func Plural(n int64, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return Count(n) + " " + noun + "s"
}
