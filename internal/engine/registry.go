package engine

import (
	"errors"
	"fmt"
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

// Parametered is a Driver whose addresses may have parameters behind a question mark.
type Parametered interface {
	Driver
	// Parameters lists their names. None of them may hold a secret.
	Parameters() []string
}

// CheckAddress returns an error where an address holds a password, or something that its driver does
// not know: what is passed on unread may be a secret, or take a safeguard away.
func CheckAddress(d Driver, address string) error {
	if Redact(address) != address && strings.Contains(userinfo(address), ":") {
		return errors.New("holds a password; put it where login.secret names it: in the environment, a file " +
			"or a command")
	}
	if strings.Contains(address, "#") {
		return errors.New("holds a #, which no address has")
	}
	_, query, with := strings.Cut(address, "?")
	if !with {
		return nil
	}
	var known []string
	if p, ok := d.(Parametered); ok {
		known = p.Parameters()
	}
	for pair := range strings.SplitSeq(query, "&") {
		name, _, _ := strings.Cut(pair, "=")
		if name == "" || slices.ContainsFunc(known, func(k string) bool { return strings.EqualFold(k, name) }) {
			continue
		}
		if len(known) == 0 {
			return fmt.Errorf("has a parameter %q; addresses of this kind have none", name)
		}
		return fmt.Errorf("has a parameter %q; those that may be there are %s. What concerns login, TLS and "+
			"which member "+
			"is read stands under login, tls and prefer", name, strings.Join(known, ", "))
	}
	return nil
}

func userinfo(address string) string {
	_, rest, _ := strings.Cut(address, "://")
	rest, _, _ = strings.Cut(rest, "?")
	if i := strings.LastIndexByte(rest, '@'); i >= 0 {
		return rest[:i]
	}
	return ""
}

// Redact takes what may be a secret out of an address: a password, and the values of parameters that
// no driver knows.
func Redact(address string) string {
	scheme, rest, ok := strings.Cut(address, "://")
	if !ok {
		return address
	}
	if user := userinfo(address); user != "" {
		name, _, password := strings.Cut(user, ":")
		if password {
			name += ":xxxxx"
		}
		rest = name + rest[len(user):]
	}
	rest, query, with := strings.Cut(rest, "?")
	if !with {
		return scheme + "://" + rest
	}
	var known []string
	if e, found := drivers[scheme]; found {
		if p, ok := e.d.(Parametered); ok {
			known = p.Parameters()
		}
	}
	pairs := strings.Split(query, "&")
	for i, pair := range pairs {
		name, _, value := strings.Cut(pair, "=")
		if value && !slices.ContainsFunc(known, func(k string) bool { return strings.EqualFold(k, name) }) {
			pairs[i] = name + "=xxxxx"
		}
	}
	return scheme + "://" + rest + "?" + strings.Join(pairs, "&")
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
