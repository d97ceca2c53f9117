package explain

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Visible returns a text in which nothing can move a terminal's cursor, change the order of what is
// read, or begin a line: control characters, marks of direction, characters without width and
// bytes that are no UTF-8 are written as \u001b. What may begin lines is kept with lines.
func Visible(text string, lines bool) string {
	if !strings.ContainsFunc(text, func(r rune) bool { return hidden(r, lines) }) && utf8.ValidString(text) {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRuneInString(text[i:])
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02x`, text[i])
		case r > 0xffff && hidden(r, lines):
			fmt.Fprintf(&b, `\U%08x`, r)
		case hidden(r, lines):
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteString(text[i : i+size])
		}
		i += size
	}
	return b.String()
}

// hidden reports whether a character is not seen as itself. Joiners and selectors that write words
// and signs are kept.
func hidden(r rune, lines bool) bool {
	switch r {
	case '\n', '\t':
		return !lines
	case '\u200c', '\u200d': // joiners are part of how some scripts are written
		return false
	case '\u2028', '\u2029':
		return true
	}
	return unicode.Is(unicode.Cc, r) || unicode.Is(unicode.Cf, r)
}
