package config

import (
	"context"
	"errors"
	"fmt"

	"dexamen/internal/engine"
)

// CheckScratch sees whether a cluster can be another one's scratch server.
func (c *Config) CheckScratch(name, scratch string) error {
	there, ok := c.Clusters[scratch]
	of := c.Clusters[name].Address
	switch {
	case !ok:
		return UnknownError("cluster", scratch, Names(c.Clusters))
	case scratch == name || there.Address == of:
		return errors.New("what is on a scratch server is thrown away: it cannot be the cluster itself")
	case of == "" || there.Address == "":
		return nil // points of a cluster that is not configured any more
	}
	_, a, err1 := engine.ForAddress(of)
	_, b, err2 := engine.ForAddress(there.Address)
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	if a.Model().Traits().Commands && b != a {
		return fmt.Errorf("%s is of another kind than %s", scratch, name)
	}
	if !a.Model().Traits().Commands {
		return fmt.Errorf("%s needs none: its moments are made without a server", name)
	}
	return nil
}

// ScratchTarget is the target of a cluster's scratch server; ok is false where it
// has none. Named is used instead of what is configured, if not empty.
func (c *Config) ScratchTarget(ctx context.Context, name, named string) (t engine.Target, ok bool, err error) {
	cl := c.Clusters[name]
	if named == "" {
		named = cl.Scratch
	}
	if named == "" {
		return t, false, nil
	}
	if err := c.CheckScratch(name, named); err != nil {
		return t, false, err
	}
	t, err = c.Target(ctx, named)
	t.Options, t.Settings = cl.Options, false // names are those of the cluster
	return t, true, err
}

// IsScratch reports whether what is on a cluster is thrown away: it is another one's scratch server, or
// restores are rehearsed on it.
func (c *Config) IsScratch(name string) bool {
	for _, cl := range c.Clusters {
		if cl.Scratch == name {
			return true
		}
	}
	for _, p := range c.Policies {
		if p.Drill != nil && p.Drill.To == name {
			return true
		}
	}
	return false
}
