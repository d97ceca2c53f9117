// Package tour is the demonstration: the commands an administrator would run, on
// clusters that are filled, spoiled and restored, with what each shows.
//
//	tour.go      a replica set, from the first point to the scrubbed store
//	sharded.go   a sharded cluster
//	search.go    a search cluster
//	folder.go    a folder of files
//	keyvalue.go  etcd and Redis, where they are installed
package tour

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"

	"dexamen/internal/demo"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/view"
)

// Tour is a run of the demonstration.
type Tour struct {
	Screen *view.Screen
	// Dir is an empty folder for the stores and the configuration.
	Dir string
	// Documents is the size of the data.
	Documents int
	// Stay leaves the clusters running until the context ends.
	Stay bool
	// Command runs one command line and returns its exit code.
	Command func(ctx context.Context, args []string, screen *view.Screen) int
	// Connect logs in to a stand-in.
	Connect func(uri, user, password string) (*mongo.Client, error)

	ctx    context.Context
	config string
	apiary demo.Apiary
	cl     *mongo.Client
	ends   []func() // stop what runs
	// Just before each part of the mishap.
	spoiled, dropped time.Time
}

// The exit codes that the commands are to end with.
const (
	done    = 0
	failed  = 1
	differs = 3
	refused = 5
)

const demoSecret = "DEXAMEN_DEMO_SECRET"

func (p *Tour) say(format string, args ...any) {
	p.Screen.Line("\n%s", p.Screen.Accent("# "+fmt.Sprintf(format, args...)))
}

// do runs one command line and checks how it ended.
func (p *Tour) do(want int, args ...string) error {
	var shown []string
	for _, a := range args {
		if strings.ContainsAny(a, " *") {
			a = "'" + a + "'"
		}
		shown = append(shown, a)
	}
	p.Screen.Line("\n$ dexamen %s", strings.Join(shown, " "))
	got := p.Command(p.ctx, append([]string{"dexamen", "--config", p.config}, args...), p.Screen)
	if got != want {
		return fmt.Errorf("demo: dexamen %s ended with exit code %d, %d was expected", strings.Join(args, " "), got,
			want)
	}
	return nil
}

// hidden runs one command line without showing it.
func (p *Tour) hidden(args ...string) error {
	s := *p.Screen
	s.Out, s.Err = io.Discard, io.Discard
	if got := p.Command(p.ctx, append([]string{"dexamen", "--config", p.config}, args...), &s); got != done {
		return fmt.Errorf("demo: dexamen %s ended with exit code %d", strings.Join(args, " "), got)
	}
	return nil
}

// Run goes through it. It ends at the first command that does not end as it is
// to.
func (p *Tour) Run(ctx context.Context) error {
	p.ctx, p.apiary = ctx, demo.Apiary{Seed: 1, Documents: p.Documents}
	if os.Getenv(demoSecret) == "" {
		if err := os.Setenv(demoSecret, "made-up for the demo"); err != nil {
			return err
		}
	}
	rs, err := docsim.Start(docsim.Options{
		Name: "meadow", User: "dexamen", Password: os.Getenv(demoSecret), NoopEvery: 400 * time.Millisecond})
	if err != nil {
		return err
	}
	defer rs.Close()
	if p.cl, err = p.Connect(rs.URI(), "dexamen", os.Getenv(demoSecret)); err != nil {
		return err
	}
	defer func() { _ = p.cl.Disconnect(context.WithoutCancel(p.ctx)) }()
	defer func() {
		for _, end := range p.ends {
			end()
		}
	}()
	p.config = filepath.Join(p.Dir, "dexamen.yaml")
	text := fmt.Sprintf(`stores:
  larder:
    location: file://%s
    key: { file: %s }
    parity: 8+2
  loft:
    location: file://%s
    key: { file: %s }
clusters:
  meadow:
    address: mongodb://%s/
    login: { user: dexamen, secret: { env: %s } }
    labels: { yard: north }
    store: larder
`, p.path("larder"), p.path("larder.key"), p.path("loft"), p.path("larder.key"), rs.Addresses()[0], demoSecret)
	if err := os.WriteFile(p.config, []byte(text), 0o600); err != nil {
		return err
	}
	p.say("The Lindenholt Beekeepers' Cooperative runs a replica set of three, meadow. It is filled with about %s "+
		"documents.", view.Count(int64(p.apiary.Documents)))
	if err := p.apiary.Fill(p.ctx, p.cl); err != nil {
		return err
	}
	for _, act := range []func() error{p.setUp, p.protect, p.mishap, p.recover, p.prove, p.rehearse, p.policies,
		p.keep, p.show, p.orchard,
		p.clover, p.comb, p.keyValue} {
		if err := act(); err != nil {
			return err
		}
	}
	if p.Stay {
		p.say("The clusters stay up until interrupted. In another terminal:")
		p.Screen.Line("\nexport DEXAMEN_CONFIG=%s %s='%s'", p.config, demoSecret, os.Getenv(demoSecret))
		<-p.ctx.Done()
	}
	return nil
}

func (p *Tour) path(name string) string { return filepath.ToSlash(filepath.Join(p.Dir, name)) }

func (p *Tour) setUp() error {
	p.say("Set up: one member's address is enough.")
	for _, line := range []string{"config check", "cluster check meadow", "cluster inspect meadow",
		"store create larder", "store check larder"} {
		if err := p.do(done, strings.Fields(line)...); err != nil {
			return err
		}
	}
	return nil
}

func (p *Tour) protect() error {
	p.say("Protect: a first point, while the bees and their keepers go on.")
	busy := make(chan error, 1)
	go func() { busy <- p.apiary.Work(p.ctx, p.cl, 2, p.apiary.Documents/100) }()
	if err := p.do(done, "snapshot", "meadow"); err != nil {
		return err
	}
	if err := <-busy; err != nil {
		return err
	}
	// An ordinary day, captured now and then, from which is learned what is usual.
	for hour := range uint64(6) {
		if err := p.apiary.Work(p.ctx, p.cl, 3+10*hour, p.apiary.Documents/600); err != nil {
			return err
		}
		if err := p.hidden("capture", "meadow"); err != nil {
			return err
		}
	}
	p.say("A day's changes later: a second point stores what changed. The log in between is captured, and proves it.")
	for _, line := range []string{"snapshot meadow", "capture meadow", "points meadow", "verify meadow@latest"} {
		if err := p.do(done, strings.Fields(line)...); err != nil {
			return err
		}
	}
	return nil
}

func (p *Tour) mishap() error {
	if err := p.apiary.Work(p.ctx, p.cl, 4, 60); err != nil {
		return err
	}
	db := p.cl.Database(demo.Database)
	time.Sleep(20 * time.Millisecond)
	p.spoiled = time.Now().Truncate(time.Millisecond)
	time.Sleep(20 * time.Millisecond)
	p.say("A mishap: a clean-up script marks every colony of the north yard as collapsed.")
	if _, err := db.Collection("colonies").UpdateMany(p.ctx, bson.D{{Key: "yard", Value: "north"}},
		bson.D{{Key: "$set", Value: bson.D{{Key: "status", Value: "collapsed"}}}}); err != nil {
		return err
	}
	if err := p.apiary.Work(p.ctx, p.cl, 5, 50); err != nil {
		return err
	}
	time.Sleep(1200 * time.Millisecond)
	p.dropped = time.Now().Truncate(time.Millisecond)
	time.Sleep(20 * time.Millisecond)
	p.say("And a moment later somebody who meant harvests_2025 drops harvests.")
	if err := db.Collection("harvests").Drop(p.ctx); err != nil {
		return err
	}
	if err := p.apiary.Work(p.ctx, p.cl, 6, 50); err != nil {
		return err
	}
	time.Sleep(500 * time.Millisecond)
	return nil
}

func stamp(t time.Time) string { return t.Local().Format("2006-01-02T15:04:05.000Z07:00") }

func (p *Tour) recover() error {
	p.say("Recover: capture the log up to now, and see which moments can be had.")
	if err := p.do(done, "capture", "meadow"); err != nil {
		return err
	}
	if err := p.do(done, "coverage", "meadow"); err != nil {
		return err
	}
	p.say("What happened, and when? Each finding ends with the address of what was there just before.")
	if err := p.do(done, "pinpoint", "meadow"); err != nil {
		return err
	}
	if err := p.do(done, "pinpoint", "meadow", "--namespace", "apiary.colonies", "--where",
		`status == "collapsed"`); err != nil {
		return err
	}
	before, beforeDrop, err := p.found()
	if err != nil {
		return err
	}
	p.say("What is different now from just before the script ran? (Exit code 3: there are differences.)")
	if err := p.do(differs, "compare", before, "meadow@live/apiary.colonies", "--show", "3"); err != nil {
		return err
	}
	p.say("A name mistyped at 3 a.m. restores nothing, and names what is near.")
	if err := p.do(failed, "restore", "meadow@"+stamp(p.dropped)+"/apiary.harvest"); err != nil {
		return err
	}
	p.say("harvests comes back beside, as it was just before the drop ...")
	if err := p.do(done, "restore", beforeDrop, "--rename",
		"apiary.harvests=apiary.harvests_restored", "--yes"); err != nil {
		return err
	}
	p.say("... and colonies in place, as they were just before the script ran. Without --yes nothing is replaced.")
	if err := p.do(refused, "restore", before, "--conflict", "replace"); err != nil {
		return err
	}
	return p.do(done, "restore", before, "--conflict", "replace", "--yes")
}

// found returns the addresses that pinpoint prints of the mishap: just before the colonies
// were spoiled, and just before the harvests were dropped.
func (p *Tour) found() (colonies, harvests string, err error) {
	var r struct {
		Findings []struct{ Kind, Namespace, Before string }
	}
	if err := p.asked(&r, "pinpoint", "meadow"); err != nil {
		return "", "", err
	}
	for _, f := range r.Findings {
		switch f.Kind + " " + f.Namespace {
		case "updates apiary.colonies":
			colonies = f.Before
		case "dropped apiary.harvests":
			harvests = f.Before
		}
	}
	if colonies == "" || harvests == "" {
		return "", "", fmt.Errorf("demo: pinpoint found %d things, and not the two mishaps", len(r.Findings))
	}
	return colonies, harvests, nil
}

func (p *Tour) prove() error {
	p.say("Prove: what is live now is, by content, what was there then.")
	if err := p.do(done, "verify", "meadow@"+stamp(p.dropped)+"/apiary.harvests", "--live", "meadow", "--rename",
		"apiary.harvests=apiary.harvests_restored"); err != nil {
		return err
	}
	if err := p.do(done, "verify", "meadow@"+stamp(p.spoiled)+"/apiary.colonies", "--live", "meadow"); err != nil {
		return err
	}
	p.say("A copy for a colleague, in an open form that other programs read; what is read back from it is verified.")
	file := p.path("harvests.tar.zst")
	if err := p.do(done, "export", "meadow@"+stamp(p.dropped)+"/apiary.harvests", "--to", file); err != nil {
		return err
	}
	if err := p.do(done, "restore", file, "--to", "meadow", "--rename", "apiary.harvests=apiary.harvests_copy",
		"--yes"); err != nil {
		return err
	}
	p.say("It has served its purpose: undone, a restore beside takes away what it made. One in place would bring " +
		"back what was there before.")
	runs, err := p.restores()
	if err != nil {
		return err
	}
	if err := p.do(done, "undo", runs[len(runs)-1], "--yes"); err != nil {
		return err
	}
	if err := p.do(done, "undo", runs[len(runs)-2], "--preview"); err != nil {
		return err
	}
	p.say("The restore itself is in the log too: a point folded from it, at no load on the cluster, equals a new scan.")
	for _, line := range []string{"capture meadow", "snapshot meadow --from-log", "snapshot meadow", "capture meadow",
		"verify meadow@latest"} {
		if err := p.do(done, strings.Fields(line)...); err != nil {
			return err
		}
	}
	return nil
}

// rehearse has a restore rehearsed, and shows what is left for others.
func (p *Tour) rehearse() error {
	p.say("Rehearse it: a moment at random is read back over the cluster's own protocol, compared, checked and " +
		"timed. With --to it is restored onto an empty cluster, which is empty again afterwards.")
	err := p.do(done, "drill", "meadow", "--random", "1h", "--that",
		fmt.Sprintf(`counts["apiary.colonies"] > %d`, p.Documents/20))
	if err != nil {
		return err
	}
	p.say("What drills, restores and verifications found is signed, each statement after the one before: whoever has " +
		"the file finds without the store whether any was changed or taken away.")
	for _, args := range [][]string{{"evidence", "list"}, {"evidence", "export", "--to", p.path("evidence.jws")},
		{"evidence", "check", p.path("evidence.jws")}} {
		if err := p.do(done, args...); err != nil {
			return err
		}
	}
	return nil
}

// show leaves what others look at.
func (p *Tour) show() error {
	p.say("And one file shows everything to people who do not run this program; a daemon shows the same as a page.")
	return p.do(done, "report", "--to", p.path("report.html"))
}

// restores returns the names of the restores so far, oldest first.
func (p *Tour) restores() ([]string, error) {
	var list []struct{ ID string }
	if err := p.asked(&list, "runs", "meadow", "--kind", "restore"); err != nil {
		return nil, err
	}
	var out []string
	for _, r := range list {
		out = append(out, r.ID)
	}
	slices.Sort(out)
	if len(out) < 2 {
		return nil, fmt.Errorf("demo: there are %d restores", len(out))
	}
	return out, nil
}

// asked runs one command line without showing it, and reads what it says as JSON.
func (p *Tour) asked(into any, args ...string) error {
	s := *p.Screen
	var out bytes.Buffer
	s.Out = &out
	p.Command(p.ctx, append([]string{"dexamen", "--config", p.config, "--json"}, args...), &s)
	if err := json.Unmarshal(out.Bytes(), into); err != nil {
		return fmt.Errorf("demo: %s: %w: %s", args[0], err, out.String())
	}
	return nil
}

// policies has the same done by itself from here on.
func (p *Tour) policies() error {
	p.say("So that nobody has to remember: a policy. What it would do is shown before it does anything.")
	text, err := os.ReadFile(p.config)
	if err != nil {
		return err
	}
	err = os.WriteFile(p.config, append([]byte(`policies:
  nightly:
    clusters: { label: yard=north }
    namespaces: ["apiary.*", "not apiary.*_restored"]
    snapshot: "15 1 * * *"
    full_read: every 7d
    capture: 10m
    keep:
      every_moment: 7d
      thin: [daily for 30d, weekly for 26w]
      never_fewer: 3
    rpo: 30m
`), text...), 0o600)
	if err != nil {
		return err
	}
	for _, line := range []string{"config check --clusters", "policy preview nightly", "due --run",
		"hold meadow@latest --until 90d", "runs meadow"} {
		words := strings.Fields(line)
		if words[0] == "hold" {
			words = append(words, "--why", "the mishap with the harvests")
		}
		if err := p.do(done, words...); err != nil {
			return err
		}
	}
	return nil
}

// keep shows that the store itself can be trusted.
func (p *Tour) keep() error {
	p.say("And the store: a copy elsewhere, which opens with the same key.")
	if err := p.do(done, "store", "mirror", "larder", "loft"); err != nil {
		return err
	}
	if err := p.do(done, "status"); err != nil {
		return err
	}
	p.say("The disk under the larder rots: one bit flips. Scrubbing finds it, and parity gives it back. (Exit code " +
		"3: damaged, nothing lost.)")
	if err := flipBit(filepath.Join(p.Dir, "larder", "content")); err != nil {
		return err
	}
	if err := p.do(differs, "store", "scrub", "larder"); err != nil {
		return err
	}
	for _, line := range []string{"store scrub larder --repair", "store keys list larder", "store inspect larder"} {
		if err := p.do(done, strings.Fields(line)...); err != nil {
			return err
		}
	}
	return nil
}

// flipBit changes one bit in the middle of the largest file below a folder.
func flipBit(dir string) error {
	var name string
	var size int64
	err := filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		st, err := e.Info()
		if err == nil && st.Size() > size {
			name, size = p, st.Size()
		}
		return err
	})
	if err != nil {
		return err
	}
	b, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	b[size/2] ^= 1
	return os.WriteFile(name, b, 0o600)
}
