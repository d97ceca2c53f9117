package redis

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	goredis "github.com/redis/go-redis/v9"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// trialPrefix begins the keys of trials; the run's name follows.
const trialPrefix = "dexamen_trials_"

// spoiledTrial is the one whose keys are spoiled, to be put back in place.
const spoiledTrial = "set.many"

// trials makes changes through public commands.
type trials struct {
	c   *cluster
	cl  goredis.UniversalClient
	own string // what the run's keys begin with
	tag string // keeps a run's keys together in one slot
	// in is the namespace of the trial that is under way: each has its own, and another one each time it is done.
	in   string
	done map[string]int
}

// Trials implements [engine.Prover].
func (c *cluster) Trials(ctx context.Context, run string) (*engine.Trials, error) {
	if c.prefixes.Depth == 0 {
		return nil, fmt.Errorf("cluster %s: all keys of a database are one namespace (prefix_depth 0), so that none "+
			"is for trials alone: configure the servers once more under another name, with prefix_depth: 1, and try "+
			"it there", c.t.Name)
	}
	t := &trials{c: c, cl: c.universal(), own: trialPrefix + run, tag: "{" + run + "}", done: map[string]int{}}
	if err := t.do(ctx, "SET", t.own+"_may", "1", "PX", time.Minute.Milliseconds()); err != nil {
		_ = t.cl.Close()
		if strings.Contains(err.Error(), "NOPERM ") {
			return nil, fmt.Errorf("cluster %s: %w: grant it for the time of the trials, on each server: ACL SETUSER "+
				"%s %s: %w", c.t.Name, engine.ErrMayNotTry, cmp.Or(c.t.User, "default"),
				strings.Join(writeRules, " "), err)
		}
		return nil, c.fail(c.explain(err, "writing a key for trials"))
	}
	return &engine.Trials{Part: "db0/" + t.own + "_*", Beside: "db0/" + t.own + "b_*", List: t.list(), Together: true,
		View: trialView{c, []byte(t.own)},
		Snapshot: engine.Trial{ID: "snapshot", Source: replicationSource,
			Says: "what a server sends to a new replica is what its keys hold"},
		RestoreBeside: engine.Trial{ID: "restore.beside", Source: restoreSource,
			Says: "what is restored beside is read back equal"},
		RestoreInPlace: engine.Trial{ID: "restore.in-place", Source: restoreSource,
			Says: "what is put in the place of what is there is read back equal"},
		Spoil: func(ctx context.Context) error {
			t.done[spoiledTrial] = 1
			t.enter(spoiledTrial)
			return t.run(ctx, "DEL @one @copy\nSET @several other\nSET @new 1")
		},
		Spoiled: "db0/" + t.own + "_" + spoiledTrial + "-1:", Clean: t.clean}, nil
}

// universal returns a client that finds the server of a key.
func (c *cluster) universal() goredis.UniversalClient {
	if !c.clustered {
		return goredis.NewClient(c.options(c.membersOf(c.list()[0])[0]))
	}
	o := c.options("")
	var seeds []string
	for _, s := range c.list() {
		seeds = append(seeds, c.membersOf(s)[0])
	}
	return goredis.NewClusterClient(&goredis.ClusterOptions{Addrs: seeds, Username: o.Username, Password: o.Password,
		NewClient: func(opt *goredis.Options) *goredis.Client {
			return goredis.NewClient(c.options(opt.Addr))
		}, DialTimeout: askTime, Protocol: 2, DisableIdentity: true})
}

// enter makes the namespace of a trial that which keys are of: it has another one each time that it is done.
func (t *trials) enter(id string) { t.in = fmt.Sprintf("%s_%s-%d:", t.own, id, t.done[id]) }

// key returns a key of the trial that is under way.
func (t *trials) key(name string) string {
	return t.in + strings.Repeat("d:", t.c.prefixes.Depth-1) + t.tag + name
}

// do has a command carried out.
func (t *trials) do(ctx context.Context, args ...any) error {
	err := t.cl.Do(ctx, args...).Err()
	if errors.Is(err, goredis.Nil) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("%v: %w", args[0], err)
	}
	return nil
}

// run has commands carried out, a line each; a word that begins with @ is a key. All are tried, and what was refused
// is returned.
func (t *trials) run(ctx context.Context, lines string) error {
	var errs []error
	for _, line := range strings.Split(lines, "\n") {
		var args []any
		for _, w := range strings.Fields(line) {
			if name, ok := strings.CutPrefix(w, "@"); ok {
				w = t.key(name)
			}
			args = append(args, w)
		}
		if len(args) > 0 {
			errs = append(errs, t.do(ctx, args...))
		}
	}
	return errors.Join(errs...)
}

// gone waits until a key is no more.
func (t *trials) gone(ctx context.Context, name string) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	for {
		n, err := t.cl.Exists(ctx, t.key(name)).Result()
		if err != nil || n == 0 {
			return err
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// clean removes what this run has made, also what was restored.
func (t *trials) clean(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	defer t.cl.Close()
	var errs []error
	for _, s := range t.c.list() {
		addr := t.c.membersOf(s)[0]
		errs = append(errs, t.c.eachKey(ctx, addr, 0, globOf([]byte(t.own)), func(keys []string) error {
			for _, k := range keys { // one by one: they are of several slots where there are slots
				if err := t.do(ctx, "UNLINK", k); err != nil {
					return err
				}
			}
			return nil
		}))
	}
	return errors.Join(errs...)
}

// blocked has a command wait for what another one brings.
func (t *trials) blocked(ctx context.Context, waits, brings []any) error {
	failed := make(chan error, 1)
	go func() { failed <- t.do(ctx, waits...) }()
	select { // until it waits; the answer is the same where it does not yet
	case err := <-failed:
		return errors.Join(err, errors.New("it did not wait"))
	case <-time.After(200 * time.Millisecond):
	}
	err := t.do(ctx, brings...)
	select {
	case waited := <-failed:
		return errors.Join(err, waited)
	case <-time.After(askTime):
		return errors.Join(err, fmt.Errorf("%v: %w", waits[0], context.DeadlineExceeded))
	}
}

var _ engine.Prover = (*cluster)(nil)

// trialView is a cluster of which a run's keys alone are seen: what others hold and write is read, as there is no
// other way, and left out.
type trialView struct {
	*cluster
	own []byte
}

// Namespaces implements [engine.Cluster].
func (v trialView) Namespaces(ctx context.Context) ([]engine.Namespace, error) {
	list, err := v.cluster.Namespaces(ctx)
	return slices.DeleteFunc(list, func(ns engine.Namespace) bool { return !v.isOwn(ns.Name) }), err
}

func (v trialView) isOwn(namespace string) bool {
	db, prefix, _, err := split(namespace)
	return err == nil && db == 0 && bytes.HasPrefix(prefix, v.own)
}

// Stream implements [engine.Streamed].
func (v trialView) Stream(ctx context.Context, shard string,
	fn func(record.Namespace, record.Record) error) (record.Mark, error) {
	return v.cluster.Stream(ctx, shard, func(ns record.Namespace, r record.Record) error {
		if !v.isOwn(ns.Name) {
			return nil
		}
		return fn(ns, r)
	})
}

// Follow implements [engine.Logged]: of commands those remain that name one of the run's keys, wherever it stands.
func (v trialView) Follow(ctx context.Context, shard string, after record.Position,
	fn func([]record.Change, engine.Progress) error) error {
	return v.cluster.Follow(ctx, shard, after, func(list []record.Change, p engine.Progress) error {
		return fn(slices.DeleteFunc(list, func(c record.Change) bool { return !bytes.Contains(c.Value, v.own) }), p)
	})
}
