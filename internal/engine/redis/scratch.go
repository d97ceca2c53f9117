package redis

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"time"

	goredis "github.com/redis/go-redis/v9"

	"dexamen/internal/engine"
)

// A server that is had for oneself carries two keys: benchKey says that what is
// there may be thrown away, and stays until it was; holderKey says who has it,
// and goes by itself when he is gone.
const (
	benchKey  = "dexamen.scratch"
	holderKey = "dexamen.scratch.holder"

	holdTime = time.Minute
)

// marksAt counts the marks on one server.
func (c *cluster) marksAt(ctx context.Context, addr string) (int64, error) {
	there := []string{markKey}
	if !c.clustered { // in one with slots, keys of one command have to be together
		there = marks
	}
	n, err := c.clientDB(addr, 0).Exists(ctx, there...).Result()
	return n, c.explain(err, addr)
}

// stillMine prolongs a hold, unless it is somebody else's by now.
var stillMine = goredis.NewScript(
	`if redis.call('GET', KEYS[1]) == ARGV[1] then return redis.call('PEXPIRE', KEYS[1], ARGV[2]) end return 0`)

// emptied throws everything away where the hold is still one's own.
var emptied = goredis.NewScript(
	`if redis.call('GET', KEYS[1]) == ARGV[1] then redis.call('FLUSHALL') return 1 end return 0`)

var errNotMine = errors.New("somebody else has taken the scratch server meanwhile, or emptied it: what was made " +
	"there counts for nothing; try again")

// Claim implements [engine.ScratchServer].
func (w *writer) ClaimServer(ctx context.Context) (func(context.Context) error, error) {
	if w.clustered {
		return nil, w.fail(fmt.Errorf("%w: a scratch server is a lone one, not one with slots", engine.ErrNotExclusive))
	}
	addr := w.membersOf(w.list()[0])[0]
	cl := w.client(addr)
	in, err := w.info(ctx, addr)
	if err != nil {
		return nil, w.fail(err)
	}
	if policy := in["maxmemory_policy"]; num(in["maxmemory"]) > 0 && policy != "noeviction" {
		return nil, w.fail(fmt.Errorf("%w: the scratch server throws keys away when its memory is full "+
			"(maxmemory-policy %s), and nobody would know; set it to noeviction", engine.ErrNotExclusive, policy))
	}
	token := make([]byte, 8)
	_, _ = rand.Read(token) // never fails, by its contract
	host, _ := os.Hostname()
	me := fmt.Sprintf("%s, process %d, since %s (%s)", host, os.Getpid(), time.Now().UTC().Format(time.RFC3339),
		hex.EncodeToString(token))
	ok, err := cl.SetNX(ctx, holderKey, me, holdTime).Result()
	if err != nil {
		return nil, w.fail(w.explain(err, addr))
	}
	if !ok {
		who, _ := cl.Get(ctx, holderKey).Result()
		return nil, w.fail(fmt.Errorf("%w: the scratch server is in use by %s", engine.ErrInUse, who))
	}
	if err := w.vacate(ctx, cl, me); err != nil {
		_, _ = cl.Del(context.WithoutCancel(ctx), holderKey).Result()
		if !errors.Is(err, engine.ErrNotExclusive) {
			err = w.explain(err, addr)
		}
		return nil, w.fail(err)
	}
	stop, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for {
			select {
			case <-stop:
				return
			case <-time.After(holdTime / 4):
				// the end tells
				_ = stillMine.Run(context.WithoutCancel(ctx), cl, []string{holderKey}, me,
					holdTime.Milliseconds()).Err()
			}
		}
	}()
	return func(ctx context.Context) error {
		close(stop)
		<-ended
		n, err := emptied.Run(ctx, cl, []string{holderKey}, me).Int()
		switch {
		case err != nil:
			return w.fail(w.explain(err, addr))
		case n == 0:
			return w.fail(errNotMine)
		}
		return nil
	}, nil
}

// vacate sees that there is nothing on a server but what was to be thrown away,
// throws it away, and marks the server.
func (w *writer) vacate(ctx context.Context, cl *goredis.Client, me string) error {
	used, err := cl.Exists(ctx, benchKey).Result()
	if err != nil {
		return err
	}
	if used == 0 {
		spaces, err := w.Namespaces(ctx)
		if err != nil {
			return err
		}
		for _, ns := range spaces {
			if ns.Kind == keysKind && ns.Records > 0 {
				return fmt.Errorf("%w: the scratch server is not empty: %s holds content (%d), and nothing says "+
					"that it may be thrown away; name another server, or empty this one yourself",
					engine.ErrNotExclusive, ns.Name, ns.Records)
			}
		}
	}
	_, err = cl.TxPipelined(ctx, func(p goredis.Pipeliner) error {
		p.FlushAll(ctx)
		p.Set(ctx, benchKey, "what is here may be thrown away", 0)
		p.Set(ctx, holderKey, me, holdTime)
		return nil
	})
	return err
}
