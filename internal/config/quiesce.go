package config

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/address"
	"dexamen/internal/engine"
)

// Quiesce is a way to hold still what writes to a kind of clusters while they are copied.
type Quiesce struct {
	AppliesTo AppliesTo `yaml:"applies_to"`
	// Begin and End are commands, which run on the machines of the folders, elevated as
	// the cluster's options say, or, with here, on this one. Check succeeds while it is held.
	Begin []string `yaml:"begin"`
	End   []string `yaml:"end"`
	Check []string `yaml:"check"`
	Here  bool     `yaml:"here"`
	// Cluster is another cluster, whose servers write to the folders: they are held still
	// by means of their own; Members are those of them that are, all where absent.
	Cluster string   `yaml:"cluster"`
	Members []string `yaml:"members"`
	// Clone is how clones of the folders are made while they are held still; these are read
	// then. Not needed where file systems clone files.
	Clone *Clone `yaml:"clone"`
	// Longest is how long it may last (default 1m).
	Longest Duration `yaml:"longest"`
}

// Clone is how a clone of folders is made, by a volume manager for instance. In commands
// and in At, {folder} is a folder's path.
type Clone struct {
	Make   []string `yaml:"make"`
	Remove []string `yaml:"remove"` // does no harm where there is none
	At     string   `yaml:"at"`     // where the clone of a folder is
}

// AppliesTo says which clusters a way to quiesce is for: all that is given must fit.
type AppliesTo struct {
	Kind  string `yaml:"kind"` // the engine's name
	Label string `yaml:"label"`
	Name  string `yaml:"name"` // or a glob
	// Version is the oldest of the servers that write, of the cluster that Quiesce names.
	Version string `yaml:"version"`
}

// Server is how a server is started on what was restored of a folder. In commands {folder}
// is its path; they run on the machine that has it.
type Server struct {
	// Start is a command that starts one and returns, Ready one that succeeds when it is.
	Start  []string `yaml:"start"`
	Ready  []string `yaml:"ready"`
	Within Duration `yaml:"within"` // default 1m
}

func (c *Config) checkServers(k *checker) {
	for name, s := range sorted(c.Servers) {
		if len(s.Start) == 0 {
			k.bad("$.servers."+name, "has no command under start")
		}
	}
}

// none is what a cluster says for itself that is not to be held still.
const none = "none"

const longestHold = time.Minute

func (a AppliesTo) empty() bool { return a.Kind == "" && a.Label == "" && a.Name == "" }

// Fits reports whether a cluster is one that it is for.
func (a AppliesTo) Fits(name string, cl Cluster) bool {
	if a.empty() {
		return false
	}
	kind, _, err := engine.ForAddress(cl.Address)
	k, v, _ := strings.Cut(a.Label, "=")
	return err == nil && (a.Kind == "" || a.Kind == kind) && (a.Label == "" || cl.Labels[k] == v) &&
		(a.Name == "" || address.Match(a.Name, name))
}

// quiescible are the engines whose clusters are held still by what the configuration says.
const quiescible = "folder"

func (c *Config) checkQuiesce(k *checker) {
	for name, q := range sorted(c.Quiesce) {
		at := "$.quiesce." + name
		switch commands := len(q.Begin) > 0 && len(q.End) > 0; {
		case name == none:
			k.bad(at, "cannot be called %s, by which clusters say that they are not held still", none)
		case q.Cluster != "" && (len(q.Begin)+len(q.End)+len(q.Check) > 0 || q.Here):
			k.bad(at, "give either cluster, or the commands begin and end")
		case q.Cluster == "" && !commands:
			k.bad(at, "give the commands begin and end, or the cluster whose servers write to the folders")
		case len(q.Members) > 0 && q.Cluster == "":
			k.bad(at+".members", "are of a cluster, which is not given")
		}
		if q.Cluster != "" {
			if _, ok := c.Clusters[q.Cluster]; !ok {
				k.bad(at+".cluster", "%v", UnknownError("cluster", q.Cluster, Names(c.Clusters)))
			}
		}
		if a := q.AppliesTo; a.Kind != "" && a.Kind != quiescible {
			k.bad(at+".applies_to.kind", "%q is not held still by commands: only clusters of kind %s are", a.Kind,
				quiescible)
		} else if l := a.Label; l != "" && !strings.Contains(l, "=") {
			k.bad(at+".applies_to.label", "%q: write KEY=VALUE", l)
		} else if a.Version != "" && q.Cluster == "" {
			k.bad(at+".applies_to.version", "is the servers' of the cluster that is given under cluster")
		}
		if other, ok := c.Clusters[q.Cluster]; ok {
			if kind, _, err := engine.ForAddress(other.Address); err == nil && kind == quiescible {
				k.bad(at+".cluster", "%s is folders itself, and not what writes to them", q.Cluster)
			}
		}
		if cl := q.Clone; cl != nil && (len(cl.Make) == 0 || len(cl.Remove) == 0 || !strings.HasPrefix(cl.At, "/")) {
			k.bad(at+".clone",
				"give the commands make and remove, and at, the whole path of a folder's clone, such as "+
					"/mnt/clone{folder}")
		}
		if q.Longest < 0 {
			k.bad(at+".longest", "is less than nothing")
		}
	}
	for name, cl := range sorted(c.Clusters) {
		if _, _, err := c.QuiesceFor(name); err != nil {
			at := "$.clusters." + name
			if cl.Quiesce != "" {
				at += ".quiesce"
			}
			k.bad(at, "%v", err)
		}
	}
}

// QuiesceFor returns the name of the way in which a cluster is held still while it is
// copied, empty where there is none, and why it is that one.
func (c *Config) QuiesceFor(cluster string) (name, why string, err error) {
	cl := c.Clusters[cluster]
	kind, _, err := engine.ForAddress(cl.Address)
	if err != nil {
		return "", "", nil //nolint:nilerr // it is told where the address is checked
	}
	switch {
	case cl.Quiesce == none:
		return "", "says none for itself", nil
	case cl.Quiesce != "" && kind != quiescible:
		return "", "", fmt.Errorf("only clusters of kind %s are held still in ways of the section quiesce", quiescible)
	case cl.Quiesce != "":
		if _, ok := c.Quiesce[cl.Quiesce]; !ok {
			return "", "", UnknownError("way to quiesce", cl.Quiesce, append(Names(c.Quiesce), none))
		}
		return cl.Quiesce, "says so for itself", nil
	case kind != quiescible:
		return "", "", nil
	}
	var fit []string
	for _, n := range Names(c.Quiesce) {
		if c.Quiesce[n].AppliesTo.Fits(cluster, cl) {
			fit = append(fit, n)
		}
	}
	switch len(fit) {
	case 0:
		return "", "none applies", nil
	case 1:
		a := c.Quiesce[fit[0]].AppliesTo
		var by []string
		for what, v := range map[string]string{"kind": a.Kind, "label": a.Label, "name": a.Name} {
			if v != "" {
				by = append(by, what+" "+v)
			}
		}
		slices.Sort(by)
		return fit[0], "applies by " + strings.Join(by, ", "), nil
	}
	return "", "", fmt.Errorf("%s both apply to cluster %s: say which with clusters.%s.quiesce, or none",
		strings.Join(fit, " and "),
		cluster, cluster)
}

// quiesceOf returns the way in which a cluster is held still, ready to be used.
func (c *Config) quiesceOf(ctx context.Context, cluster string) (*engine.Quiesce, error) {
	name, _, err := c.QuiesceFor(cluster)
	if err != nil || name == "" {
		return nil, err
	}
	q := c.Quiesce[name]
	out := &engine.Quiesce{Name: name, Begin: q.Begin, End: q.End, Check: q.Check, Here: q.Here, Members: q.Members,
		Version: q.AppliesTo.Version,
		Longest: time.Duration(q.Longest)}
	if out.Longest == 0 {
		out.Longest = longestHold
	}
	if q.Clone != nil {
		out.Clone = &engine.CloneCommands{Make: q.Clone.Make, Remove: q.Clone.Remove, At: q.Clone.At}
	}
	if q.Cluster == "" {
		return out, nil
	}
	t, err := c.Target(ctx, q.Cluster)
	t.Quiesce, out.Of = nil, &t
	return out, err
}
