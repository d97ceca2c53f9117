package engine

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Option is something that only the clusters of some engine can be told: an entry
// under options: of a cluster's configuration.
type Option struct {
	Name string
	// Usage says for people what it does.
	Usage string
	// Check returns an error where a value, as YAML gives it, is not one.
	Check func(value any) error
}

// OptionLister is a Driver with options of its own.
type OptionLister interface {
	Driver
	// Options lists them in order of their names.
	Options() []Option
}

// CheckOption returns an error where a driver's clusters have no such option, or
// it cannot have this value.
func CheckOption(d Driver, name string, value any) error {
	var known []string
	if l, ok := d.(OptionLister); ok {
		for _, o := range l.Options() {
			if o.Name == name {
				return o.Check(value)
			}
			known = append(known, o.Name)
		}
	}
	if len(known) == 0 {
		return errors.New("clusters of this kind have no options")
	}
	return fmt.Errorf("is no option of clusters of this kind; theirs are %s", strings.Join(known, ", "))
}

// IntOption returns an option that is a whole number from least to most, and what
// reads it from a target; unset is the value without it.
func IntOption(name, usage string, least, most, unset int) (Option, func(Target) int) {
	number := func(v any) (int, bool) {
		switch v := v.(type) {
		case int:
			return v, true
		case int64:
			return int(v), true
		case uint64:
			return int(v), v < 1<<31
		}
		return 0, false
	}
	check := func(v any) error {
		if n, ok := number(v); !ok || n < least || n > most {
			return fmt.Errorf("%v is not a whole number from %d to %d", v, least, most)
		}
		return nil
	}
	return Option{name, usage, check}, func(t Target) int {
		if n, ok := number(t.Options[name]); ok {
			return n
		}
		return unset
	}
}

// BoolOption returns an option that is on or off, and what reads it from a target.
func BoolOption(name, usage string) (Option, func(Target) bool) {
	check := func(v any) error {
		if _, ok := v.(bool); !ok {
			return fmt.Errorf("%v is neither true nor false", v)
		}
		return nil
	}
	return Option{name, usage, check}, func(t Target) bool {
		on, _ := t.Options[name].(bool)
		return on
	}
}

// RestoreOption is a choice about restoring that only some engine has. It becomes
// a flag of the command that restores.
type RestoreOption struct {
	Name  string
	Usage string
	// Values are what can be chosen; the first is what is done when nothing is. Without
	// any it is a text.
	Values []string
}

// Default returns what is chosen when nothing is.
func (o *RestoreOption) Default() string {
	if len(o.Values) == 0 {
		return ""
	}
	return o.Values[0]
}

// RestoreChooser is a Driver whose restores have choices of their own.
type RestoreChooser interface {
	Driver
	RestoreOptions() []RestoreOption
}

// RestoreOptions returns the choices of all registered drivers, in order of their
// names.
func RestoreOptions() []RestoreOption {
	var out []RestoreOption
	for _, e := range drivers {
		r, ok := e.d.(RestoreChooser)
		if !ok {
			continue
		}
		for _, o := range r.RestoreOptions() {
			if !slices.ContainsFunc(out, func(p RestoreOption) bool { return p.Name == o.Name }) {
				out = append(out, o)
			}
		}
	}
	slices.SortFunc(out, func(a, b RestoreOption) int { return strings.Compare(a.Name, b.Name) })
	return out
}
