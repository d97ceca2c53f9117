package integration_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/engine/etcd/etcdtest"
	"dexamen/internal/engine/redis/redistest"
	"dexamen/internal/servertest"
)

// desk is where alerts go: a webhook and a mail server, each of which may be away or slow.
type desk struct {
	mu         sync.Mutex
	told       []deskNote
	mail       net.Listener
	hookAt     string
	mailAt     string
	slow       time.Duration
	hookServer *http.Server
	mailDead   bool
}

type deskNote struct {
	channel, key, id, of string
	over                 bool
	at                   time.Time
}

func newDesk(t *testing.T) *desk {
	d := &desk{}
	d.open(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	d.mail, d.mailAt = l, l.Addr().String()
	t.Cleanup(func() { _ = l.Close(); d.close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go d.letter(c)
		}
	}()
	return d
}

// open has the webhook answer, at the address it had before.
func (d *desk) open(t *testing.T) {
	at := d.hookAt
	if at == "" {
		at = "127.0.0.1:0"
	}
	l, err := net.Listen("tcp", at)
	require.NoError(t, err)
	d.hookAt = l.Addr().String()
	d.hookServer = &http.Server{Handler: http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var m struct {
			Key, ID, Store, Cluster string
			Over                    bool
		}
		_ = json.NewDecoder(r.Body).Decode(&m)
		d.note(deskNote{"webhook", m.Key, m.ID, m.Store + " " + m.Cluster, m.Over, time.Now()})
	}), ReadHeaderTimeout: time.Minute}
	go func(s *http.Server) { _ = s.Serve(l) }(d.hookServer)
}

func (d *desk) close() { _ = d.hookServer.Close() }

func (d *desk) note(n deskNote) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.told = append(d.told, n)
}

// letter takes one, after a while where the server is slow.
func (d *desk) letter(c net.Conn) {
	defer c.Close()
	d.mu.Lock()
	slow, dead := d.slow, d.mailDead
	d.mu.Unlock()
	if dead {
		return
	}
	time.Sleep(slow)
	r := bufio.NewReader(c)
	fmt.Fprint(c, "220 lindenholt.example\r\n")
	for {
		line, err := r.ReadString('\n')
		if err != nil {
			return
		}
		switch strings.ToUpper(strings.Fields(line + " x")[0]) {
		case "DATA":
			fmt.Fprint(c, "354 go on\r\n")
			var b strings.Builder
			for line, err = r.ReadString('\n'); err == nil && line != ".\r\n"; line, err = r.ReadString('\n') {
				b.WriteString(line)
			}
			text := b.String()
			field := func(name string) string {
				_, rest, _ := strings.Cut(text, "\n"+name)
				v, _, _ := strings.Cut(rest, "\n")
				return strings.TrimSpace(v)
			}
			d.note(deskNote{"mail", field("Subject:"), field("id "), field("store ") + " " + field("cluster "),
				strings.Contains(text, "well again"), time.Now()})
			fmt.Fprint(c, "250 taken\r\n")
		case "QUIT":
			fmt.Fprint(c, "221 bye\r\n")
			return
		default:
			fmt.Fprint(c, "250 fine\r\n")
		}
	}
}

// first returns when each channel told of something since a time, or of it being over.
func (d *desk) first(since time.Time, of string, over bool) map[string]time.Duration {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := map[string]time.Duration{}
	for _, n := range d.told {
		if strings.HasPrefix(n.key, "happened") || strings.Contains(n.key, ": burst of") {
			continue // what is made up for at once is many changes at once
		}
		if _, ok := out[n.channel]; !ok && !n.at.Before(since) && n.over == over && strings.HasPrefix(n.of, of) {
			out[n.channel] = n.at.Sub(since)
		}
	}
	return out
}

// twice returns the notices since a time that a channel had more than once.
func (d *desk) twice(since time.Time) (out []string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	seen := map[string]bool{}
	for _, n := range d.told {
		if n.at.Before(since) {
			continue
		}
		if key := n.channel + " " + n.id; seen[key] {
			out = append(out, key+" "+n.key)
		} else {
			seen[key] = true
		}
	}
	return out
}

// going returns what was told since a time and is not over.
func (d *desk) going(since time.Time) map[string]bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := map[string]bool{}
	for _, n := range d.told {
		if key := n.channel + " " + n.of; !n.at.Before(since) && !strings.HasPrefix(n.key, "happened") &&
			!strings.Contains(n.key, ": burst of") {
			if n.over {
				delete(out, key)
			} else {
				out[key] = true
			}
		}
	}
	return out
}

// service is a daemon under a supervisor, with what it works at.
type service struct {
	t           *testing.T
	dir, config string
	bin, clock  string // what the daemon is, and how far its clock is off
	desk        *desk
	s3          servertest.S3Server
	redis, etcd *servertest.Process
	listen      string
	good        string // the configuration
	rows        []string
}

func newService(t *testing.T) *service {
	s := &service{t: t, dir: t.TempDir(), desk: newDesk(t), s3: servertest.S3(t), redis: redistest.Start(t),
		etcd: etcdtest.Start(t, etcdtest.Options{})[0], listen: servertest.FreeAddress(t)}
	s.clock = filepath.Join(s.dir, "clock")
	setClock(t, s.clock, 0)
	s.bin = skewedBinary(t, s.clock)
	pantry := filepath.Join(s.dir, "pantry")
	require.NoError(t, os.Mkdir(pantry, 0o700))
	// A file system of its own, that can be filled.
	require.NoError(t, syscall.Mount("tmpfs", pantry, "tmpfs", 0, "size=24m"), "this needs root")
	t.Cleanup(func() { _ = syscall.Unmount(pantry, 0) })
	s.good = fmt.Sprintf(`stores:
  larder: { location: "s3://%s/store", endpoint: %q, path_style: true, login: { user: %s, secret: { env: BREAK_SECRET } }, key: { file: %q } }
  pantry: { location: "file://%s/store", key: { file: %[4]q } }
clusters:
  burrow: { address: "redis://%[6]s", store: larder }
  orchard: { address: %[7]q, store: pantry, labels: { tier: gold } }
policies:
  keys: { clusters: [burrow], snapshot: every 1h, capture: continuous, flush: 2s, rpo: 61s, keep: { every_moment: 1d, never_fewer: 3 } }
  trees: { clusters: { label: tier=gold }, snapshot: every 1h, capture: continuous, flush: 2s, rpo: 61s, keep: { every_moment: 1d, never_fewer: 3 } }
daemon: { listen: %[8]q }
alerts:
  webhook: { url: "http://%[9]s/desk" }
  mail: { server: %[10]q, from: dexamen@lindenholt.example, to: [keeper@lindenholt.example], tls: none }
`, s.s3.Bucket, s.s3.Endpoint, s.s3.Access, filepath.Join(s.dir, "key"), pantry, s.redis.Address,
		etcdtest.Address(s.etcd), s.listen, s.desk.hookAt, s.desk.mailAt)
	s.config = filepath.Join(s.dir, "dexamen.yaml")
	s.write(s.good)
	s.tool(0, "store", "create", "larder")
	s.tool(0, "store", "create", "pantry")
	return s
}

func (s *service) write(text string) {
	require.NoError(s.t, os.WriteFile(s.config+".new", []byte(text), 0o600))
	require.NoError(s.t, os.Rename(s.config+".new", s.config))
}

func (s *service) command(args ...string) *exec.Cmd {
	c := exec.Command(builtBinary(s.t), append([]string{"--config", s.config}, args...)...)
	c.Env = append(os.Environ(), "BREAK_SECRET="+s.s3.Secret)
	return c
}

func (s *service) tool(code int, args ...string) string {
	s.t.Helper()
	c := s.command(args...)
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	_ = c.Run()
	require.Equal(s.t, code, c.ProcessState.ExitCode(), "%v: %s", args, out.String())
	return out.String()
}

// supervise runs the daemon under runsv, which begins it anew when it ends.
func (s *service) supervise() {
	dir := filepath.Join(s.dir, "service")
	require.NoError(s.t, os.Mkdir(dir, 0o700))
	require.NoError(s.t, os.WriteFile(filepath.Join(dir, "run"), fmt.Appendf(nil,
		"#!/bin/sh\nexec %s --config %s --log-format json daemon >> %s 2>&1\n", s.bin, s.config,
		filepath.Join(s.dir, "log")), 0o700))
	c := exec.Command("runsv", dir)
	c.Env = append(os.Environ(), "BREAK_SECRET="+s.s3.Secret)
	require.NoError(s.t, c.Start())
	s.t.Cleanup(func() {
		_ = c.Process.Signal(syscall.SIGTERM) // it ends what it runs
		_ = c.Wait()
		if s.t.Failed() {
			text, _ := os.ReadFile(filepath.Join(s.dir, "log"))
			s.t.Logf("the daemon's log ends: %s", text[max(0, len(text)-6000):])
		}
	})
	require.Eventually(s.t, func() bool { st := s.status(s.listen); return st != nil && st.Well }, 90*time.Second,
		200*time.Millisecond)
}

func (s *service) pid() int {
	text, err := os.ReadFile(filepath.Join(s.dir, "service", "supervise", "pid"))
	require.NoError(s.t, err)
	var pid int
	_, err = fmt.Sscan(string(text), &pid)
	require.NoError(s.t, err)
	return pid
}

// looked is what a daemon says of itself.
type looked struct {
	Well     bool
	Clusters []struct {
		Cluster    string
		Newest     time.Time
		AgeSeconds float64 `json:"age_seconds"`
		Alerts     []struct{ Key string }
	}
	Stores []struct {
		Store string
		Up    bool
	}
}

func (s *service) status(listen string) *looked {
	req, _ := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+listen+"/healthz?verbose", nil)
	req.Header.Set("Accept", "application/json")
	client := http.Client{Timeout: 5 * time.Second}
	resp, err := client.Do(req)
	if err != nil {
		return nil
	}
	defer resp.Body.Close()
	var l looked
	if json.NewDecoder(resp.Body).Decode(&l) != nil {
		return nil
	}
	return &l
}

// breakage is one way to break something.
type breakage struct {
	name        string
	do, undo    func()
	of          string // the store and the cluster that alerts are of
	channels    []string
	goesOn      []string // clusters that nothing may delay
	whileBroken func()
}

// suffer breaks something, waits until every channel that works has told, heals it, waits until they
// have told that it is over, and notes how long each took, and what went on meanwhile. DEXAMEN_BREAK may
// be a part of the name of those that are wanted.
func (s *service) suffer(h breakage) {
	if only := os.Getenv("DEXAMEN_BREAK"); only != "1" && !strings.Contains(h.name, only) {
		return
	}
	s.t.Log(h.name)
	oldest := map[string]float64{}
	var mu sync.Mutex
	stop, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for {
			if l := s.status(s.listen); l != nil {
				mu.Lock()
				for _, c := range l.Clusters {
					oldest[c.Cluster] = max(oldest[c.Cluster], c.AgeSeconds)
				}
				mu.Unlock()
			}
			select {
			case <-stop:
				return
			case <-time.After(time.Second):
			}
		}
	}()
	told := func(begun time.Time, over bool) (text string) {
		for _, channel := range h.channels {
			took := time.Duration(0)
			require.Eventually(s.t, func() bool {
				var ok bool
				took, ok = s.desk.first(begun, h.of, over)[channel]
				return ok
			}, 75*time.Second, 100*time.Millisecond, "%s: %s, over %v", h.name, channel, over)
			require.LessOrEqual(s.t, took, time.Minute, "%s: %s", h.name, channel)
			text += fmt.Sprintf(" %-8s %5.1f s", channel, took.Seconds())
		}
		return text
	}
	begun := time.Now()
	h.do()
	broken := told(begun, false)
	if h.whileBroken != nil {
		h.whileBroken()
	}
	healed := time.Now()
	h.undo()
	over := told(healed, true)
	close(stop)
	<-done
	row := fmt.Sprintf("%-28s told:%s; over:%s", h.name, broken, over)
	for _, c := range h.goesOn {
		require.Less(s.t, oldest[c], 20.0, "%s: the newest moment of %s", h.name, c)
		row += fmt.Sprintf("; %s at most %.1f s old", c, oldest[c])
	}
	s.rows = append(s.rows, row)
	require.Eventually(s.t, func() bool {
		l := s.status(s.listen)
		if l == nil || !l.Well {
			return false
		}
		for _, c := range l.Clusters { // what was held up has been caught up with
			if c.AgeSeconds > 8 {
				return false
			}
		}
		return true
	}, 60*time.Second, 200*time.Millisecond, h.name)
}

// TestInService breaks what a daemon stands on, one after the other, and prints how long each channel
// took to tell (DEXAMEN_BREAK=1; `make break`).
func TestInService(t *testing.T) {
	if os.Getenv("DEXAMEN_BREAK") == "" {
		t.Skip("takes twenty minutes: make break")
	}
	s := newService(t)
	red, tree := redistest.Client(t, s.redis), etcdtest.Client(t, s.etcd)
	writers, end := sync.WaitGroup{}, make(chan struct{})
	defer func() { close(end); writers.Wait() }()
	for _, write := range []func(i int){
		func(i int) { red.Set(ctx, fmt.Sprint("hive:", i%500), fmt.Sprint("weighed ", i), 0) },
		func(i int) {
			short, cancel := context.WithTimeout(ctx, time.Second)
			defer cancel()
			_, _ = tree.Put(short, fmt.Sprint("/hives/", i%500), fmt.Sprint("weighed ", i))
		}} {
		writers.Go(func() {
			for i := 0; ; i++ {
				select {
				case <-end:
					return
				case <-time.After(100 * time.Millisecond):
					write(i)
				}
			}
		})
	}
	s.supervise()
	signal := func(pid int, sig syscall.Signal) func() { return func() { require.NoError(t, syscall.Kill(pid, sig)) } }
	both, all := []string{"webhook", "mail"}, []string{"burrow", "orchard"}
	filler := filepath.Join(s.dir, "pantry", "filler")
	s.suffer(breakage{name: "full disk", of: "pantry", channels: both, goesOn: []string{"burrow"},
		do: func() {
			f, err := os.Create(filler)
			require.NoError(t, err)
			_, err = io.Copy(f, neverEnding{})
			require.ErrorIs(t, err, syscall.ENOSPC)
			_ = f.Close()
		}, undo: func() { require.NoError(t, os.Remove(filler)) }})
	s.suffer(breakage{name: "hung store", of: "larder", channels: both, goesOn: []string{"orchard"},
		do: signal(s.s3.PID, syscall.SIGSTOP), undo: signal(s.s3.PID, syscall.SIGCONT), whileBroken: func() {
			begun := time.Now()
			s.tool(1, "due")
			require.Less(t, time.Since(begun), 30*time.Second, "due does not hang, and says which store does")
			out := s.tool(1, "status")
			require.Contains(t, out, "it does not answer within")
		}})
	s.suffer(breakage{name: "hung cluster", of: "larder burrow", channels: both, goesOn: []string{"orchard"},
		do: signal(s.redis.PID(), syscall.SIGSTOP), undo: signal(s.redis.PID(), syscall.SIGCONT)})
	s.suffer(breakage{name: "cluster gone", of: "pantry orchard", channels: both, goesOn: []string{"burrow"},
		do: s.etcd.Kill, undo: s.etcd.Begin})
	s.suffer(breakage{name: "dead webhook", of: " ", channels: []string{"mail"}, goesOn: []string{"burrow"},
		do: func() {
			s.desk.close()
			s.write(strings.Replace(s.good, "tier=gold }, snapshot", "tier=glod }, snapshot", 1))
		}, undo: func() { s.desk.open(t); s.write(s.good) }})
	s.suffer(breakage{name: "slow mail (20 s a letter)", of: "pantry", channels: both, goesOn: []string{"burrow"},
		do: func() {
			s.desk.mu.Lock()
			s.desk.slow = 20 * time.Second
			s.desk.mu.Unlock()
			s.write(strings.Replace(s.good, "label: tier=gold", "label: tier=glod", 1))
		}, undo: func() { s.write(s.good) }})
	s.desk.mu.Lock()
	s.desk.slow = 0
	s.desk.mu.Unlock()
	s.suffer(breakage{name: "bad reload", of: " ", channels: both, goesOn: all,
		do:   func() { s.write("stores: [\n"); signal(s.pid(), syscall.SIGHUP)() },
		undo: func() { s.write(s.good); signal(s.pid(), syscall.SIGHUP)() }})
	for _, off := range []time.Duration{2 * time.Hour, -2 * time.Hour} {
		s.suffer(breakage{name: "clock off by " + off.String(), of: "", channels: both,
			do: func() { setClock(t, s.clock, off) }, undo: func() { setClock(t, s.clock, 0) }, whileBroken: func() {
				time.Sleep(time.Minute)
			}})
	}
	for _, h := range []struct {
		name string
		does func()
	}{{"kill -9", s.killed}, {"two daemons", s.twoDaemons}, {"suspended daemon", s.suspended}} {
		if only := os.Getenv("DEXAMEN_BREAK"); only == "1" || strings.Contains(h.name, only) {
			t.Log(h.name)
			h.does()
		}
	}
	t.Logf("what each channel told, after how long, and what went on meanwhile:\n%s", strings.Join(s.rows, "\n"))
}

// neverEnding reads as zeros for ever.
type neverEnding struct{}

func (neverEnding) Read(p []byte) (int, error) { return len(p), nil }

// killed has the daemon killed: the supervisor begins it anew, it goes on at once, and tells nothing
// twice.
func (s *service) killed() {
	begun := time.Now()
	require.NoError(s.t, syscall.Kill(s.pid(), syscall.SIGKILL))
	require.Eventually(s.t, func() bool {
		l := s.status(s.listen)
		if l == nil || !l.Well {
			return false
		}
		for _, c := range l.Clusters {
			if c.Newest.Before(begun.Add(time.Second)) {
				return false
			}
		}
		return true
	}, time.Minute, 200*time.Millisecond)
	s.rows = append(s.rows, fmt.Sprintf("%-28s both clusters are followed again after %.1f s; %d alerts", "kill -9",
		time.Since(begun).Seconds(), len(s.desk.first(begun, "", false))))
	require.Empty(s.t, s.desk.first(begun, "", false))
}

// second runs another daemon beside the first, on a machine of another time zone.
func (s *service) second() (listen string, stop func()) {
	second := servertest.FreeAddress(s.t)
	file := filepath.Join(s.dir, "second.yaml")
	require.NoError(s.t, os.WriteFile(file, []byte(strings.ReplaceAll(s.good, s.listen, second)), 0o600))
	c := exec.Command(builtBinary(s.t), "--config", file, "daemon")
	c.Env = append(os.Environ(), "BREAK_SECRET="+s.s3.Secret, "TZ=Pacific/Kiritimati")
	require.NoError(s.t, c.Start())
	stop = func() { _ = c.Process.Signal(syscall.SIGTERM); _ = c.Wait() }
	require.Eventually(s.t, func() bool { l := s.status(second); return l != nil && l.Well }, 60*time.Second,
		200*time.Millisecond)
	return second, stop
}

// suspended has the daemon that follows both clusters stopped for a while (DEXAMEN_SUSPEND; three
// minutes) beside another, which tells that the promise is broken, and takes over what the first one
// has claimed when that counts as gone. When it goes on nothing is lost, and nothing told twice.
func (s *service) suspended() {
	length := 3 * time.Minute
	if text := os.Getenv("DEXAMEN_SUSPEND"); text != "" {
		var err error
		length, err = time.ParseDuration(text)
		require.NoError(s.t, err)
	}
	second, stop := s.second()
	defer stop()
	begun := time.Now()
	require.NoError(s.t, syscall.Kill(s.pid(), syscall.SIGSTOP))
	taken := map[string]time.Duration{}
	for time.Since(begun) < length {
		time.Sleep(time.Second)
		if l := s.status(second); l != nil {
			for _, c := range l.Clusters {
				if c.Newest.After(begun.Add(5*time.Second)) && taken[c.Cluster] == 0 {
					taken[c.Cluster] = time.Since(begun)
				}
			}
		}
	}
	told := s.desk.first(begun, "", false)
	require.Len(s.t, told, 2, "the other daemon tells on both channels")
	for channel, after := range told {
		require.Less(s.t, after, 61*time.Second+time.Minute, channel)
	}
	require.NoError(s.t, syscall.Kill(s.pid(), syscall.SIGCONT))
	woken := time.Now()
	well := func(listen string) bool { l := s.status(listen); return l != nil && l.Well }
	require.Eventually(s.t, func() bool { return well(s.listen) && well(second) }, 2*time.Minute, 200*time.Millisecond)
	again := time.Since(woken)
	require.Eventually(s.t, func() bool { return len(s.desk.going(begun)) == 0 }, time.Minute, 200*time.Millisecond,
		"%v", s.desk.going(begun))
	time.Sleep(45 * time.Second)
	require.True(s.t, well(s.listen) && well(second), "they do not take it from each other")
	require.Empty(s.t, s.desk.twice(begun))
	text := "nobody took over (a claim counts as gone after a quarter of an hour)"
	if len(taken) > 0 {
		text = fmt.Sprintf("taken over: %v", taken)
	}
	s.rows = append(s.rows, fmt.Sprintf("%-28s for %s: told by the other after %.1f s (the promise is 61 s); %s; "+
		"well %.1f s after it woke", "suspended daemon", length, told["webhook"].Seconds(), text, again.Seconds()))
}

// twoDaemons has a second daemon beside the first: nothing is told twice, and both say the same.
func (s *service) twoDaemons() {
	second, stop := s.second()
	defer stop()
	apart := 0.0
	for range 20 {
		a, b := s.status(s.listen), s.status(second)
		require.True(s.t, a != nil && b != nil && a.Well && b.Well)
		for i := range a.Clusters {
			apart = max(apart, a.Clusters[i].Newest.Sub(b.Clusters[i].Newest).Abs().Seconds())
		}
		time.Sleep(2 * time.Second)
	}
	require.Less(s.t, apart, 40.0)
	begun := time.Now()
	s.etcd.Kill()
	require.Eventually(s.t, func() bool { return len(s.desk.first(begun, "pantry orchard", false)) == 2 }, 75*time.Second,
		100*time.Millisecond)
	s.etcd.Begin()
	require.Eventually(s.t, func() bool { return len(s.desk.first(begun, "pantry orchard", true)) == 2 }, 90*time.Second,
		100*time.Millisecond)
	require.Empty(s.t, s.desk.twice(begun))
	s.rows = append(s.rows, fmt.Sprintf("%-28s newest moments at most %.1f s apart; each notice once",
		"two daemons", apart))
}
