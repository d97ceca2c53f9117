package fold

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"dexamen/internal/core/record"
)

// Untracked is a namespace that is there and whose content is not known.
type Untracked struct {
	Name string
	// Why says which change was not understood; empty of what was renamed to a name that is chosen.
	Why string
	// Wall is the time of that change, in milliseconds since 1970.
	Wall int64
	// left: it was left out from the beginning.
	left bool
	kind record.Kind
}

// Choose has the fold give only namespaces whose names are chosen. What the log
// creates is followed whatever its name: it may be renamed to a chosen one. Of
// what was there before under a name that is not chosen the content is not
// known: when it is renamed to a chosen name it stays out, and Untracked names
// it.
func (f *Fold) Choose(chosen func(name string) bool) {
	f.chosen = chosen
	if f.strange == nil {
		f.strange = map[string]Untracked{}
	}
}

// LeaveOut has the fold take nothing of what has a name at the beginning: it was left out of the bases, as it could
// not be taken. What is created under the name later is another.
func (f *Fold) LeaveOut(name string) {
	f.chooseAll()
	f.strange[name] = Untracked{Name: name, left: true}
}

func (f *Fold) chooseAll() {
	if f.chosen == nil {
		f.Choose(func(string) bool { return true })
	}
}

// Untracked lists, in order of names, what was renamed to a chosen name, and what was changed in a way that is
// not understood, and is there still.
func (f *Fold) Untracked() []Untracked {
	list := slices.SortedFunc(maps.Values(f.strange),
		func(a, b Untracked) int { return strings.Compare(a.Name, b.Name) })
	return slices.DeleteFunc(list, func(u Untracked) bool { return u.left })
}

// lose ends what a change was made to that is not understood: what is created later is known again.
func (f *Fold) lose(c *record.Change) {
	f.chooseAll()
	why := fmt.Sprintf("an entry at %s is not understood (%s)", entry(c.At, c.Wall), c.Value)
	lost := func(n *Namespace) {
		f.end(n)
		if !n.aside {
			f.strange[n.Name] = Untracked{Name: n.Name, Why: why, Wall: c.Wall, kind: n.Kind}
		}
	}
	if prefix := string(c.Key); prefix != "" {
		if f.doubtful == nil {
			f.doubtful = map[string]Untracked{}
		}
		f.doubtful[prefix] = Untracked{Why: why, Wall: c.Wall}
		for _, n := range f.all {
			if !n.gone && strings.HasPrefix(n.Name, prefix) {
				lost(n)
			}
		}
		return
	}
	_, known := f.strange[c.Namespace]
	if n := f.find(c); n != nil && !n.gone {
		lost(n)
	} else if n == nil && !known && f.chosen(c.Namespace) {
		f.strange[c.Namespace] = Untracked{Name: c.Namespace, Why: why, Wall: c.Wall}
	}
}

// suspect notes a name that something may have come by which was not understood.
func (f *Fold) suspect(c *record.Change) {
	_, known := f.strange[c.Namespace]
	if known || c.Op == record.Create || !f.chosen(c.Namespace) {
		return
	}
	for prefix, u := range f.doubtful {
		if strings.HasPrefix(c.Namespace, prefix) {
			u.Name = c.Namespace
			f.strange[c.Namespace] = u
		}
	}
}

// foreign reports whether a change is about what is not followed.
func (f *Fold) foreign(c *record.Change, n *Namespace) bool {
	if f.chosen == nil || n != nil && !n.gone {
		return false
	}
	f.suspect(c)
	was, strange := f.strange[c.Namespace]
	switch {
	case c.Op == record.Rename:
		if !strange && f.chosen(c.Namespace) {
			return false
		}
		delete(f.strange, c.Namespace)
		if f.chosen(c.To) {
			if old := f.names[c.To]; old != nil {
				f.end(old)
			}
			f.strange[c.To] = Untracked{Name: c.To, Why: was.Why, Wall: was.Wall}
		}
	case c.Op == record.Create:
		delete(f.strange, c.Namespace)
		return false
	case strange:
		if c.Op == record.Drop {
			delete(f.strange, c.Namespace)
		}
	default:
		return !f.chosen(c.Namespace)
	}
	return true
}
