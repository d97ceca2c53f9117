package view

import (
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"io"
	"regexp"
	"strings"

	"dexamen/internal/explain"
)

// What is painted is marked with sequences that nobody else can have written: names and texts come
// from servers and files, and may hold sequences of their own. Where results are written the marks
// become what terminals know, and all else is made visible.
var (
	// Digits alone: what counts widths takes a mark for a sequence.
	secret = func() string {
		var b [8]byte
		_, _ = rand.Read(b[:])
		return fmt.Sprintf("%020d", binary.LittleEndian.Uint64(b[:]))
	}()
	marks = regexp.MustCompile("\x1b\\[([0-9]+);" + secret + "m")
)

// mark returns the mark of a colour or another rendition (ECMA-48, SGR).
func mark(rendition int) string { return fmt.Sprintf("\x1b[%d;%sm", rendition, secret) }

// visible makes a text visible, and keeps what marks what is painted.
func visible(text string, lines bool) string {
	if !strings.Contains(text, secret) {
		return explain.Visible(text, lines)
	}
	var b strings.Builder
	for at := marks.FindStringIndex(text); at != nil; at = marks.FindStringIndex(text) {
		b.WriteString(explain.Visible(text[:at[0]], lines))
		b.WriteString(text[at[0]:at[1]])
		text = text[at[1]:]
	}
	b.WriteString(explain.Visible(text, lines))
	return b.String()
}

// shown returns arguments of a format with their texts made visible, line ends included.
func shown(args []any) []any {
	out := make([]any, len(args))
	for i, a := range args {
		switch v := a.(type) {
		case string:
			out[i] = visible(v, false)
		case error:
			// An error of several causes has one a line.
			out[i] = strings.NewReplacer("\n", "\n    ", "\t", `\u0009`).Replace(visible(v.Error(), true))
		case fmt.Stringer:
			out[i] = visible(v.String(), false)
		default:
			out[i] = a
		}
	}
	return out
}

// clean writes texts so that all in them can be seen.
type clean struct{ to io.Writer }

func (c clean) Write(p []byte) (int, error) {
	if _, err := io.WriteString(c.to, rendered(string(p), true)); err != nil {
		return 0, err
	}
	return len(p), nil
}

// rendered returns a text as it is written to a terminal.
func rendered(text string, lines bool) string {
	return marks.ReplaceAllString(visible(text, lines), "\x1b[${1}m")
}

// Rendered returns a line as it is written to a terminal by what draws a screen itself.
func (s *Screen) Rendered(line string) string { return rendered(line, false) }
