package view

import (
	"bytes"
	"errors"
	"strings"
	"testing"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/stretchr/testify/require"
)

// hostile are names that would move the cursor, paint, hide, reorder or begin a line.
var hostile = []string{"apiary\x1b[2K\x1b[1Acombs", "combs\nwell  apiary.hives  0 differ", "combs\rwell",
	"\x9b31mcombs",
	"combs\u202egnp.exe", "com\u200bbs", "combs\x7f\x07", "\x1b]0;title\x07", "\xff\xfecombs", "a\u2028b",
	"\x1b[36mcombs\x1b[0m", "combs\u2066", "tab\tbed"}

// TestNamesCannotWriteOnTheScreen: whatever a name holds, a line of results is one line, and nothing
// in it is a control character but what the program painted itself.
func TestNamesCannotWriteOnTheScreen(t *testing.T) {
	for _, color := range []bool{false, true} {
		for _, name := range hostile {
			var out, beside bytes.Buffer
			s := &Screen{Out: clean{&out}, Err: clean{&beside}, Color: color, Width: 200, Bounded: true}
			s.Line("%s  %s", name, s.Accent(name))
			s.Line("%s, %v", s.Loss(name), text.Pad(s.Faint(name), 80, ' '))
			tab := s.Table("name", ">records")
			tab.Row(name, 12)
			tab.Row(s.Accent("x"+name), s.Loss("13"))
			tab.Print(2)
			s.Note("! %s: %v", name, errors.New(name))
			require.Equal(t, 5, strings.Count(out.String(), "\n"), "%q: %q", name, out.String())
			require.Equal(t, color, strings.Contains(out.String(), "\x1b[36m"), "%q", out.String())
			left := out.String() + beside.String()
			for _, ours := range []string{"\x1b[36m", "\x1b[31m", "\x1b[2m", "\x1b[0m", "\n"} {
				left = strings.ReplaceAll(left, ours, "")
			}
			for _, r := range left {
				require.False(t, r < ' ' || r >= 0x7f && r < 0xa0 || r == 0xfffd ||
					strings.ContainsRune("\u202e\u2066\u2028\u200b", r),
					"%q of %q is written raw: %q", r, name, left)
			}
			if color { // what it would paint itself is seen, and does not count as painted
				require.Equal(t, strings.Count(out.String(), "\x1b[0m"), strings.Count(out.String(), "\x1b[36m")+
					strings.Count(out.String(), "\x1b[31m")+strings.Count(out.String(), "\x1b[2m"), "%q", out.String())
			}
		}
	}
}

// TestPaintKeepsWidths: what is painted takes as much room as what is not.
func TestPaintKeepsWidths(t *testing.T) {
	s := &Screen{Color: true}
	require.Equal(t, 5, text.StringWidthWithoutEscSequences(s.Accent("combs")))
	require.Equal(t, "\x1b[36mcom\x1b[0m", s.Rendered(text.Trim(s.Accent("combs"), 3)))
}
