package config

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"dexamen/internal/engine"

	"dexamen/internal/core/address"
	"dexamen/internal/core/calendar"
	"dexamen/internal/core/retain"
	"dexamen/internal/core/store"
)

// Policy describes what is protected, when, and for how long.
type Policy struct {
	Clusters   Choice        `yaml:"clusters"`
	Namespaces address.Scope `yaml:"namespaces"`
	// ClusterWide overrules the clusters' own say on users, roles, templates.
	ClusterWide *bool  `yaml:"cluster_wide"`
	Store       string `yaml:"store"`
	// MirrorTo is a second store that everything is copied to, where by the same rule is kept what
	// is kept; every MirrorEvery (default 1h).
	MirrorTo    string   `yaml:"mirror_to"`
	MirrorEvery Duration `yaml:"mirror_every"`
	// TimeZone is the time zone of schedules and of retention; the machine's when
	// empty.
	TimeZone string `yaml:"time_zone"`
	Snapshot string `yaml:"snapshot"`
	// FullRead: points are folded from the log, and read from the cluster only
	// this often; always where it is absent.
	FullRead string `yaml:"full_read"`
	// Capture is how often the log is captured, "continuous", or nothing.
	Capture string `yaml:"capture"`
	// Flush is after how long continuous capture stores what it has (default 30s).
	Flush Duration `yaml:"flush"`
	Keep  Keep     `yaml:"keep"`
	// Retention is when retention is applied (default: every 24h).
	Retention string `yaml:"retention"`
	// RPO is how old the newest moment that can be restored may be before
	// somebody is told.
	RPO     Duration `yaml:"rpo"`
	NoScans []string `yaml:"no_scans"`
	// Rate bounds what scans read a second.
	Rate     Rate     `yaml:"read_rate"`
	Retry    Retry    `yaml:"retry"`
	Deadline Duration `yaml:"deadline"`
	// ClustersAtOnce is how many clusters of this policy are read at the same time
	// (default 2).
	ClustersAtOnce int    `yaml:"clusters_at_once"`
	Hooks          []Hook `yaml:"hooks"`
	// Drill is when and how restores are rehearsed; never where it is absent.
	Drill *Drill `yaml:"drill"`

	// What the texts mean; filled in by check.
	When struct {
		TimeZone                      *time.Location
		Snapshot, FullRead, Retention calendar.Schedule
		Capture                       time.Duration
		Continuous                    bool
		NoScans                       []calendar.Hours
		Rule                          retain.Rule
	} `yaml:"-"`
}

// Mirrors is how often everything is copied to the second store.
func (p Policy) Mirrors() time.Duration {
	if p.MirrorEvery > 0 {
		return time.Duration(p.MirrorEvery)
	}
	return time.Hour
}

// SealAfter is after how long continuous capture stores what it has.
func (p Policy) SealAfter() time.Duration {
	if p.Flush > 0 {
		return time.Duration(p.Flush)
	}
	return 30 * time.Second
}

// Choice chooses clusters: by names and globs, or by labels, all of which must
// fit.
type Choice struct {
	Names  []string
	Labels map[string]string
	bad    string // what is wrong with it, told with its place by check
}

// UnmarshalYAML reads a list of names, or { label: KEY=VALUE }.
func (c *Choice) UnmarshalYAML(unmarshal func(any) error) error {
	if err := unmarshal(&c.Names); err == nil {
		return nil
	}
	var one string
	if err := unmarshal(&one); err == nil {
		c.Names = []string{one}
		return nil
	}
	var by struct {
		Label any `yaml:"label"`
	}
	if err := unmarshal(&by); err != nil || by.Label == nil {
		c.bad = "write a list of clusters' names, or { label: KEY=VALUE }"
		return nil
	}
	list, ok := by.Label.([]any)
	if !ok {
		list = []any{by.Label}
	}
	c.Labels = map[string]string{}
	for _, l := range list {
		k, v, ok := strings.Cut(fmt.Sprint(l), "=")
		if !ok || k == "" {
			c.bad = fmt.Sprintf("label %v: write KEY=VALUE", l)
			return nil
		}
		c.Labels[strings.TrimSpace(k)] = strings.TrimSpace(v)
	}
	return nil
}

// Match reports whether a cluster is chosen.
func (c Choice) Match(name string, cl Cluster) bool {
	for k, v := range c.Labels {
		if cl.Labels[k] != v {
			return false
		}
	}
	return len(c.Labels) > 0 || slices.ContainsFunc(c.Names,
		func(p string) bool { return address.Match(p, name) && p != "" })
}

// Keep is how long points and log are kept.
type Keep struct {
	EveryMoment Duration `yaml:"every_moment"`
	Thin        []string `yaml:"thin"`
	NeverFewer  int      `yaml:"never_fewer"`
	NeverMore   int      `yaml:"never_more"`
	// Runs is how long the history of runs is kept (default 400d; captures that
	// went well: 7d).
	Runs Duration `yaml:"runs"`
}

// Retry describes when something that failed is tried again.
type Retry struct {
	First   Duration `yaml:"first"`   // how long after the first failure (default 1m)
	Longest Duration `yaml:"longest"` // each next one waits twice as long, at most this (default 1h)
	// For is how long after it was due it is tried (default: until it is due
	// again); "0s" is not at all.
	For *Duration `yaml:"for"`
}

// Wait is how long after so many failures, the last of which ended that long
// after the work was due, the next attempt comes; never says that there is none.
func (r Retry) Wait(failures int, since time.Duration) (d time.Duration, never bool) {
	first, most := time.Duration(r.First), time.Duration(r.Longest)
	if first <= 0 {
		first = time.Minute
	}
	if most <= 0 {
		most = time.Hour
	}
	for range min(failures-1, 40) {
		if first = 2 * first; first >= most {
			break
		}
	}
	d = min(first, most)
	return d, r.For != nil && since+d > time.Duration(*r.For)
}

// Hook is a command that runs before or after runs of a kind.
type Hook struct {
	Before  string   `yaml:"before"`
	After   string   `yaml:"after"`
	Run     []string `yaml:"run"`
	Timeout Duration `yaml:"timeout"` // default 1m
	// Environment names the variables that it is given besides those that say what runs.
	Environment []string `yaml:"environment"`
	// IfFails is "stop" (the default of those before) or "go on".
	IfFails string `yaml:"if_fails"`
}

// Alerts say who is told of alert, and when it is over.
type Alerts struct {
	Webhook *Webhook `yaml:"webhook"`
	Mail    *Mail    `yaml:"mail"`
	// About lists what is told: all of [About] when empty.
	About []string `yaml:"about"`
	// FullWithin is how long a store must still have room for (default 14d).
	FullWithin Duration `yaml:"full_within"`
	// Burst is from when on deletions and updates are so many that it is told.
	Burst Burst `yaml:"burst"`
}

// Burst is from when on changes of a namespace are so many that somebody is told.
type Burst struct {
	// Least is how many there must be within ten seconds, Factor how many times as many as
	// is usual there at that hour.
	Least  int64 `yaml:"least"`
	Factor int64 `yaml:"factor"`
}

// Limits returns both, with what is meant where nothing is written.
func (b Burst) Limits(least, factor int64) (int64, int64) {
	if b.Least > 0 {
		least = b.Least
	}
	if b.Factor > 0 {
		factor = b.Factor
	}
	return least, factor
}

// Webhook is where a JSON body is posted to.
type Webhook struct {
	URL string `yaml:"url"`
	// Token goes into the Authorization header as a bearer's.
	Token *Secret `yaml:"token"`
	// Headers are sent with each request.
	Headers map[string]string `yaml:"headers"`
	// SignKey signs each body, as Standard Webhooks 1.0.0 says: "whsec_" and a base64 key, or any text.
	SignKey *Secret `yaml:"sign_key"`
	// CA is a file of authorities that the server's certificate may be from; the machine's when empty.
	CA string `yaml:"ca"`
}

// Mail is how e-mail is sent.
type Mail struct {
	Server string   `yaml:"server"` // HOST:PORT
	From   string   `yaml:"from"`
	To     []string `yaml:"to"`
	Login  *Login   `yaml:"login"`
	// TLS is "starttls" (insisted on; where it is absent), "always" (from the first byte), or "none".
	TLS string `yaml:"tls"`
	// CA is a file of authorities that the server's certificate may be from; the machine's when empty.
	CA string `yaml:"ca"`
}

// Daemon is about the daemon itself.
type Daemon struct {
	// Listen is where the page, /healthz, /readyz and /metrics are; nowhere when empty.
	Listen string `yaml:"listen"`
	// Token lets who knows it see the page, TLS has it come over TLS, to clients with a certificate of
	// ClientCA where that is named. Without either the page is shown on loopback addresses only.
	Token *Secret   `yaml:"token"`
	TLS   *ServeTLS `yaml:"tls"`
}

// ServeTLS is how the daemon speaks TLS.
type ServeTLS struct {
	Certificate string `yaml:"certificate"` // a file with certificate and key, in PEM
	ClientCA    string `yaml:"client_ca"`   // a file of authorities whose clients see the page
}

// About is what alerts may be about.
var About = []string{"burst", "capacity", "drill", "drop", "failure", "gap", "loss", "mirror", "proof", "rpo",
	"temporary",
	"unprotected"}

// Protected names the clusters that a policy chooses. Scratch servers, whose
// content is thrown away, are not chosen by globs and labels.
func (c *Config) Protected(p Policy) (names []string) {
	for name := range sorted(c.Clusters) {
		if c.chooses(p, name) {
			names = append(names, name)
		}
	}
	return names
}

func (c *Config) chooses(p Policy, name string) bool {
	return p.Clusters.Match(name, c.Clusters[name]) && (!c.IsScratch(name) || slices.Contains(p.Clusters.Names, name))
}

// PolicyOf returns the policy of a cluster in a store; ok is false without one.
func (c *Config) PolicyOf(cluster, inStore string) (name string, p Policy, ok bool) {
	for name, p := range sorted(c.Policies) {
		if s, err := c.StoreFor(p, cluster); err == nil && s == inStore && c.chooses(p, cluster) {
			return name, p, true
		}
	}
	return "", Policy{}, false
}

// StoreFor returns the name of the store that a policy uses for a cluster.
func (c *Config) StoreFor(p Policy, cluster string) (string, error) {
	return c.StoreOf(p.Store, cluster)
}

// Read returns a secret's text.
func (s Secret) Read(ctx context.Context) (string, error) { return s.read(ctx) }

func (c *Config) checkPolicies(k *checker) {
	for name := range sorted(c.Policies) {
		p := c.Policies[name]
		at := "$.policies." + name
		if err := store.CheckClusterName(name); err != nil {
			k.bad(at, "name a policy with letters, digits, '-', '_' and '.'")
		}
		c.checkChoice(k, &p, at)
		p.checkTimes(k, at, c.incremental(p))
		p.checkKeep(k, at)
		p.checkHooks(k, at)
		c.checkDrill(k, &p, at)
		c.Policies[name] = p
	}
	c.checkOverlap(k)
	c.checkNotices(k)
	if c.Daemon.Token != nil {
		c.Daemon.Token.check(k, "$.daemon.token")
	}
	if t := c.Daemon.TLS; t != nil {
		if t.Certificate == "" {
			k.bad("$.daemon.tls", "names no certificate: a file with certificate and key, in PEM")
		}
		checkFile(k, "$.daemon.tls.certificate", t.Certificate)
		checkFile(k, "$.daemon.tls.client_ca", t.ClientCA)
	}
	c.checkReport(k)
	if c.Evidence.Key != nil {
		c.Evidence.Key.check(k, "$.evidence.key")
	}
}

func (c *Config) checkChoice(k *checker, p *Policy, at string) {
	if p.Clusters.bad != "" {
		k.bad(at+".clusters", "%s", p.Clusters.bad)
	} else if len(p.Clusters.Names) == 0 && len(p.Clusters.Labels) == 0 {
		k.bad(at, "chooses no clusters; give a list of names, or { label: KEY=VALUE }")
	}
	for _, n := range p.Clusters.Names {
		if _, ok := c.Clusters[n]; !ok && address.Literal(n) {
			k.bad(at+".clusters", "%v", UnknownError("cluster", n, Names(c.Clusters)))
		}
	}
	if err := p.Namespaces.Check(); err != nil {
		k.bad(at+".namespaces", "%v", err)
	}
	if p.Store != "" {
		if _, ok := c.Stores[p.Store]; !ok {
			k.bad(at+".store", "%v", UnknownError("store", p.Store, Names(c.Stores)))
		}
	}
	if p.MirrorTo != "" {
		if _, ok := c.Stores[p.MirrorTo]; !ok {
			k.bad(at+".mirror_to", "%v", UnknownError("store", p.MirrorTo, Names(c.Stores)))
		}
	} else if p.MirrorEvery != 0 {
		k.bad(at+".mirror_every", "says how often, and mirror_to does not say where to")
	}
	for _, name := range c.Protected(*p) {
		cl := c.Clusters[name]
		if st, err := c.StoreFor(*p, name); err == nil && p.MirrorTo == st {
			k.bad(at+".mirror_to", "%s is the store of cluster %s itself: a second copy lies elsewhere", st, name)
		}
		if _, err := c.StoreFor(*p, name); err != nil && p.Store == "" {
			k.bad(at, "cluster %s: %v", name, err)
		}
		if _, drv, err := engine.ForAddress(cl.Address); err == nil && len(p.Namespaces) > 0 &&
			drv.Model().Traits().Commands {
			k.bad(at+".namespaces", "cluster %s is protected whole: its log holds commands, which cannot be told "+
				"apart by namespace; give it a policy without namespaces", name)
		}
	}
}

// incremental reports whether of all clusters of a policy only what has changed need be
// read.
func (c *Config) incremental(p Policy) bool {
	names := c.Protected(p)
	for _, n := range names {
		_, drv, err := engine.ForAddress(c.Clusters[n].Address)
		if err != nil || !drv.Model().Traits().Incremental {
			return false
		}
	}
	return len(names) > 0
}

// checkTimes reads the schedules. Incremental: only what has changed need be read, so
// that no log is needed to go without reading everything.
func (p *Policy) checkTimes(k *checker, at string, incremental bool) {
	w := &p.When
	w.TimeZone = time.Local
	if p.TimeZone != "" {
		z, err := time.LoadLocation(p.TimeZone)
		if err != nil {
			k.bad(at+".time_zone", "%q is no time zone, such as Europe/Berlin or UTC", p.TimeZone)
		} else {
			w.TimeZone = z
		}
	}
	schedule := func(field, text, absent string) (s calendar.Schedule) {
		if text == "" {
			text = absent
		}
		if text == "" {
			return s
		}
		s, err := calendar.ParseSchedule(text, w.TimeZone, address.ParseDistance)
		if err != nil {
			k.bad(at+"."+field, "%v", err)
		}
		return s
	}
	if p.Snapshot == "" {
		k.bad(at, "has no snapshot schedule, such as snapshot: \"15 1 * * *\" or snapshot: every 6h")
	}
	w.Snapshot = schedule("snapshot", p.Snapshot, "")
	w.FullRead = schedule("full_read", p.FullRead, "")
	w.Retention = schedule("retention", p.Retention, "every 24h")
	switch p.Capture {
	case "":
	case "continuous":
		w.Continuous = true
	default:
		d, err := address.ParseDistance(strings.TrimPrefix(p.Capture, "every "))
		if err != nil || d < time.Second {
			k.bad(at+".capture", "%q: write how often, such as 10m, or continuous", p.Capture)
		}
		w.Capture = d
	}
	if p.FullRead != "" && p.Capture == "" && !incremental {
		k.bad(at+".full_read", "points cannot be folded without the log; give capture: 10m, or leave full_read out")
	}
	for i, q := range p.NoScans {
		h, err := calendar.ParseHours(q, w.TimeZone)
		if err != nil {
			k.bad(fmt.Sprintf("%s.no_scans", at), "%v", err)
		}
		w.NoScans = append(p.When.NoScans[:i:i], h)
	}
	if len(w.NoScans) > 0 {
		// Hours that never end would never let a snapshot begin.
		if end := calendar.Quiet(w.NoScans, time.Now()); time.Until(end) > 7*24*time.Hour {
			k.bad(at+".no_scans", "there is no time left in the week that is not quiet")
		}
	}
	if p.ClustersAtOnce < 0 || p.ClustersAtOnce > 64 {
		k.bad(at+".clusters_at_once", "%d is not from 1 to 64", p.ClustersAtOnce)
	}
	if p.RPO > 0 && !w.Snapshot.IsZero() {
		every := w.Capture
		if w.Continuous {
			every = time.Minute
		} else if every == 0 {
			every = w.Snapshot.Spacing(time.Now())
		}
		if every >= time.Duration(p.RPO) {
			k.bad(at+".rpo", "the newest moment is up to %s old by schedule, which is not within %s", every,
				time.Duration(p.RPO))
		}
	}
}

func (p *Policy) checkKeep(k *checker, at string) {
	r := retain.Rule{EveryMoment: time.Duration(p.Keep.EveryMoment), NeverFewer: p.Keep.NeverFewer,
		NeverMore: p.Keep.NeverMore, Zone: p.When.TimeZone}
	for _, text := range p.Keep.Thin {
		g, err := retain.ParseRung(text, address.ParseDistance)
		if err != nil {
			k.bad(at+".keep.thin", "%v", err)
			continue
		}
		r.Thin = append(r.Thin, g)
	}
	if p.Keep.NeverFewer < 0 || p.Keep.NeverMore < 0 {
		k.bad(at+".keep", "never_fewer and never_more are numbers of points")
	}
	p.When.Rule = r
	if p.Keep.EveryMoment > 0 && p.Capture == "" {
		k.bad(at+".keep.every_moment", "moments between points need the log; give capture: 10m or capture: continuous")
	}
	if p.When.Snapshot.IsZero() {
		return
	}
	for _, text := range r.Problems(p.When.Snapshot.Spacing(time.Now())) {
		k.bad(at+".keep", "%s", text)
	}
}

func (p *Policy) checkHooks(k *checker, at string) {
	for i, h := range p.Hooks {
		at := fmt.Sprintf("%s.hooks[%d]", at, i)
		kind := h.Before + h.After
		if (h.Before == "") == (h.After == "") || !slices.Contains(store.RunKinds, kind) {
			k.bad(at, "say before: or after:, and of which kind: %s", strings.Join(store.RunKinds, ", "))
		}
		if len(h.Run) == 0 {
			k.bad(at, "has no command to run, such as run: [/usr/local/bin/announce, start]")
		}
		checkProgram(k, at+".run", h.Run)
		if h.IfFails != "" && h.IfFails != "stop" && h.IfFails != "go on" {
			k.bad(at+".if_fails", "%q: write stop or go on", h.IfFails)
		}
	}
}

// checkOverlap refuses two policies for one cluster in one store: its points
// would be of two kinds, and each would retire the other's.
func (c *Config) checkOverlap(k *checker) {
	first := map[string]string{}
	for name, p := range sorted(c.Policies) {
		for _, cl := range c.Protected(p) {
			st, err := c.StoreFor(p, cl)
			if err != nil {
				continue
			}
			if other, ok := first[cl+" in "+st]; ok {
				k.bad("$.policies."+name+".clusters",
					"cluster %s is protected in store %s by policy %s already; a cluster has one policy in a store",
					cl, st, other)
				continue
			}
			first[cl+" in "+st] = name
		}
	}
}

func (c *Config) checkNotices(k *checker) {
	n := c.Alerts
	for _, a := range n.About {
		if !slices.Contains(About, a) {
			k.bad("$.alerts.about", "%q is none of %s", a, strings.Join(About, ", "))
		}
	}
	if w := n.Webhook; w != nil && !strings.HasPrefix(w.URL, "http://") && !strings.HasPrefix(w.URL, "https://") {
		k.bad("$.alerts.webhook", "has no url, such as https://desk.lindenholt.example/dexamen")
	}
	if w := n.Webhook; w != nil && w.Token != nil {
		w.Token.check(k, "$.alerts.webhook.token")
	}
	if w := n.Webhook; w != nil && w.SignKey != nil {
		w.SignKey.check(k, "$.alerts.webhook.sign_key")
	}
	if w := n.Webhook; w != nil {
		checkFile(k, "$.alerts.webhook.ca", w.CA)
	}
	if m := n.Mail; m != nil {
		if m.Server == "" || m.From == "" || len(m.To) == 0 {
			k.bad("$.alerts.mail", "needs server (HOST:PORT), from and to")
		}
		if m.Login != nil {
			m.Login.check(k, "$.alerts.mail.login")
		}
		if !slices.Contains([]string{"", "starttls", "always", "none"}, m.TLS) {
			k.bad("$.alerts.mail.tls", "%q: write starttls, always or none", m.TLS)
		}
		checkFile(k, "$.alerts.mail.ca", m.CA)
	}
}

// checkFile reports where a file that is configured cannot be read.
func checkFile(k *checker, at, path string) {
	if path == "" {
		return
	}
	if f, err := os.Open(path); err != nil {
		k.bad(at, "%v", err)
	} else {
		_ = f.Close()
	}
}
