package config

import (
	"fmt"
	"slices"
	"strings"

	"dexamen/internal/core/address"
)

// Unprotected is something in a configuration by which nothing is protected, though somebody may
// think that it is.
type Unprotected struct {
	Store   string `json:"store,omitempty"` // it would be in
	Policy  string `json:"policy,omitempty"`
	Cluster string `json:"cluster,omitempty"`
	Text    string `json:"text"`
}

// Unprotected lists policies, names and labels that choose no cluster, and clusters that no policy
// chooses. Scratch servers are nobody's loss, and neither is a cluster that says `unprotected: true`.
func (c *Config) Unprotected() (out []Unprotected) {
	if len(c.Policies) == 0 {
		return nil
	}
	chosen := map[string]bool{}
	for name, p := range sorted(c.Policies) {
		for _, cl := range c.Protected(p) {
			chosen[cl] = true
		}
		add := func(text string, args ...any) {
			st, _ := c.StoreFor(p, "")
			out = append(out, Unprotected{Store: c.someStore(st), Policy: name,
				Text: "policy " + name + ": " + fmt.Sprintf(text, args...)})
		}
		if len(p.Clusters.Labels) > 0 && len(c.Protected(p)) == 0 {
			var want []string
			for k, v := range p.Clusters.Labels {
				want = append(want, k+"="+v)
			}
			slices.Sort(want)
			add("no cluster has the label %s, so that it protects nothing; %s", strings.Join(want, " and "),
				c.labelsInUse())
		}
		for _, pattern := range p.Clusters.Names {
			fits := func(n string) bool { return address.Match(pattern, n) && !c.IsScratch(n) }
			if !address.Literal(pattern) && !slices.ContainsFunc(Names(c.Clusters), fits) {
				add("%q fits none of the clusters (%s), so that it protects nothing", pattern,
					strings.Join(Names(c.Clusters), ", "))
			}
		}
	}
	for name, cl := range sorted(c.Clusters) {
		if !chosen[name] && !cl.Unprotected && !c.IsScratch(name) {
			out = append(out, Unprotected{Store: c.someStore(cl.Store), Cluster: name,
				Text: fmt.Sprintf("cluster %s is protected by no policy; where that is meant, say so: "+
					"unprotected: true", name)})
		}
	}
	return out
}

// someStore returns a store, or the first where none is named.
func (c *Config) someStore(name string) string {
	if names := Names(c.Stores); name == "" && len(names) > 0 {
		return names[0]
	}
	return name
}

func (c *Config) labelsInUse() string {
	var in []string
	for _, cl := range c.Clusters {
		for k, v := range cl.Labels {
			in = append(in, k+"="+v)
		}
	}
	slices.Sort(in)
	if in = slices.Compact(in); len(in) == 0 {
		return "no cluster has any label"
	}
	return "labels in use: " + strings.Join(in, ", ")
}
