package config

import (
	"crypto/tls"
	"fmt"
	"net"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"dexamen/internal/engine"
)

// Workers says how several processes share work.
type Workers struct {
	// Servers are NATS servers with JetStream; without any, one runs within each process, and nothing
	// is shared with others.
	Servers []string `yaml:"servers"`
	// Credentials is a file with a user's token and key, as NATS' own tools write it.
	Credentials string `yaml:"credentials"`
	TLS         *TLS   `yaml:"tls"`
	// Replicas is on how many servers each message is kept (default 3 where three are named, else 1).
	Replicas int `yaml:"replicas"`
	// Name is what this process is called (default the host's name), Labels what rules choose by.
	Name   string            `yaml:"name"`
	Labels map[string]string `yaml:"labels"`
	// Parallel is how many tasks this process works on at once (default 4).
	Parallel int `yaml:"parallel"`
	// ReadersPerCluster bounds the tasks of one job, over all processes (default 16).
	ReadersPerCluster int `yaml:"readers_per_cluster"`
	// Divide has the daemons of all processes divide the clusters among them: each carries out what policies ask
	// for of its share.
	Divide bool `yaml:"divide"`
	// LostAfter is after how long a worker, or a job, of which nothing is heard counts as lost (default
	// 30s).
	LostAfter Duration `yaml:"lost_after"`
	// Rules say which processes work on which clusters; the first that fits counts.
	Rules []WorkerRule `yaml:"rules"`
	// Limits bound what all processes do at once on some clusters, or with some stores.
	Limits []WorkerLimit `yaml:"limits"`
}

// WorkerLimit bounds what all processes do at once on clusters, such as those of a site, or with stores. Captures
// are not bound.
type WorkerLimit struct {
	// Name is what its places are called at the servers: letters, digits, _ and -.
	Name     string   `yaml:"name"`
	Clusters Choice   `yaml:"clusters"`
	Stores   []string `yaml:"stores"`
	// Tasks is how many are worked on at once (default 8).
	Tasks int `yaml:"tasks"`
	// Rate is how many bytes a second they move together; each task has its share of it. Zero is no bound.
	Rate Rate `yaml:"rate"`
}

// LimitsOf returns what bounds work on a cluster, none where it is empty, with a store, in order of names.
func (c *Config) LimitsOf(cluster, storeName string) (out []WorkerLimit) {
	if c.Workers == nil {
		return nil
	}
	for _, l := range c.Workers.Limits {
		if slices.Contains(l.Stores, storeName) || cluster != "" && l.Clusters.Match(cluster, c.Clusters[cluster]) {
			out = append(out, l)
		}
	}
	slices.SortFunc(out, func(a, b WorkerLimit) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// WorkerRule has clusters worked on by processes with labels only.
type WorkerRule struct {
	Clusters Choice            `yaml:"clusters"`
	Only     map[string]string `yaml:"only"`
}

// Only returns the labels that a process must have to work on a cluster; none where any may.
func (c *Config) Only(cluster string) map[string]string {
	if c.Workers == nil || cluster == "" { // work on a store alone is for all
		return nil
	}
	for _, r := range c.Workers.Rules {
		if r.Clusters.Match(cluster, c.Clusters[cluster]) {
			return r.Only
		}
	}
	return nil
}

func (c *Config) checkWorkers(k *checker) {
	w := c.Workers
	if w == nil {
		return
	}
	for i, s := range w.Servers {
		at := fmt.Sprintf("$.workers.servers[%d]", i)
		u, err := url.Parse(s)
		switch {
		case err != nil || !slices.Contains([]string{"nats", "tls"}, u.Scheme) || u.Hostname() == "":
			k.bad(at, "it is not like tls://HOST:4222 or nats://HOST:4222")
		case u.User != nil:
			k.bad(at, "it holds a login; write it into a file and name that in workers.credentials")
		case u.Scheme == "nats" && w.TLS == nil && !isLoopback(u.Hostname()):
			k.warnings = append(k.warnings, fmt.Sprintf("%s: workers.servers: %s is spoken to without TLS: who can "+
				"listen reads which clusters and namespaces there are, and who can write gives tasks",
				locate(at, k.sources...), s))
		}
	}
	own := func(s string) bool {
		u, err := url.Parse(s)
		return err == nil && isLoopback(u.Hostname())
	}
	if w.Credentials == "" && (w.TLS == nil || w.TLS.Certificate == "") && len(w.Servers) > 0 &&
		!slices.ContainsFunc(w.Servers, own) {
		k.warnings = append(k.warnings, fmt.Sprintf("%s: workers: neither credentials nor tls.certificate: whoever "+
			"reaches the servers gives tasks", locate("$.workers", k.sources...)))
	}
	if w.Credentials != "" {
		(&Secret{File: w.Credentials}).check(k, "$.workers.credentials")
	}
	for _, n := range []struct {
		name      string
		v, lowest int
		most      int
	}{{"parallel", w.Parallel, 0, 256}, {"readers_per_cluster", w.ReadersPerCluster, 0, 4096},
		{"replicas", w.Replicas, 0, 5}} {
		if n.v < n.lowest || n.v > n.most {
			k.bad("$.workers."+n.name, "%d is not from 1 to %d", n.v, n.most)
		}
	}
	if w.LostAfter != 0 && (w.LostAfter < Duration(3*time.Second) || w.LostAfter > Duration(time.Hour)) {
		k.bad("$.workers.lost_after", "it is not from 3s to 1h")
	}
	if w.Divide && len(w.Servers) == 0 {
		k.bad("$.workers.divide", "there are no servers by which daemons could know of each other")
	}
	for i, r := range w.Rules {
		at := fmt.Sprintf("$.workers.rules[%d]", i)
		if len(r.Only) == 0 {
			k.bad(at, "has no only, such as only: { site: north }")
		}
		if len(r.Clusters.Labels) == 0 && len(r.Clusters.Names) == 0 && r.Clusters.bad == "" {
			k.bad(at, "has no clusters, such as clusters: [\"*\"]")
		}
		c.checkChosen(k, at+".clusters", r.Clusters)
	}
	c.checkWorkerLimits(k)
	if w.LostAfter == 0 {
		w.LostAfter = Duration(30 * time.Second)
	}
	if w.Parallel == 0 {
		w.Parallel = 4
	}
	if w.ReadersPerCluster == 0 {
		w.ReadersPerCluster = 16
	}
	if w.Name == "" {
		w.Name, _ = os.Hostname()
	}
}

// checkChosen looks for names that nothing has.
func (c *Config) checkChosen(k *checker, at string, of Choice) {
	if of.bad != "" {
		k.bad(at, "%s", of.bad)
	}
	for _, name := range of.Names {
		if _, known := c.Clusters[name]; !known && !strings.ContainsAny(name, "*?[") {
			k.bad(at, "%v", UnknownError("cluster", name, Names(c.Clusters)))
		}
	}
}

var limitName = regexp.MustCompile(`^[A-Za-z0-9_-]+$`)

func (c *Config) checkWorkerLimits(k *checker) {
	seen := map[string]bool{}
	for i := range c.Workers.Limits {
		l := &c.Workers.Limits[i]
		at := fmt.Sprintf("$.workers.limits[%d]", i)
		switch {
		case !limitName.MatchString(l.Name):
			k.bad(at, "has no name of letters, digits, _ and -, such as name: north-link; every process must call "+
				"it the same")
		case seen[l.Name]:
			k.bad(at+".name", "there is another limit called %s", l.Name)
		}
		seen[l.Name] = true
		if len(l.Clusters.Labels) == 0 && len(l.Clusters.Names) == 0 && l.Clusters.bad == "" && len(l.Stores) == 0 {
			k.bad(at, "has neither clusters nor stores, such as clusters: { label: site=north }")
		}
		c.checkChosen(k, at+".clusters", l.Clusters)
		for _, name := range l.Stores {
			if _, known := c.Stores[name]; !known {
				k.bad(at+".stores", "%v", UnknownError("store", name, Names(c.Stores)))
			}
		}
		if l.Tasks < 0 || l.Tasks > 4096 {
			k.bad(at+".tasks", "%d is not from 1 to 4096", l.Tasks)
		}
		if l.Tasks == 0 {
			l.Tasks = 8
		}
		if l.Rate < 0 {
			k.bad(at+".rate", "it is less than nothing")
		}
	}
}

func isLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// TLSConfig returns how the servers are spoken to; nil where nothing is said of it.
func (w *Workers) TLSConfig() (*tls.Config, error) {
	if w.TLS == nil {
		return nil, nil
	}
	out, err := engine.TLS{On: true, CAFile: w.TLS.CA, ClientCertificate: w.TLS.Certificate}.Config()
	if err != nil {
		return nil, fmt.Errorf("workers.tls: %w", err)
	}
	return out, nil
}
