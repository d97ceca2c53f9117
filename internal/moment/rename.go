package moment

import (
	"strings"
)

// Renamed returns what a name becomes, by the longest FROM that fits it.
func Renamed(rename map[string]string, name string) (from, to string, ok bool) {
	for f, t := range rename {
		if n, fits := renameOne(name, f, t); fits && (!ok || len(f) > len(from) || len(f) == len(from) && f < from) {
			from, to, ok = f, n, true
		}
	}
	return from, to, ok
}

// renameOne applies one renaming to a name.
func renameOne(name, from, to string) (string, bool) {
	if name == from {
		return to, true
	}
	head, tail := strings.TrimSuffix(from, "*"), strings.TrimSuffix(to, "*")
	if (head != from || strings.HasSuffix(from, ".") || strings.HasSuffix(from, "/") ||
		strings.HasSuffix(from, ":")) && strings.HasPrefix(name, head) {
		return tail + name[len(head):], true
	}
	return name, false
}
