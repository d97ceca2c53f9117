package engine

import (
	"fmt"
	"net/url"
	"slices"
	"sort"
	"strings"

	"github.com/agnivade/levenshtein"
)

var drivers = map[string]struct {
	name string
	d    Driver
}{}

// Register makes a driver known under its name and URI schemes. Drivers call it
// when their package is initialised; package engine/all imports all of them. It
// panics when the name or a scheme is taken.
func Register(name string, d Driver, schemes ...string) {
	for s, e := range drivers {
		if e.name == name || slices.Contains(schemes, s) {
			panic(fmt.Sprintf("engine %s (%s) is registered twice, or takes the scheme of engine %s", name,
				strings.Join(schemes, ", "), e.name))
		}
	}
	for _, s := range schemes {
		drivers[s] = struct {
			name string
			d    Driver
		}{name, d}
	}
}

// Schemes returns how addresses begin, in order.
func Schemes() []string {
	var out []string
	for s := range drivers {
		out = append(out, s+"://")
	}
	sort.Strings(out)
	return out
}

// ForAddress returns the driver for a connection address.
func ForAddress(address string) (name string, d Driver, err error) {
	scheme, _, ok := strings.Cut(address, "://")
	if e, found := drivers[scheme]; ok && found {
		return e.name, e.d, nil
	}
	return "", nil, fmt.Errorf("address %q: begins with none of the known schemes: %s", Redact(address),
		strings.Join(Schemes(), ", "))
}

// ForName returns the driver of a name, as points keep it.
func ForName(name string) (Driver, error) {
	for _, e := range drivers {
		if e.name == name {
			return e.d, nil
		}
	}
	return nil, fmt.Errorf("this version of dexamen has no engine %q", name)
}

// Redact takes a password out of an address.
func Redact(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		scheme, rest, _ := strings.Cut(address, "://")
		if i := strings.LastIndexByte(rest, '@'); i >= 0 {
			rest = rest[i+1:]
		}
		return scheme + "://" + rest
	}
	return u.Redacted()
}

// Nearest returns the names most like one that does not exist, the likeliest
// first: at most n.
func Nearest(name string, all []string, n int) []string {
	type scored struct {
		name string
		d    int
	}
	var s []scored
	for _, a := range all {
		d := levenshtein.ComputeDistance(strings.ToLower(name), strings.ToLower(a))
		if _, base, ok := strings.Cut(a, "."); ok {
			d = min(d, levenshtein.ComputeDistance(strings.ToLower(name), strings.ToLower(base))+1)
		}
		if strings.Contains(strings.ToLower(a), strings.ToLower(name)) ||
			strings.Contains(strings.ToLower(name), strings.ToLower(a)) {
			d = min(d, 2)
		}
		if d <= max(2, len(name)/4) {
			s = append(s, scored{a, d})
		}
	}
	slices.SortStableFunc(s, func(a, b scored) int {
		if a.d != b.d {
			return a.d - b.d
		}
		return strings.Compare(a.name, b.name)
	})
	var out []string
	for _, x := range s[:min(n, len(s))] {
		out = append(out, x.name)
	}
	return out
}
