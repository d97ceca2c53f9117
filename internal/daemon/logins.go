package daemon

import (
	"context"
	"errors"
	"time"

	"dexamen/internal/account"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/explain"
	"dexamen/internal/notify"
)

// loginsEvery is how often it is looked whether the time of a login that was lent is over.
const loginsEvery = time.Minute

// endOverdue takes away the logins recorded in a store whose time is over.
func (w Deps) endOverdue(ctx context.Context, storeName string) ([]*store.Run, map[string]error, error) {
	e, err := w.env(ctx, storeName, "")
	if errors.Is(err, store.ErrNoStore) { // it is configured and not made yet
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	defer e.Store.Close()
	return account.EndOverdue(ctx, e, func(ctx context.Context, cluster string) (engine.Cluster, error) {
		return w.OpenCluster(ctx, w.Config, cluster, nil)
	})
}

// endLogins takes away logins recorded in a store whose time is over, until the context ends. One
// that cannot be taken away is told, and told again when it is over.
func (d *Daemon) endLogins(ctx context.Context, storeName string) {
	told := map[string]notify.Alert{} // by the run that lent the login
	for ctx.Err() == nil {
		d.mu.Lock()
		world := d.Deps
		d.mu.Unlock()
		_ = d.guarded("logins recorded in "+storeName, func() error {
			d.endLoginsOf(ctx, world, storeName, told)
			return nil
		})
		select {
		case <-ctx.Done():
		case <-time.After(loginsEvery):
		}
	}
}

func (d *Daemon) endLoginsOf(ctx context.Context, world Deps, name string, told map[string]notify.Alert) {
	ctx, cancel := context.WithTimeout(ctx, loginsEvery)
	defer cancel()
	ended, failed, err := world.endOverdue(ctx, name)
	if err != nil {
		return // that a store cannot be read is told elsewhere
	}
	for _, r := range ended {
		d.Log.Info("login taken away", "user", r.Login.User, "cluster", r.Cluster, "reason", r.Reason, "run", r.ID)
	}
	for id, err := range failed {
		told[id] = notify.Alert{Key: "login " + id, About: "temporary", Store: name, Since: time.Now().UTC(),
			Text: explain.Error(err), Do: "dexamen account list"}
		d.ledger.Raise(told[id])
	}
	for id, a := range told {
		if failed[id] == nil {
			delete(told, id)
			d.ledger.Clear(a)
		}
	}
}
