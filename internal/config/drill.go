package config

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"dexamen/internal/core/address"
	"dexamen/internal/core/calendar"
	"dexamen/internal/core/condition"
	"dexamen/internal/engine"
)

// Drill is when and how restores of a policy's clusters are rehearsed.
type Drill struct {
	Schedule string `yaml:"schedule"`
	// To is the scratch cluster that is restored onto: it holds nothing before, and nothing
	// afterwards. Without one the moment is served on this machine, and read back.
	To string `yaml:"to"`
	// Moment is which: latest (when empty), random in 7d, or any WHEN of an address.
	Moment string `yaml:"moment"`
	// Namespaces are patterns of what is restored; all when empty.
	Namespaces []string `yaml:"namespaces"`
	// Within is how long it may take until all is there.
	Within Duration `yaml:"within"`
	// Checks are asked of what came back.
	Checks []DrillCheck `yaml:"checks"`

	// What the texts mean; filled in by check.
	When struct {
		Schedule calendar.Schedule
		Random   time.Duration // zero where the moment is not chosen at random
	} `yaml:"-"`
}

// DrillCheck is something that is asked of what came back: one of That, Find and Run.
type DrillCheck struct {
	That        string   `yaml:"that"`
	Find        string   `yaml:"find"`
	Where       string   `yaml:"where"`
	AtLeast     int64    `yaml:"at_least"`
	Run         []string `yaml:"run"`
	Timeout     Duration `yaml:"timeout"`
	Environment []string `yaml:"environment"`
}

// ParseDrillMoment reads which moment a drill restores: random is how far back, zero where it is not
// chosen at random.
func ParseDrillMoment(text string, now time.Time) (random time.Duration, when address.When, err error) {
	if text == "" {
		return 0, address.When{}, nil
	}
	if back, ok := strings.CutPrefix(text, "random in "); ok {
		random, err = address.ParseDistance(back)
		if err == nil && random <= 0 {
			err = fmt.Errorf("%q: write how far back, as in random in 7d", text)
		}
		return random, when, err
	}
	when, err = address.ParseWhen(text, now)
	if err == nil && when.Kind == address.Live {
		err = fmt.Errorf("%q is the cluster itself; a drill restores a moment: latest, or random in 7d", text)
	}
	return 0, when, err
}

func (c *Config) checkDrill(k *checker, p *Policy, at string) {
	d := p.Drill
	if d == nil {
		return
	}
	at += ".drill"
	var err error
	if d.Schedule == "" {
		k.bad(at, "has no schedule, such as schedule: \"0 4 * * sun\" or schedule: every 7d")
	} else if d.When.Schedule, err = calendar.ParseSchedule(d.Schedule, p.When.TimeZone,
		address.ParseDistance); err != nil {
		k.bad(at+".schedule", "%v", err)
	}
	if d.When.Random, _, err = ParseDrillMoment(d.Moment, time.Now()); err != nil {
		k.bad(at+".moment", "%v", err)
	}
	for _, n := range d.Namespaces {
		if err := (address.Scope{n}).Check(); err != nil || strings.HasPrefix(n, "not ") {
			k.bad(at+".namespaces", "%q: write a name or a pattern of names", n)
		}
	}
	if d.Within < 0 {
		k.bad(at+".within", "is how long a restore may take, such as 30m")
	}
	c.checkDrillTarget(k, p, at+".to")
	for i, ch := range d.Checks {
		ch.check(k, fmt.Sprintf("%s.checks[%d]", at, i))
	}
}

// checkDrillTarget sees that the scratch cluster can be one of those that are rehearsed.
func (c *Config) checkDrillTarget(k *checker, p *Policy, at string) {
	to := p.Drill.To
	if to == "" {
		for _, name := range c.Protected(*p) {
			_, drv, err := engine.ForAddress(c.Clusters[name].Address)
			if err == nil && drv.Model().Traits().ServedAs == "" {
				k.bad(strings.TrimSuffix(at, ".to"), "cluster %s needs a scratch cluster, to: moments of its "+
					"kind cannot be read back while they are served", name)
			}
		}
		return
	}
	there, ok := c.Clusters[to]
	if !ok {
		k.bad(at, "%v", UnknownError("cluster", to, Names(c.Clusters)))
		return
	}
	_, a, err := engine.ForAddress(there.Address)
	if err != nil {
		return // told where it stands
	}
	for _, name := range c.Protected(*p) {
		cl := c.Clusters[name]
		if name == to || cl.Address == there.Address {
			k.bad(at, "%s is protected by this policy itself: a drill restores onto a cluster that holds nothing", to)
			continue
		}
		if _, b, err := engine.ForAddress(cl.Address); err == nil && a != b {
			k.bad(at, "%s is of another kind than %s, which is to be rehearsed on it", to, name)
		}
	}
}

func (c DrillCheck) check(k *checker, at string) {
	n := 0
	for _, given := range []bool{c.That != "", c.Find != "", len(c.Run) > 0} {
		if given {
			n++
		}
	}
	if n != 1 {
		k.bad(at, "say one of: that: an expression, as in counts[\"apiary.colonies\"] > 1000; find: a namespace; "+
			"run: a command")
		return
	}
	for _, text := range []string{c.That, c.Where} {
		if text == "" {
			continue
		}
		if _, err := condition.Compile(text); err != nil {
			k.bad(at, "%v", err)
		}
	}
	if c.Find == "" && (c.Where != "" || c.AtLeast != 0) {
		k.bad(at, "where and at_least go with find")
	}
	if c.AtLeast < 0 {
		k.bad(at+".at_least", "is a number of records")
	}
	if len(c.Run) == 0 && (c.Timeout != 0 || len(c.Environment) > 0) {
		k.bad(at, "timeout and environment go with run")
	}
	checkProgram(k, at+".run", c.Run)
}

// checkProgram refuses a command that is named by its place and cannot be run.
func checkProgram(k *checker, at string, args []string) {
	if len(args) == 0 || !strings.HasPrefix(args[0], "/") {
		return
	}
	if st, err := os.Stat(args[0]); err != nil || st.IsDir() || st.Mode()&0o111 == 0 {
		k.bad(at, "%s is no program that can be run here", args[0])
	}
}

// Evidence is about the signed statements that drills, restores, verifications and scrubs leave.
type Evidence struct {
	// Key is the Ed25519 private key in PEM that they are signed with; one that this host makes and
	// keeps where it is absent.
	Key *Secret `yaml:"key"`
}

// EvidenceKey returns the key's text; empty where none is configured.
func (c *Config) EvidenceKey(ctx context.Context) (string, error) {
	if c.Evidence.Key == nil {
		return "", nil
	}
	text, err := c.Evidence.Key.read(ctx)
	if err != nil {
		return "", fmt.Errorf("%s: evidence.key: %w", c.Path, err)
	}
	return text, nil
}

// Report is when a report of how everything is protected is sent by e-mail, by the way that alerts: mail:
// says.
type Report struct {
	Schedule string `yaml:"schedule"`
	TimeZone string `yaml:"time_zone"` // of the schedule; the machine's when empty
	// Last is the time that it is of (default 30d), To who gets it; who gets alerts when empty.
	Last Duration `yaml:"last"`
	To   []string `yaml:"to"`

	// When is what the text means; filled in by check.
	When calendar.Schedule `yaml:"-"`
}

func (c *Config) checkReport(k *checker) {
	r := c.Report
	if r == nil {
		return
	}
	zone := time.Local
	var err error
	if r.TimeZone != "" {
		if zone, err = time.LoadLocation(r.TimeZone); err != nil {
			k.bad("$.report.time_zone", "%q is no time zone, such as Europe/Berlin or UTC", r.TimeZone)
			return
		}
	}
	if r.When, err = calendar.ParseSchedule(r.Schedule, zone, address.ParseDistance); err != nil {
		k.bad("$.report.schedule", "%v", err)
	}
	if r.Last < 0 {
		k.bad("$.report.last", "is of how long it is, such as 30d")
	}
	if c.Alerts.Mail == nil {
		k.bad("$.report", "is sent as alerts: mail: says, and that is not there")
	}
}
