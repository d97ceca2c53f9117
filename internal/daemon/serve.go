package daemon

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"time"

	"github.com/prometheus/client_golang/prometheus/promhttp"
)

// Serve answers /healthz (the daemon is at work), /readyz (it knows what is in
// every store) and /metrics until the context ends.
func (d *Daemon) Serve(ctx context.Context, l net.Listener) error {
	d.mu.Lock()
	if d.metrics == nil {
		d.metrics = newMetrics(d)
	}
	d.mu.Unlock()
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", promhttp.HandlerFor(d.metrics.registry, promhttp.HandlerOpts{}))
	answer := func(check func() error) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) {
			if err := check(); err != nil {
				w.WriteHeader(http.StatusServiceUnavailable)
				fmt.Fprintln(w, err)
				return
			}
			fmt.Fprintln(w, "ok")
		}
	}
	mux.Handle("GET /healthz", answer(d.healthy))
	mux.Handle("GET /readyz", answer(d.ready))
	srv := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go func() {
		<-ctx.Done()
		end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		_ = srv.Shutdown(end)
	}()
	if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// healthy reports what is wrong when the daemon has not looked at what is due for
// long.
func (d *Daemon) healthy() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.ticked.IsZero() {
		return errors.New("it is beginning")
	}
	if age := time.Since(d.ticked); age > 10*time.Minute {
		return fmt.Errorf("it has not looked at what is due for %s", age.Round(time.Second))
	}
	for _, x := range d.wards {
		if x.failed != "" && time.Since(x.failedSince) > unreadFor {
			return fmt.Errorf("store %s cannot be used since %s: %s", x.ward.Store, x.failedSince.Format(time.RFC3339),
				x.failed)
		}
	}
	return nil
}

func (d *Daemon) ready() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, x := range d.wards {
		if x.failed != "" {
			return fmt.Errorf("store %s: %s", x.ward.Store, x.failed)
		}
		if x.state == nil {
			return fmt.Errorf("it has not read yet what store %s holds of %s", x.ward.Store, x.ward.Cluster)
		}
	}
	if d.ticked.IsZero() {
		return errors.New("it is beginning")
	}
	return nil
}
