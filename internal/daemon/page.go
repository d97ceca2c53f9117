package daemon

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"fmt"
	"maps"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"dexamen/internal/core/store"
	"dexamen/internal/explain"
	"dexamen/internal/report"
	"dexamen/internal/run"
	"dexamen/internal/workers"
)

const (
	// pagePeriod is how far back the page looks.
	pagePeriod = 30 * 24 * time.Hour
	// listDays is how far back lists of runs look, and mostRuns how many they show.
	listDays = 7
	mostRuns = 500
	// eventsEvery is how often at most a page is told that something has changed.
	eventsEvery = time.Second
	// heartbeat is how often it is told that the daemon is there.
	heartbeat  = 15 * time.Second
	cookieName = "dexamen-page"
)

// PageAccess is who sees the daemon's page.
type PageAccess struct {
	// Token lets who knows it see the page.
	Token string
	// Loopback: the daemon listens on this machine's own addresses only.
	Loopback bool
	// ByCertificate: clients show a certificate of an authority that is trusted for that.
	ByCertificate bool
}

// page adds the page to what a daemon answers.
func (d *Daemon) page(ctx context.Context, mux *http.ServeMux, access PageAccess) {
	handle := func(pattern string, h http.HandlerFunc) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			secure(w.Header())
			if access.allow(w, r) {
				h(w, r)
			}
		})
	}
	static := func(kind, text string) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) {
			secure(w.Header())
			w.Header().Set("Content-Type", kind)
			_, _ = w.Write([]byte(text))
		}
	}
	mux.HandleFunc("GET /page.css", static("text/css; charset=utf-8", report.CSS()))
	mux.HandleFunc("GET /page.js", static("text/javascript; charset=utf-8", report.JS()))
	mux.HandleFunc("POST /login", access.login)
	handle("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		data, crew := d.liveData(r.Context())
		show(w, r, &report.Live{Title: "How the data is protected", Data: data, Crew: crew, Going: d.goingOn()})
	})
	handle("GET /workers", func(w http.ResponseWriter, r *http.Request) {
		l := &report.Live{Title: "Workers"}
		if _, l.Crew = d.liveData(r.Context()); l.Crew == nil {
			l.Note = "This daemon shares no work with others."
		}
		show(w, r, l)
	})
	handle("GET /runs/{store}/{cluster}", d.listRuns)
	handle("GET /run/{store}/{cluster}/{run}", d.showRun)
	handle("GET /going/{key}", d.showGoing)
	handle("GET /events", func(w http.ResponseWriter, r *http.Request) { d.events(ctx, w, r) })
}

// secure has browsers load nothing from elsewhere, and show the page in no other one.
func secure(h http.Header) {
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'self'; script-src 'self'; connect-src 'self'; "+
		"base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cache-Control", "no-store")
}

// allow reports whether a request may see the page, and answers it where not.
func (a PageAccess) allow(w http.ResponseWriter, r *http.Request) bool {
	switch {
	case r.TLS != nil && len(r.TLS.VerifiedChains) > 0:
		return true
	case a.Token != "":
		bearer := strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
		c, err := r.Cookie(cookieName)
		if equal(bearer, a.Token) || err == nil && equal(c.Value, a.session()) {
			return true
		}
		refuse(w, http.StatusUnauthorized,
			"The page is for those who know the token of the configuration (daemon.token).")
		return false
	case a.Loopback && ownName(r.Host):
		return true
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.WriteHeader(http.StatusForbidden)
	why := "the page is shown on loopback addresses only, such as 127.0.0.1:9310; for others name daemon.token, or " +
		"daemon.tls with a client_ca, in the configuration"
	if a.ByCertificate {
		why = "the page is for clients with a certificate of an authority in daemon.tls.client_ca"
	}
	fmt.Fprintln(w, why)
	return false
}

// equal compares secrets in a time that tells nothing of them.
func equal(a, b string) bool {
	x, y := sha256.Sum256([]byte(a)), sha256.Sum256([]byte(b))
	return subtle.ConstantTimeCompare(x[:], y[:]) == 1
}

// session is what the cookie of somebody holds who knows the token; it is not the token.
func (a PageAccess) session() string {
	sum := sha256.Sum256([]byte("dexamen page\x00" + a.Token))
	return hex.EncodeToString(sum[:])
}

// ownName reports whether a request names this machine itself: a name that somebody else has point here
// is refused, or any page in the same browser could read this one.
func ownName(host string) bool {
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func refuse(w http.ResponseWriter, code int, why string) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(code)
	_ = report.Login(w, why)
}

func (a PageAccess) login(w http.ResponseWriter, r *http.Request) {
	secure(w.Header())
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	if a.Token == "" || !equal(r.PostFormValue("token"), a.Token) {
		time.Sleep(time.Second) // guessing takes long
		refuse(w, http.StatusUnauthorized, "That is not the token.")
		return
	}
	http.SetCookie(w, &http.Cookie{Name: cookieName, Value: a.session(), Path: "/", HttpOnly: true,
		Secure:   r.TLS != nil,
		SameSite: http.SameSiteStrictMode, MaxAge: 12 * 3600})
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

// show answers with a page, or with the part of it that a page asks for anew.
func show(w http.ResponseWriter, r *http.Request, l *report.Live) {
	l.Now, l.Part = time.Now(), r.URL.Path
	var out bytes.Buffer
	if err := l.Write(&out, r.Header.Get("X-Part") != ""); err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = out.WriteTo(w)
}

// liveFor is for how long what was worked out for the page is shown again: many may look at it.
const liveFor = 2 * time.Second

// shown is what the page showed last.
type shown struct {
	mu   sync.Mutex
	data *report.Data
	crew *report.Crew
}

// liveData returns what is known without asking a store, and who shares the work.
func (d *Daemon) liveData(ctx context.Context) (*report.Data, *report.Crew) {
	d.shown.mu.Lock()
	defer d.shown.mu.Unlock()
	if last := d.shown.data; last == nil || time.Since(last.To) > liveFor {
		d.shown.data, d.shown.crew = d.gatherLive(), d.gatherCrew(ctx)
	}
	return d.shown.data, d.shown.crew
}

// gatherCrew returns who shares the work with this daemon; nil where nobody could.
func (d *Daemon) gatherCrew(ctx context.Context) *report.Crew {
	d.mu.Lock()
	e, others := d.crewEngine, maps.Clone(d.division.others)
	d.mu.Unlock()
	if e == nil {
		return nil
	}
	out := &report.Crew{}
	for _, n := range others {
		out.Elsewhere += int64(n)
	}
	ctx, cancel := context.WithTimeout(ctx, crewWithin)
	defer cancel()
	now, err := e.Overview(ctx)
	if err != nil {
		out.Note = "who is there cannot be told now: " + explain.Error(err)
		return out
	}
	for i := range now.Workers {
		out.Members = append(out.Members, memberOf(&now.Workers[i]))
	}
	for _, j := range now.Jobs {
		var oldest time.Duration
		if !j.Oldest.IsZero() {
			oldest = max(time.Since(j.Oldest), time.Millisecond)
		}
		out.Jobs = append(out.Jobs, report.CrewJob{Oldest: oldest, Kind: j.Kind, By: j.By,
			Of:   cmp.Or(j.Cluster, "store "+j.Store),
			Open: time.Since(j.Begun), Done: int64(j.Done), Working: int64(j.Working), Waiting: int64(j.Waiting)})
	}
	for _, l := range now.Limits {
		out.Limits = append(out.Limits, fmt.Sprintf("%s: %d of %d places taken", l.Name, l.Taken, l.Slots))
	}
	return out
}

// crewWithin is how long the workers' servers are waited for.
const crewWithin = 2 * time.Second

func memberOf(w *workers.Info) report.CrewMember {
	m := report.CrewMember{Name: w.Name, Host: fmt.Sprintf("%s %d", w.Host, w.Process), Version: w.Version,
		Clusters: int64(w.Clusters), Parallel: w.Parallel, Busy: len(w.Doing), Done: w.Done, Failed: w.Failed,
		Seen: time.Since(w.Seen)}
	for _, k := range slices.Sorted(maps.Keys(w.Labels)) {
		m.Labels = append(m.Labels, k+"="+w.Labels[k])
	}
	if w.Draining {
		m.Notes = append(m.Notes, "ends")
	}
	if w.For != "" {
		m.Notes = append(m.Notes, "began a job")
	}
	for _, what := range slices.Sorted(maps.Keys(w.Cannot)) {
		m.Lacks = append(m.Lacks, "does not reach "+what+": "+w.Cannot[what])
	}
	for _, t := range w.Doing {
		if t.What != "" {
			m.Does = append(m.Does, t.Of+": "+t.What)
		}
	}
	return m
}

func (d *Daemon) gatherLive() *report.Data {
	s := d.Status()
	now := time.Now()
	out := &report.Data{From: now.Add(-pagePeriod), To: now, Well: s.Well, Live: true, Tool: "dexamen " + d.Version}
	for i := range s.Clusters {
		out.Clusters = append(out.Clusters, clusterOf(&s.Clusters[i]))
	}
	finish(s, out)
	// A state is replaced, and never changed: it is looked through without keeping the daemon from its work.
	for i, c := range out.Clusters {
		x := &s.Clusters[i]
		if x.state == nil {
			continue
		}
		fillCluster(x.ward, x.state, c, out)
		for _, r := range x.state.Runs {
			switch {
			case r.Kind == store.RunSnapshot && !r.To.IsZero():
				c.Durations = append(c.Durations, report.Sample{Time: r.Finished, Value: r.Took().Seconds()})
			case r.Kind == store.RunRetention && r.Promise != nil:
				c.Known += r.Promise.To.Sub(r.Promise.From).Seconds()
				c.Broken += r.Promise.Broken.D().Seconds()
			}
			if slices.Contains([]string{store.RunDrill, store.RunRestore, store.RunVerify}, r.Kind) {
				out.Evidence = append(out.Evidence, report.Statement{Ended: r.Finished, Kind: r.Kind,
					Cluster: r.Cluster,
					Moment:  r.To, Target: r.Target, Result: r.Result, Took: r.Took().Seconds()})
			}
		}
	}
	d.mu.Lock()
	world := d.Deps
	d.mu.Unlock()
	out.Left = append(out.Left, world.notProtected()...)
	out.From = beginning(out)
	slices.SortStableFunc(out.Evidence, func(a, b report.Statement) int { return b.Ended.Compare(a.Ended) })
	out.Evidence = out.Evidence[:min(len(out.Evidence), 50)]
	return out
}

// goingOn returns what this process is at.
func (d *Daemon) goingOn() (out []report.Going) {
	d.mu.Lock()
	defer d.mu.Unlock()
	now := time.Now()
	for k, g := range d.going {
		x := report.Going{Key: goingKey(k), Cluster: g.ward.Cluster, Kind: g.kind, Since: now.Sub(g.begun)}
		x.Step, x.Records, x.Total, x.Bytes = g.seen.sum()
		if s := x.Since.Seconds(); s >= 1 {
			x.Rate = int64(float64(x.Bytes) / s)
		}
		x.Left = left(g.begun, now, x.Records, x.Total)
		if g.kind == store.RunCapture && g.ward.Config.When.Continuous {
			x.Step, x.Left = "follows the log", 0
		}
		out = append(out, x)
	}
	slices.SortFunc(out, func(a, b report.Going) int { return strings.Compare(a.Cluster+a.Kind, b.Cluster+b.Kind) })
	return out
}

// goingKey names a run that goes on in an address.
func goingKey(k string) string {
	sum := sha256.Sum256([]byte(k))
	return hex.EncodeToString(sum[:8])
}

func (d *Daemon) showGoing(w http.ResponseWriter, r *http.Request) {
	var one *report.OneRun
	d.mu.Lock()
	for k, g := range d.going {
		if goingKey(k) != r.PathValue("key") {
			continue
		}
		one = &report.OneRun{Title: g.kind + " of " + g.ward.Cluster + ", which goes on",
			Fields: []report.Field{{Name: "policy", Text: g.ward.Policy},
				{Name: "began", Text: g.begun.Local().Format(time.DateTime)}}}
		for _, e := range g.seen.text() {
			one.Lines = append(one.Lines, e.Time.Local().Format(time.TimeOnly)+"  "+mark(e.Kind)+explain.Visible(
				e.Text, false))
		}
	}
	d.mu.Unlock()
	l := &report.Live{Title: "A run", One: one}
	if one == nil {
		l.Note = "This run has ended; the overview leads to it."
	}
	show(w, r, l)
}

func mark(k run.Kind) string {
	if k == run.Warning {
		return "! "
	}
	return ""
}

// runsOf reads runs of a cluster from a store that this daemon works with.
func (d *Daemon) runsOf(r *http.Request, f store.RunFilter) ([]*store.Run, error) {
	name, cluster := r.PathValue("store"), r.PathValue("cluster")
	d.mu.Lock()
	world := d.Deps
	d.mu.Unlock()
	if _, ok := world.Config.Stores[name]; !ok {
		return nil, fmt.Errorf("there is no store %q", name)
	}
	ctx, cancel := context.WithTimeout(r.Context(), readWithin)
	defer cancel()
	e, err := world.env(ctx, name, cluster)
	if err != nil {
		return nil, err
	}
	defer e.Store.Close()
	f.Cluster, f.Since = cluster, time.Now().Add(-listDays*24*time.Hour)
	runs, _, err := e.Store.Runs(ctx, f)
	return runs, err
}

func (d *Daemon) listRuns(w http.ResponseWriter, r *http.Request) {
	list := &report.RunList{Store: r.PathValue("store"), Cluster: r.PathValue("cluster"), Days: listDays}
	runs, err := d.runsOf(r, store.RunFilter{Last: mostRuns})
	if err != nil {
		show(w, r, &report.Live{Title: "Runs", Note: explain.Error(err)})
		return
	}
	slices.Reverse(runs)
	for _, x := range runs[:min(len(runs), mostRuns)] {
		list.Runs = append(list.Runs, report.ListedRun{ID: x.ID, Kind: x.Kind, Result: x.Result,
			Error: strings.TrimPrefix(x.Error, x.Result+": "),
			By:    askedBy(x), Began: x.Started, Took: x.Took(), Stored: x.Stored})
	}
	show(w, r, &report.Live{Title: "Runs of " + list.Cluster, List: list})
}

func askedBy(r *store.Run) string {
	if r.Policy != "" {
		return "policy " + r.Policy
	}
	return r.User + " on " + r.Host
}

func (d *Daemon) showRun(w http.ResponseWriter, r *http.Request) {
	runs, err := d.runsOf(r, store.RunFilter{ID: r.PathValue("run")})
	if err != nil {
		show(w, r, &report.Live{Title: "A run", Note: explain.Error(err)})
		return
	}
	if len(runs) == 0 || r.PathValue("run") == "" {
		show(w, r, &report.Live{Title: "A run", Note: "There is no such run, of the last days."})
		return
	}
	x := runs[0]
	one := &report.OneRun{Title: x.Kind + " of " + x.Cluster}
	add := func(name, text string) {
		if text != "" {
			one.Fields = append(one.Fields, report.Field{Name: name, Text: explain.Visible(text, false)})
		}
	}
	add("run", x.ID)
	add("result", x.Result)
	add("error", x.Error)
	add("began", x.Started.Local().Format(time.RFC3339))
	add("took", x.Took().String())
	add("asked for by", askedBy(x))
	add("reason", x.Reason)
	add("point", x.Point)
	add("onto", x.Target)
	add("command", x.What)
	for _, m := range x.Read {
		add("read", m.Shard+": "+m.Address+" "+m.Reason)
	}
	for _, v := range x.Verdicts {
		add(v.Found, v.Of+" "+v.Detail)
	}
	if x.Drill != nil {
		add("first answer", x.Drill.FirstAnswer.D().String())
		add("all was there", x.Drill.Recovery.D().String())
		for _, c := range x.Drill.Checks {
			add(map[bool]string{true: "passed", false: "failed"}[c.Passed], c.What+" "+c.Found)
		}
	}
	for _, t := range x.Warnings {
		one.Lines = append(one.Lines, "! "+explain.Visible(t, true))
	}
	for _, h := range x.Hooks {
		one.Lines = append(one.Lines, fmt.Sprintf("%s: %s (exit %d) %s", h.Phase,
			explain.Visible(strings.Join(h.Command, " "),
				false), h.Exit, explain.Visible(h.Output, true)))
	}
	show(w, r, &report.Live{Title: one.Title, One: one})
}

// events tells a page, as server-sent events, when there is something new to be shown.
func (d *Daemon) events(ctx context.Context, w http.ResponseWriter, r *http.Request) {
	out := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	told, beat := d.version(), time.Now()
	for {
		var err error
		switch now := d.version(); {
		case now != told:
			told, beat = now, time.Now()
			_, err = fmt.Fprintf(w, "data: %d\n\n", now)
		case time.Since(beat) > heartbeat:
			beat = time.Now()
			_, err = fmt.Fprint(w, ": there\n\n")
		}
		if err == nil {
			err = out.Flush()
		}
		if err != nil {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-r.Context().Done():
			return
		case <-time.After(eventsEvery):
		}
	}
}

// version counts what could be seen to change.
func (d *Daemon) version() uint64 {
	n := d.changes.Load()
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, g := range d.going {
		if g.kind != store.RunCapture {
			n += g.seen.count.Load()
		}
	}
	return n
}
