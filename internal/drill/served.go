package drill

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
	"dexamen/internal/serve"
	"dexamen/internal/verify"
)

// served serves a moment on this machine alone, reads all of it back as a client of the cluster's own
// protocol does, and compares it.
func served(ctx context.Context, e *run.Runner, m *moment.Moment, r *store.Run, o Options) error {
	if _, ok := serve.Address(m.Point.Engine, ""); !ok {
		return fmt.Errorf("%w: moments of %s clusters cannot be rehearsed by serving them; name a scratch cluster "+
			"to restore onto (drill: to:, or --to)", run.ErrRefused, m.Point.Engine)
	}
	w := &stopwatch{time.Now(), r.Drill}
	content, err := serve.Open(ctx, e, m, "")
	if err != nil {
		return err
	}
	defer content.Close()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	address, _ := serve.Address(m.Point.Engine, l.Addr().String())
	secret := make([]byte, 15)
	_, _ = rand.Read(secret) // never fails, by its contract
	so := serve.Options{User: "drill", Password: strings.ToLower(base32.StdEncoding.EncodeToString(secret)),
		Version: e.Tool}
	sctx, cancel := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() { ended <- serve.Serve(sctx, content, l, so) }()
	defer func() {
		cancel()
		if err := <-ended; err != nil {
			e.Emit(run.Note, "serving the moment ended with: %v", err)
		}
	}()
	_, drv, err := engine.ForAddress(address)
	if err != nil {
		return err
	}
	e.Emit(run.Step, "serving %s, and reading it back", m)
	cl, err := drv.Open(ctx, engine.Target{Name: m.Point.Cluster + " (served)", Address: address, User: so.User,
		Secret: so.Password})
	if err != nil {
		return err
	}
	defer func() { _ = cl.Close() }()
	if _, err := cl.Namespaces(ctx); err != nil {
		return err
	}
	w.answered()
	t := &there{cluster: engine.ApplicationView(cl), address: address, user: so.User, password: so.Password,
		counts: map[string]any{}}
	patterns := o.Patterns
	if len(patterns) == 0 {
		patterns = []string{""} // all, and nothing else
	}
	for _, p := range patterns {
		diffs, err := verify.Live(ctx, e, m, cl, p, nil, 3)
		if err != nil {
			return err
		}
		if err := moment.Different(diffs); err != nil {
			return notWhole(err)
		}
		for _, d := range diffs {
			if _, twice := t.counts[d.A]; !twice {
				t.counts[d.A], r.Records = d.RecordsB, r.Records+d.RecordsB
			}
		}
	}
	r.Drill.Recovery = w.elapsed()
	r.SetVerdicts([]store.RunVerdict{{Of: "content", Found: store.FoundSound,
		Detail: fmt.Sprintf("%s, served and read back, equal", run.Count(int64(len(t.counts)), "namespace"))}})
	if err := check(ctx, e, r, o, t); err != nil {
		return err
	}
	select {
	case err := <-ended:
		ended <- nil
		return errors.Join(errors.New("serving the moment ended before the drill did"), err)
	default:
		return nil
	}
}
