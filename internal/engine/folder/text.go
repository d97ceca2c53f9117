package folder

import (
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/dustin/go-humanize"
)

// quoted returns a path as people can read and paste it: as it is, or quoted where it has
// anything but text.
func quoted(p string) string {
	plain := utf8.ValidString(p) && !strings.ContainsFunc(p, func(r rune) bool { return !strconv.IsPrint(r) })
	if plain && p != "" {
		return p
	}
	return strconv.Quote(p)
}

func bytesOf(n int64) string { return humanize.IBytes(uint64(n)) }

func timeOf(ns int64) string { return time.Unix(0, ns).Local().Format("2006-01-02 15:04:05 -07:00") }

func plural(word string, n int) string {
	if n == 1 {
		return word
	}
	return word + "s"
}

// some names the first few paths.
func some(paths []string) string {
	const few = 5
	var out []string
	for _, p := range paths[:min(few, len(paths))] {
		out = append(out, quoted(p))
	}
	if len(paths) > few {
		out = append(out, "…")
	}
	return strings.Join(out, ", ")
}
