// Package folder protects folders of files, on this machine and on others over SSH: of
// servers whose kind has no adapter, and where a copy of files comes back fastest.
//
//	folder.go    driver, addresses, options
//	cluster.go   what there is
//	revisit.go   what has changed is read
//	clone.go     where file systems can, clones are read instead of it
//	hold.go      what writes is held still meanwhile
//	writer.go    restoring
//	model.go     what records mean
//
// A namespace is a folder. A record is a file, or a piece of a large one (package files).
package folder

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"path"
	"strings"

	"dexamen/internal/engine"
	"dexamen/internal/engine/folder/files"
	"dexamen/internal/engine/folder/sshhost"
)

func init() { engine.Register("folder", Driver{}, "file", "ssh") }

// Driver implements [engine.Driver].
type Driver struct{}

// Model implements [engine.Driver].
func (Driver) Model() engine.Model { return model{} }

// Options implements [engine.OptionLister].
func (Driver) Options() []engine.Option {
	patterns := func(v any) error {
		list, err := texts(v)
		for _, p := range list {
			if err == nil {
				err = files.CheckPattern(p)
			}
		}
		return err
	}
	return []engine.Option{
		{Name: "also", Usage: "more folders of the cluster, by their addresses; all are held still together",
			Check: func(v any) error {
				list, err := texts(v)
				for _, a := range list {
					if err == nil {
						_, err = parseAddress(a)
					}
				}
				return err
			}},
		{Name: "elevate", Usage: "a command that the program is run through on other hosts, such as [sudo, -n], for " +
			"files that the user may not read",
			Check: func(v any) error { _, err := texts(v); return err }},
		{Name: "leave_out", Usage: "patterns of files that are left out: *.tmp, cache/**", Check: patterns},
		{Name: "only", Usage: "patterns of files, of which some must fit", Check: patterns},
		{Name: "program", Usage: "where the program is on other hosts; it is put there for the time of the work " +
			"when absent", Check: text},
		sshhost.KeyOption, sshhost.KnownHostsOption,
	}
}

// RestoreOptions implements [engine.RestoreChooser].
func (Driver) RestoreOptions() []engine.RestoreOption {
	return []engine.RestoreOption{
		{Name: "files", Usage: "of folders: restore only files that fit this `PATTERN`, such as letters/**/*.jpg, " +
			"beside what is there"},
		{Name: "in-use", Usage: "of folders that a server has open: refuse to replace them, or ignore that",
			Values: []string{"refuse", "ignore"}},
	}
}

func text(v any) error {
	if s, ok := v.(string); !ok || s == "" {
		return fmt.Errorf("%v is no text", v)
	}
	return nil
}

// texts reads a list of texts, or one.
func texts(v any) ([]string, error) {
	switch v := v.(type) {
	case nil:
		return nil, nil
	case string:
		return []string{v}, nil
	case []string:
		return v, nil
	case []any:
		var out []string
		for _, x := range v {
			s, ok := x.(string)
			if !ok || s == "" {
				return nil, fmt.Errorf("%v is no text", x)
			}
			out = append(out, s)
		}
		return out, nil
	}
	return nil, fmt.Errorf("%v is no list of texts", v)
}

// location is where a folder is.
type location struct {
	user, host, port string // of this machine: none
	path             string
	// holds: the folders are those in it.
	holds bool
}

func (l location) where() string {
	if l.host == "" {
		return "this machine"
	}
	return l.host
}

func parseAddress(address string) (location, error) {
	bad := func(what string) (location, error) {
		return location{}, fmt.Errorf(
			"address %q: %s, as in file:///srv/comb/photos or ssh://keeper@shed:22/srv/comb/photos",
			engine.Redact(address), what)
	}
	u, err := url.Parse(address)
	if err != nil {
		return bad("is not one")
	}
	if _, with := u.User.Password(); with {
		return bad("a password does not belong in it; name the secret under login")
	}
	l := location{user: u.User.Username(), host: u.Hostname(), port: u.Port(), path: path.Clean(u.Path),
		holds: strings.HasSuffix(u.Path, "/")}
	switch {
	case u.Scheme == "file" && u.Host != "":
		return bad("names a host; a folder of another machine begins with ssh://")
	case u.Scheme == "ssh" && u.Hostname() == "":
		return bad("names no host")
	case !path.IsAbs(u.Path):
		return bad("names no folder by its whole path")
	case l.path == "/" && !l.holds:
		return bad("names no folder")
	}
	return l, nil
}

// Open implements [engine.Driver].
func (Driver) Open(ctx context.Context, t engine.Target) (_ engine.Cluster, err error) {
	also, err := texts(t.Options["also"])
	if err != nil {
		return nil, err
	}
	c := &cluster{target: t, unfinished: map[string]*place{}, pieces: map[string]int64{}}
	defer func() {
		if err != nil {
			_ = c.Close()
		}
	}()
	hosts := map[location]files.Host{}
	for _, a := range append([]string{t.Address}, also...) {
		l, err := parseAddress(a)
		if err != nil {
			return nil, err
		}
		machine := location{user: l.user, host: l.host, port: l.port}
		h := hosts[machine]
		if h == nil {
			if h, err = openHost(ctx, t, l); err != nil {
				return nil, err
			}
			hosts[machine] = h
			c.hosts = append(c.hosts, h)
		}
		c.places = append(c.places, &place{location: l, host: h})
	}
	if c.rules.LeaveOut, err = texts(t.Options["leave_out"]); err != nil {
		return nil, err
	}
	if c.rules.Only, err = texts(t.Options["only"]); err != nil {
		return nil, err
	}
	for _, p := range c.places {
		if err := p.check(ctx); err != nil {
			return nil, err
		}
	}
	return c.asPinned(ctx)
}

func openHost(ctx context.Context, t engine.Target, l location) (files.Host, error) {
	if l.host == "" {
		return files.NewLocal()
	}
	elevate, err := texts(t.Options["elevate"])
	if err != nil {
		return nil, err
	}
	program, _ := t.Options["program"].(string)
	user := l.user
	if user == "" {
		user = t.User
	}
	return sshhost.Open(ctx, sshhost.Options{Host: l.host, Port: l.port, User: user, Target: t, Elevate: elevate,
		Program: program})
}

// check refuses a place that is not there: an empty copy of a folder that is not mounted
// is worth nothing. One whose folder does not exist yet can be restored to.
func (p *place) check(ctx context.Context) error {
	at, err := p.host.Resolve(ctx, p.path)
	if err == nil {
		p.name, p.path = path.Base(p.path), at
		_, err = p.host.Stat(ctx, p.path, "")
	}
	if errors.Is(err, files.ErrNoFolder) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("%w: %s: %w", engine.ErrUnreachable, p.where(), err)
	}
	return nil
}
