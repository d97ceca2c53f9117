package folder

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/folder/files"
)

// model implements [engine.Grouper] and [engine.RestoreRewriter].
type model struct{}

func (model) Apply([]byte, *record.Change, bool) ([]byte, error) {
	return nil, errors.New("folders have no log of changes")
}

func (model) Alter([]byte, *record.Change) ([]byte, error) {
	return nil, errors.New("folders have no log of changes")
}

func (model) Implied(string) (record.Kind, []byte) { return contentKind, nil }

// Traits implements [engine.Model].
func (model) Traits() engine.Traits { return engine.Traits{Incremental: true, Grouped: true} }

// CheckChange implements [engine.Model].
func (model) CheckChange(*record.Change) error { return nil }

// Kind implements [engine.Model].
func (model) Kind(string) record.Kind { return contentKind }

// Staged implements [engine.Model].
func (model) Staged(name string) bool { return strings.HasPrefix(name, files.HiddenPrefix) }

// CheckName implements [engine.Model].
func (model) CheckName(name string) error {
	if name == "" || name == "." || name == ".." || len(name) > 200 || strings.ContainsAny(name, "/\x00") ||
		strings.HasPrefix(name, files.HiddenPrefix) {
		return fmt.Errorf("%q is no name of a folder", name)
	}
	return nil
}

// GroupPrefix implements [engine.Grouper].
func (model) GroupPrefix(key []byte) []byte { return files.PrefixOf(key) }

// Label implements [engine.Model].
func (model) Label(value []byte) string {
	it, err := files.Parse(value)
	if err != nil {
		return "(not readable)"
	}
	return quoted(it.Path)
}

// Render implements [engine.Model].
func (model) Render(value []byte) string {
	it, err := files.Parse(value)
	if err != nil {
		return "(not readable)"
	}
	if it.Piece {
		return fmt.Sprintf("%s  piece at %s, %s", quoted(it.Path), bytesOf(it.Offset), bytesOf(int64(len(it.Data))))
	}
	size := ""
	switch {
	case it.LinkTo != "":
		size = "is " + quoted(it.LinkTo)
	case it.Kind == files.Symlink:
		size = "→ " + quoted(it.Target)
	case it.Kind == files.Regular:
		size = bytesOf(it.Size)
	default:
		size = it.Kind.String()
	}
	return fmt.Sprintf("%s  %s  %04o %d:%d  %s", quoted(it.Path), size, it.Mode, it.UID, it.GID,
		timeOf(it.MTime))
}

// Changes implements [engine.Model].
func (model) Changes(a, b []byte) []string {
	x, err1 := files.Parse(a)
	y, err2 := files.Parse(b)
	if err1 != nil || err2 != nil {
		return []string{"not readable"}
	}
	var out []string
	differ := func(what string, a, b any) {
		if fa, fb := fmt.Sprint(a), fmt.Sprint(b); fa != fb {
			out = append(out, what+": "+fa+" > "+fb)
		}
	}
	if !x.Piece {
		differ("kind", x.Kind, y.Kind)
		differ("size", bytesOf(x.Size), bytesOf(y.Size))
		if x.Size != y.Size && len(out) == 0 {
			differ("size", x.Size, y.Size)
		}
		differ("mode", fmt.Sprintf("%04o", x.Mode), fmt.Sprintf("%04o", y.Mode))
		differ("owner", fmt.Sprint(x.UID, ":", x.GID), fmt.Sprint(y.UID, ":", y.GID))
		differ("target", quoted(x.Target), quoted(y.Target))
		differ("hard link of", quoted(x.LinkTo), quoted(y.LinkTo))
		if !slices.Equal(x.Attributes, y.Attributes) {
			out = append(out, "extended attributes")
		}
		if x.Sparse != y.Sparse {
			out = append(out, "holes")
		}
		if x.MTime != y.MTime {
			const form = "2006-01-02 15:04:05.000000000"
			differ("written", time.Unix(0, x.MTime).Format(form), time.Unix(0, y.MTime).Format(form))
		}
	}
	if !bytes.Equal(x.Data, y.Data) {
		out = append(out, "content")
	}
	return out
}

// Describe implements [engine.Model].
func (model) Describe(def []byte) []string {
	var d definition
	if json.Unmarshal(def, &d) != nil {
		return []string{"(not readable)"}
	}
	out := []string{fmt.Sprintf("mode %04o, owner %d:%d", d.Mode, d.UID, d.GID)}
	for _, a := range d.Attributes {
		out = append(out, "extended attribute "+quoted(a.Name))
	}
	if len(d.Only) > 0 {
		out = append(out, "only "+strings.Join(d.Only, ", "))
	}
	if len(d.LeaveOut) > 0 {
		out = append(out, "without "+strings.Join(d.LeaveOut, ", "))
	}
	return out
}

// Portable implements [engine.Model]: when a folder was written to last is of no account,
// nor which files are taken.
func (model) Portable(def []byte) []byte {
	var d definition
	if json.Unmarshal(def, &d) != nil {
		return def
	}
	d.MTime, d.Only, d.LeaveOut = 0, nil, nil
	b, err := json.Marshal(d)
	if err != nil {
		return def
	}
	return b
}

// FormatPosition implements [engine.Model].
func (model) FormatPosition(p record.Position) string { return p.Hex() }

// ParsePosition implements [engine.Model].
func (model) ParsePosition(string) (record.Position, error) {
	return "", errors.New("folders have no log, and no positions")
}

// RewriteForRestore implements [engine.RestoreRewriter].
func (model) RewriteForRestore(chosen map[string]string, value []byte) (out []byte, keep bool, note string) {
	pattern := chosen["files"]
	if pattern == "" {
		return value, true, ""
	}
	it, err := files.Parse(value)
	if err != nil {
		return value, true, ""
	}
	r := files.Rules{Only: []string{pattern}}
	if r.Takes(it.Path, it.Kind == files.Folder && !it.Piece) {
		return value, true, ""
	}
	return nil, false, "that do not fit " + pattern + " are left out"
}
