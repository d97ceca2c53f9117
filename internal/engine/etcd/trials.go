package etcd

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"

	"dexamen/internal/engine"
)

// trialPrefix begins the keys of trials; the run's name follows.
const trialPrefix = "dexamen_trials_"

// trials makes changes through public requests.
type trials struct {
	c      *cluster
	cl     *clientv3.Client
	own    string // what the run's keys begin with
	leases []clientv3.LeaseID
}

// Trials implements [engine.Prover].
func (c *cluster) Trials(ctx context.Context, run string) (*engine.Trials, error) {
	if prefixDepth(c.t) == 0 {
		return nil, fmt.Errorf("cluster %s: all its keys are one namespace (prefix_depth 0), so that none is for "+
			"trials alone: set prefix_depth to 1 for them", c.t.Name)
	}
	cl, err := c.client(ctx, "")
	if err != nil {
		return nil, c.fail(err)
	}
	t := &trials{c: c, cl: cl, own: trialPrefix + run}
	if err := t.put(ctx, "plain", "first", "1"); err != nil {
		if errors.Is(rpctypes.Error(err), rpctypes.ErrPermissionDenied) {
			return nil, fmt.Errorf("cluster %s: %w: grant it for the time of the trials: etcdctl role "+
				"grant-permission --prefix=true ROLE readwrite %s: %w", c.t.Name, engine.ErrMayNotTry, trialPrefix, err)
		}
		return nil, c.fail(c.explain(err, "writing a key for trials"))
	}
	return &engine.Trials{Part: t.own + "_*", Beside: t.own + "b_*", List: t.list(),
		RestoreBeside: engine.Trial{ID: "restore.beside", Source: "etcd: etcd API, Transaction",
			Says: "what is restored beside is read back equal"},
		RestoreInPlace: engine.Trial{ID: "restore.in-place", Source: "etcd: etcd API, Transaction",
			Says: "what is put in the place of what is there is read back equal"},
		Spoil: func(ctx context.Context) error {
			_, err := cl.Delete(ctx, t.key("plain", ""), clientv3.WithPrefix())
			return err
		}, Spoiled: t.key("plain", ""), Clean: t.clean}, nil
}

// key returns a key in a namespace of the run.
func (t *trials) key(in, name string) string {
	return t.own + "_" + in + "/" + strings.Repeat("d/", prefixDepth(t.c.t)-1) + name
}

func (t *trials) put(ctx context.Context, in, name, value string, o ...clientv3.OpOption) error {
	_, err := t.cl.Put(ctx, t.key(in, name), value, o...)
	return err
}

func (t *trials) delete(ctx context.Context, in, name string, o ...clientv3.OpOption) error {
	_, err := t.cl.Delete(ctx, t.key(in, name), o...)
	return err
}

// fill puts some keys.
func (t *trials) fill(ctx context.Context, in string, n int) error {
	for i := range n {
		if err := t.put(ctx, in, fmt.Sprintf("k%04d", i), fmt.Sprintf("value %d", i)); err != nil {
			return err
		}
	}
	return nil
}

// lease grants one that outlives the trials by far.
func (t *trials) lease(ctx context.Context) (clientv3.LeaseID, error) {
	l, err := t.cl.Grant(ctx, int64(time.Hour/time.Second))
	if err != nil {
		return 0, err
	}
	t.leases = append(t.leases, l.ID)
	return l.ID, nil
}

// commit carries a transaction out that must come to pass.
func (t *trials) commit(ctx context.Context, ops ...clientv3.Op) error {
	_, err := t.cl.Txn(ctx).Then(ops...).Commit()
	return err
}

// clean removes what this run has made, also what was restored.
func (t *trials) clean(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	_, err := t.cl.Delete(ctx, t.own, clientv3.WithPrefix())
	for _, id := range t.leases {
		if _, lerr := t.cl.Revoke(ctx, id); lerr != nil && !errors.Is(rpctypes.Error(lerr), rpctypes.ErrLeaseNotFound) {
			err = errors.Join(err, lerr)
		}
	}
	return err
}

const (
	apiSource   = "etcd: etcd API"
	txnSource   = "etcd: etcd API, Transaction"
	leaseSource = "etcd: etcd API, Lease API"
	watchSource = "etcd: API guarantees, Watch APIs"
)

// list returns the trials. Compaction is left out: it would take the history from others too.
func (t *trials) list() []engine.Trial {
	return append([]engine.Trial{
		{ID: "put", Says: "a put is an event with the key and the whole value", Source: watchSource,
			Do: func(ctx context.Context) error { return t.fill(ctx, "plain", 20) }},
		{ID: "put.again", Says: "a put of a key that is there is an event with the new value", Source: watchSource,
			Do: func(ctx context.Context) error {
				return errors.Join(t.put(ctx, "plain", "k0003", "another"), t.put(ctx, "plain", "k0003", "and another"))
			}},
		{ID: "put.bytes", Says: "keys and values of any bytes come back as they are, empty ones too", Source: apiSource,
			Do: func(ctx context.Context) error {
				return errors.Join(t.put(ctx, "bytes", "\x00\xff\xfe/\x01", "\x00\xff\n\x80"),
					t.put(ctx, "bytes", "empty", ""), t.put(ctx, "bytes", "a/b//c", "slashes"),
					t.put(ctx, "bytes", "", "no name"))
			}},
		{ID: "put.large", Says: "a value of a MiB is one event", Source: "etcd: System limits",
			Do: func(ctx context.Context) error {
				return t.put(ctx, "large", "one", string(bytes.Repeat([]byte("0123456789abcdef"), 1<<16)))
			}},
		{ID: "put.same-value", Says: "a put that keeps the value is an event with it", Source: apiSource,
			Do: func(ctx context.Context) error {
				return t.put(ctx, "plain", "k0005", "", clientv3.WithIgnoreValue())
			}},
		{ID: "delete", Says: "a delete is an event with the key", Source: watchSource,
			Do: func(ctx context.Context) error { return t.delete(ctx, "plain", "k0007") }},
		{ID: "delete.range", Says: "a delete of a range is an event for each key, of one revision", Source: watchSource,
			Do: func(ctx context.Context) error {
				return t.delete(ctx, "plain", "k0010", clientv3.WithRange(t.key("plain", "k0015")))
			}},
		{ID: "delete.all", Says: "a namespace goes with its last key, and comes with its first", Source: apiSource,
			Do: func(ctx context.Context) error {
				return errors.Join(t.fill(ctx, "short", 3), t.delete(ctx, "short", "", clientv3.WithPrefix()),
					t.fill(ctx, "anew", 3), t.delete(ctx, "anew", "", clientv3.WithPrefix()), t.fill(ctx, "anew", 2))
			}},
		{ID: "transaction", Says: "the changes of a transaction are events of one revision, told together",
			Source: txnSource, Do: func(ctx context.Context) error {
				return t.commit(ctx, clientv3.OpPut(t.key("plain", "k0001"), "of a transaction"),
					clientv3.OpDelete(t.key("plain", "k0002")), clientv3.OpPut(t.key("other", "x"), "as well"))
			}},
		{ID: "transaction.else", Says: "of one whose condition does not hold, the other branch is what happens",
			Source: txnSource, Do: func(ctx context.Context) error {
				_, err := t.cl.Txn(ctx).If(clientv3.Compare(clientv3.Version(t.key("plain", "k0001")), "=", 0)).
					Then(clientv3.OpDelete(t.key("plain", ""), clientv3.WithPrefix())).
					Else(clientv3.OpPut(t.key("plain", "else"), "1")).Commit()
				return err
			}},
		{ID: "transaction.nested", Says: "transactions within one are of its revision", Source: txnSource,
			Do: func(ctx context.Context) error {
				return t.commit(ctx, clientv3.OpTxn(nil, []clientv3.Op{clientv3.OpPut(t.key("nested", "a"), "1"),
					clientv3.OpTxn(nil, []clientv3.Op{clientv3.OpPut(t.key("nested", "b"), "2")}, nil)}, nil))
			}},
		{ID: "transaction.large", Says: "one with as many operations as servers take by default is told as a whole",
			Source: "etcd: Configuration options, max-txn-ops", Do: func(ctx context.Context) error {
				var ops []clientv3.Op
				for i := range 128 {
					ops = append(ops, clientv3.OpPut(t.key("many", fmt.Sprintf("%03d", i)), strings.Repeat("v", 5000)))
				}
				return t.commit(ctx, ops...)
			}},
	}, t.leaseTrials()...)
}

// leaseTrials returns those of keys that are bound to leases.
func (t *trials) leaseTrials() []engine.Trial {
	return []engine.Trial{
		{ID: "lease", Says: "a key bound to a lease says which", Source: leaseSource,
			Do: func(ctx context.Context) error {
				id, err := t.lease(ctx)
				if err != nil {
					return err
				}
				return errors.Join(t.put(ctx, "leased", "a", "1", clientv3.WithLease(id)),
					t.put(ctx, "leased", "b", "2"))
			}},
		{ID: "lease.revoked", Says: "keys of a lease that is revoked are deleted, and that is told",
			Source: leaseSource, Do: func(ctx context.Context) error {
				id, err := t.lease(ctx)
				if err != nil {
					return err
				}
				if err := errors.Join(t.put(ctx, "revoked", "a", "1", clientv3.WithLease(id)),
					t.put(ctx, "revoked", "b", "2")); err != nil {
					return err
				}
				_, err = t.cl.Revoke(ctx, id)
				return err
			}},
		{ID: "lease.ended", Says: "keys of a lease that ends are deleted, and that is told", Source: leaseSource,
			Do: func(ctx context.Context) error {
				l, err := t.cl.Grant(ctx, 1)
				if err != nil {
					return err
				}
				if err := errors.Join(t.put(ctx, "ended", "a", "1", clientv3.WithLease(l.ID)),
					t.put(ctx, "ended", "b", "2")); err != nil {
					return err
				}
				return t.gone(ctx, "ended", "a")
			}},
		{ID: "lease.left", Says: "a key that is put without its lease stays when that ends", Source: leaseSource,
			Do: func(ctx context.Context) error {
				id, err := t.lease(ctx)
				if err != nil {
					return err
				}
				if err := errors.Join(t.put(ctx, "left", "a", "1", clientv3.WithLease(id)),
					t.put(ctx, "left", "a", "2")); err != nil {
					return err
				}
				_, err = t.cl.Revoke(ctx, id)
				return err
			}},
	}
}

// gone waits until a key is deleted.
func (t *trials) gone(ctx context.Context, in, name string) error {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	for {
		ans, err := t.cl.Get(ctx, t.key(in, name))
		if err != nil || len(ans.Kvs) == 0 {
			return err
		}
		select {
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}
