package daemon

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/prometheus/client_golang/prometheus/promhttp"

	"dexamen/internal/explain"
)

// freshenFor is for how long an answer waits for what is read anew.
const freshenFor = 3 * time.Second

// Serve answers with the page, to those who may see it, and to all /healthz (the process works; with ?verbose how
// everything is, as the command status), /readyz (it can protect: every store answers) and /metrics until the
// context ends.
func (d *Daemon) Serve(ctx context.Context, l net.Listener, access PageAccess) error {
	d.prepare()
	mux := http.NewServeMux()
	d.page(ctx, mux, access)
	metrics := promhttp.HandlerFor(d.metrics.registry, promhttp.HandlerOpts{})
	mux.HandleFunc("GET /metrics", func(w http.ResponseWriter, r *http.Request) {
		d.Freshen(r.Context(), freshenFor)
		metrics.ServeHTTP(w, r)
	})
	answer := func(check func() error) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/plain; charset=utf-8")
			if err := check(); err != nil {
				w.WriteHeader(http.StatusServiceUnavailable)
				fmt.Fprintln(w, err)
				return
			}
			fmt.Fprintln(w, "ok")
		}
	}
	healthy := answer(d.healthy)
	mux.HandleFunc("GET /healthz", func(w http.ResponseWriter, r *http.Request) {
		if !r.URL.Query().Has("verbose") {
			healthy(w, r)
			return
		}
		d.Freshen(r.Context(), freshenFor)
		d.verbose(w, strings.Contains(r.Header.Get("Accept"), "json"))
	})
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

// verbose answers how everything is: 200 only where all is well.
func (d *Daemon) verbose(w http.ResponseWriter, asJSON bool) {
	s := d.Status()
	code := http.StatusOK
	if !s.Well {
		code = http.StatusServiceUnavailable
	}
	if asJSON {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(code)
		enc := json.NewEncoder(w)
		enc.SetIndent("", "  ")
		_ = enc.Encode(s)
		return
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.WriteHeader(code)
	s.Text(w)
}

// Text writes a status as lines: one a cluster, one a store, one an alert.
func (s *Status) Text(w io.Writer) {
	at := func(t time.Time) string {
		if t.IsZero() {
			return "-"
		}
		return t.Local().Format(time.RFC3339)
	}
	word := func(well bool) string {
		if well {
			return "well"
		}
		return "ALERT"
	}
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	for _, c := range s.Clusters {
		fmt.Fprintf(t, "cluster %s\t%s\tnewest moment %s\tpoint %s\tproof %s\n", c.Cluster,
			word(c.Error == "" && len(c.Alerts) == 0), at(c.Newest), at(c.PointTime), at(c.Proof))
	}
	for _, st := range s.Stores {
		fmt.Fprintf(t, "store %s\t%s\tholds %d bytes\tfree %d\tscrub %s\n", st.Store,
			word(st.Up && len(st.Alerts) == 0), st.Used, st.Free, at(st.Scrub))
	}
	_ = t.Flush()
	for _, c := range s.Clusters {
		if c.Error != "" {
			fmt.Fprintf(w, "%s: %s\n", c.Cluster, line(c.Error))
		}
		for _, a := range c.Alerts {
			fmt.Fprintf(w, "since %s: %s\n", at(a.Since), line(a.Text))
		}
	}
	for _, st := range s.Stores {
		if st.Error != "" {
			fmt.Fprintf(w, "store %s: since %s: %s\n", st.Store, at(st.Since), line(st.Error))
		}
		for _, a := range st.Alerts {
			fmt.Fprintf(w, "since %s: %s\n", at(a.Since), line(a.Text))
		}
	}
	for _, a := range s.Alerts {
		fmt.Fprintf(w, "since %s: %s\n", at(a.Since), line(a.Text))
	}
}

// line returns a text as it may stand behind something in a line: names in it come from servers.
func line(text string) string {
	return strings.ReplaceAll(explain.Visible(text, true), "\n", "\n    ")
}

// healthy returns an error where the process does not work: it has not looked after its stores for
// long. How those are is told by ready.
func (d *Daemon) healthy() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.ticked.IsZero() {
		return errors.New("it is beginning")
	}
	if age := time.Since(d.ticked); age > d.longest()+time.Minute {
		return fmt.Errorf("it has not looked at what is due for %s", age.Round(time.Second))
	}
	return nil
}

// ready returns an error where something cannot be protected: a store is sick, or what it holds
// has not been read.
func (d *Daemon) ready() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.ticked.IsZero() {
		return errors.New("it is beginning")
	}
	var errs []error
	for _, s := range d.stores {
		switch {
		case s.sick != "":
			errs = append(errs, fmt.Errorf("store %s: since %s: %s", s.name, s.since.Format(time.RFC3339), s.sick))
		case s.took.IsZero():
			errs = append(errs, fmt.Errorf("store %s has not been tried yet", s.name))
		}
	}
	for _, w := range d.assignments() {
		switch x := d.wards[key(w)]; {
		case x == nil || x.state == nil && x.failed == "":
			errs = append(errs, fmt.Errorf("it has not read yet what store %s holds of %s", w.Store, w.Cluster))
		case x.failed != "":
			errs = append(errs, fmt.Errorf("store %s, cluster %s: %s", w.Store, w.Cluster, x.failed))
		}
	}
	return errors.Join(errs...)
}
