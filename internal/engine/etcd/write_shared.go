package etcd

import (
	"context"
	"encoding/json"
	"fmt"

	clientv3 "go.etcd.io/etcd/client/v3"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

var _ engine.SharedWriter = (*writer)(nil)

// ticket is what another process writes by.
type ticket struct {
	// Claimed is the revision at which the key that reserves the namespace was made: it is gone, or of another
	// revision, once the restore has ended.
	Claimed int64 `json:"claimed"`
}

// ShareWrites implements [engine.SharedWriter]. Leases are looked after by the process that makes them, so that
// one process alone writes where there are any.
func (w *writer) ShareWrites(ctx context.Context, ns record.Namespace) ([]byte, error) {
	if len(w.ttl) > 0 {
		return nil, nil
	}
	ans, err := ask(ctx, func(ctx context.Context) (*clientv3.GetResponse, error) {
		return w.cl.Get(ctx, markPrefix+ns.Name)
	})
	if err != nil {
		return nil, w.fail(w.explain(err, "looking who restores "+ns.Name))
	}
	if len(ans.Kvs) == 0 {
		return nil, fmt.Errorf("%s: %w", ns.Name, engine.ErrClaimLost)
	}
	return json.Marshal(ticket{Claimed: ans.Kvs[0].CreateRevision})
}

// WriteShared implements [engine.SharedWriter]: each transaction writes only while the namespace is reserved.
func (w *writer) WriteShared(ctx context.Context, t []byte, ns record.Namespace, recs []record.Record) error {
	var of ticket
	if err := json.Unmarshal(t, &of); err != nil || of.Claimed == 0 {
		return fmt.Errorf("%s: what says who restores it makes no sense: %q", ns.Name, t)
	}
	is := clientv3.Compare(clientv3.CreateRevision(markPrefix+ns.Name), "=", of.Claimed)
	return w.putWhile(ctx, []clientv3.Cmp{is}, ns, recs)
}
