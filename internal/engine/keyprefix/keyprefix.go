// Package keyprefix cuts the keys of key-value clusters into namespaces by how they
// begin, and shows keys to people.
package keyprefix

import (
	"bytes"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Cut cuts the keys of a key-value cluster into namespaces by how they
// begin. What a name stands for depends on the name alone, so that a point can
// be restored whatever depth its target is configured with:
//
//	all     every key
//	top     the keys without a separator
//	a/b/    every key that begins so
//	a/b     the keys a/b/X with no further separator in X
//	/       the keys /X with no further separator in X
//
// A separator that a key begins with belongs to its first segment. Bytes that do
// not print, those with a meaning in patterns, and the first of a prefix that
// reads all or top, are written as %XX.
type Cut struct {
	Sep   byte
	Depth int
}

// The names of namespaces that are no beginning of keys.
const (
	allKeys = "all"
	topKeys = "top"
)

// Name returns the namespace of a key.
func (p Cut) Name(key []byte) string {
	if p.Depth == 0 {
		return allKeys
	}
	end, last := 0, -1
	for n := 0; n < p.Depth; n++ {
		from := end
		if n == 0 && len(key) > 0 && key[0] == p.Sep {
			from, last = 1, 0
		}
		i := bytes.IndexByte(key[from:], p.Sep)
		if i < 0 {
			switch {
			case last < 0:
				return topKeys
			case last == 0:
				return string(p.Sep)
			}
			flat := escapePrefix(key[:last])
			if flat[len(flat)-1] == p.Sep { // or it would read as the prefix itself
				flat = fmt.Sprintf("%s%%%02X", flat[:len(flat)-1], p.Sep)
			}
			return flat
		}
		last = from + i
		end = last + 1
	}
	return escapePrefix(key[:end])
}

// Range returns how the keys of a namespace begin. Flat: no separator follows.
func (p Cut) Range(name string) (prefix []byte, flat bool, err error) {
	switch name {
	case allKeys:
		return nil, false, nil
	case topKeys:
		return nil, true, nil
	case string(p.Sep):
		return []byte{p.Sep}, true, nil
	}
	text, err := url.PathUnescape(name)
	if err != nil || text == "" {
		return nil, false, fmt.Errorf(
			"%q is no beginning of keys: %s, %s, a prefix that ends in %q, or one without it for the keys right below",
			name, allKeys, topKeys, p.Sep)
	}
	if name[len(name)-1] != p.Sep {
		return append([]byte(text), p.Sep), true, nil
	}
	return []byte(text), false, nil
}

// Holds reports whether a key belongs to a namespace of this prefix.
func (p Cut) Holds(prefix []byte, flat bool, key []byte) bool {
	return bytes.HasPrefix(key, prefix) && (!flat || bytes.IndexByte(key[len(prefix):], p.Sep) < 0)
}

func escapePrefix(b []byte) string {
	plain := func(r rune) bool { return r >= ' ' && r != 0x7F && !strings.ContainsRune(`%*?[]\{}`, r) }
	var out strings.Builder
	for _, r := range string(bytes.ToValidUTF8(b, []byte{0})) {
		if !plain(r) {
			out.Reset()
			break
		}
		out.WriteRune(r)
	}
	if s := out.String(); s != "" && s != allKeys && s != topKeys {
		return s
	}
	out.Reset()
	for i, c := range b {
		if i > 0 && c < 0x7F && plain(rune(c)) {
			out.WriteByte(c)
		} else {
			fmt.Fprintf(&out, "%%%02X", c)
		}
	}
	return out.String()
}

// End returns the first key after all that begin so; nil when there is none.
func End(prefix []byte) []byte {
	end := bytes.Clone(prefix)
	for i := len(end) - 1; i >= 0; i-- {
		if end[i] < 0xFF {
			end[i]++
			return end[:i+1]
		}
	}
	return nil
}

// Model is what Models of key-value clusters have in common: a namespace is
// defined by a line of text, or not at all.
type Model struct{}

// Describe returns the definition's line.
func (Model) Describe(def []byte) []string {
	if len(def) == 0 {
		return nil
	}
	return []string{string(def)}
}

// Portable returns the definition as it is.
func (Model) Portable(def []byte) []byte { return def }

// Shown returns at most so many bytes of a key or value for people, in quotes where
// they do not all print; spaces says whether a space prints.
func Shown(b []byte, most int, spaces bool) string {
	more := ""
	if len(b) > most {
		b, more = b[:most], "…"
	}
	hidden := func(r rune) bool { return !unicode.IsPrint(r) || r == ' ' && !spaces }
	if utf8.Valid(b) && len(b) > 0 && strings.IndexFunc(string(b), hidden) < 0 {
		return string(b) + more
	}
	return strconv.Quote(string(b)) + more
}
