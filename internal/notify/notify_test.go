package notify

import (
	"context"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/config"
	"dexamen/internal/core/blob"
	"dexamen/internal/servertest"
)

func example(key string) Alert {
	return Alert{Key: key, About: "failure", Store: "larder", Cluster: "meadow", Policy: "nightly",
		Since: time.Date(2026, 11, 23, 1, 15, 0, 0, time.UTC), Text: "snapshot of meadow: failed: no server answers",
		Do: "dexamen runs meadow"}
}

// TestChannels sends by webhook and by mail, to servers that take what comes: a certificate of an
// authority of one's own, a bearer's token, headers, a signature as the specification computes it.
func TestChannels(t *testing.T) {
	type got struct {
		body   []byte
		header http.Header
	}
	bodies := make(chan got, 10)
	hook := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		switch r.URL.Path {
		case "/elsewhere":
			http.Redirect(w, r, "https://desk.lindenholt.example/stolen?key=hidden", http.StatusTemporaryRedirect)
		case "/full":
			http.Error(w, "come back later", http.StatusServiceUnavailable)
		default:
			bodies <- got{b, r.Header}
		}
	}))
	defer hook.Close()
	ca := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE",
		Bytes: hook.Certificate().Raw}), 0o600))
	t.Setenv("HOOK_TOKEN", "made-up")
	t.Setenv("HOOK_KEY", "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw")
	at, letters := servertest.PostOffice(t)
	cfg := config.Alerts{
		Webhook: &config.Webhook{URL: hook.URL + "/desk?secret=hidden", CA: ca,
			Token: &config.Secret{Env: "HOOK_TOKEN"}, Headers: map[string]string{"X-Desk": "night"},
			SignKey: &config.Secret{Env: "HOOK_KEY"}},
		Mail: &config.Mail{Server: at, From: "dexamen@lindenholt.example", To: []string{"keeper@lindenholt.example"},
			TLS: "none"}}
	channels := Channels(cfg)
	require.Len(t, channels, 2)
	begun := example("failure snapshot")
	over := begun
	over.Over = true
	for _, c := range channels {
		require.NoError(t, Send(t.Context(), c, NewMessage(begun)), c.Name())
		require.NoError(t, Send(t.Context(), c, NewMessage(over)), c.Name())
	}
	first, second := <-bodies, <-bodies
	var m map[string]any
	require.NoError(t, json.Unmarshal(first.body, &m))
	require.Equal(t, "failure", m["about"])
	require.Equal(t, "dexamen: failure of meadow", m["title"])
	require.Equal(t, false, m["over"])
	require.Equal(t, "Bearer made-up", first.header.Get("Authorization"))
	require.Equal(t, "night", first.header.Get("X-Desk"))
	id, stamp := first.header.Get("Webhook-Id"), first.header.Get("Webhook-Timestamp")
	require.Equal(t, m["id"], id)
	key, err := signKey(os.Getenv("HOOK_KEY"))
	require.NoError(t, err)
	require.Equal(t, Sign(key, id, stamp, first.body), first.header.Get("Webhook-Signature"))
	require.NotEqual(t, id, second.header.Get("Webhook-Id"), "that it is over is another notice")
	letter := <-letters
	for _, want := range []string{"Subject: dexamen: failure of meadow", "no server answers", "dexamen runs meadow",
		"Message-ID: <" + id + "@"} {
		require.Contains(t, letter, want)
	}
	require.Contains(t, <-letters, "Well again")

	// The example of Standard Webhooks 1.0.0.
	require.Equal(t, "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=",
		Sign(key, "msg_p5jXN8AQM9LWM0D4loKWxJek", "1614265330", []byte(`{"test": 2432232314}`)))

	for path, want := range map[string]string{"/elsewhere": "redirect to https://desk.lindenholt.example/stolen, which",
		"/full": `503 Service Unavailable: "come back later"`} {
		cfg.Webhook.URL = hook.URL + path + "?secret=hidden"
		err := Send(t.Context(), Channels(cfg)[0], NewMessage(begun))
		require.ErrorContains(t, err, want)
		require.NotContains(t, err.Error(), "hidden")
	}
	cfg.Webhook.CA = ""
	require.ErrorContains(t, Send(t.Context(), Channels(cfg)[0], NewMessage(begun)), "certificate")
	cfg.Mail.TLS = ""
	require.ErrorContains(t, Send(t.Context(), Channels(cfg)[1], NewMessage(begun)), "STARTTLS",
		"no letter goes out in the clear unless that is said")
	require.Empty(t, letters)
}

// fakeChannel takes notices, unless it is told to fail or to be slow.
type fakeChannel struct {
	name  string
	mu    sync.Mutex
	fails bool
	slow  time.Duration
	got   []string
	at    []time.Time
}

func (c *fakeChannel) Name() string { return c.name }

func (c *fakeChannel) Send(ctx context.Context, m Message) error {
	c.mu.Lock()
	fails, slow := c.fails, c.slow
	c.mu.Unlock()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(slow):
	}
	if fails {
		return errors.New("nobody answers")
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.got, c.at = append(c.got, fmt.Sprintf("%s over=%v", m.Key, m.Over)), append(c.at, time.Now())
	return nil
}

func (c *fakeChannel) set(fails bool, slow time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.fails, c.slow = fails, slow
}

func (c *fakeChannel) told() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.got)
}

// TestOutbox: a dead channel and a slow one delay no other; what is dead is told by the others, and
// gets everything once it is back; what began and ended meanwhile is told as one.
func TestOutbox(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		hook, letter, slow := &fakeChannel{name: "webhook"}, &fakeChannel{name: "mail"}, &fakeChannel{name: "slow"}
		letter.set(true, 20*time.Second)
		slow.set(false, 25*time.Second)
		o := &Outbox{Log: slog.New(slog.DiscardHandler)}
		o.Set([]Channel{hook, letter, slow})
		defer o.Close()
		begun := time.Now()
		o.Add(example("a"))
		synctest.Wait()
		require.Equal(t, []string{"a over=false"}, hook.told(), "at once")
		b := example("b")
		o.Add(b)
		b.Over = true
		time.Sleep(59 * time.Second)
		require.Equal(t, []string{"a over=false", "b over=false", "channel mail over=false"}, hook.told())
		require.Less(t, hook.at[2].Sub(begun), time.Minute)
		require.Equal(t, []string{"a over=false", "b over=false"}, slow.told()[:2])
		o.Add(b)
		time.Sleep(time.Hour)
		require.Empty(t, letter.told())
		c := o.Counts()["mail"]
		require.Equal(t, 2, c.Waiting, "that b began and is over is one letter")
		require.Greater(t, c.Failed, int64(30), "it is tried again at least about every minute")
		require.Equal(t, "nobody answers", c.Failing)
		letter.set(false, 0)
		time.Sleep(2 * time.Minute)
		require.ElementsMatch(t, []string{"a over=false", "b over=true"}, letter.told())
		require.Contains(t, hook.told(), "channel mail over=true")
		require.Empty(t, o.Counts()["mail"].Failing)

		// A channel that is no longer configured is forgotten with what waits for it.
		letter.set(true, 0)
		o.Add(example("c"))
		time.Sleep(time.Second)
		o.Set([]Channel{hook})
		time.Sleep(time.Minute)
		require.NoError(t, o.Flush(t.Context()))
		require.Equal(t, []string{"webhook"}, o.Names())
	})
}

// shelf is what a store keeps of alerts, in memory; it may refuse to write, or to be read.
type shelf struct {
	mu           sync.Mutex
	marks        map[string][]byte
	full, hidden bool
}

var errFull = errors.New("no space left on device")

func (s *shelf) PutMark(_ context.Context, cluster, what string, v any) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, ok := s.marks[cluster+"/"+what]; ok {
		return blob.ErrExists
	}
	if s.full {
		return errFull
	}
	b, err := json.Marshal(v)
	s.marks[cluster+"/"+what] = b
	return err
}

func (s *shelf) RemoveMark(_ context.Context, cluster, what string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, ok := s.marks[cluster+"/"+what]; !ok {
		return blob.ErrNotFound
	}
	if s.full {
		return errFull
	}
	delete(s.marks, cluster+"/"+what)
	return nil
}

func (s *shelf) Marks(_ context.Context, cluster, prefix string, fn func(string, func(any) error) error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.hidden {
		return errors.New("it cannot be read")
	}
	for name, b := range s.marks {
		if what, ok := strings.CutPrefix(name, cluster+"/"); ok && strings.HasPrefix(what, prefix) {
			if err := fn(what, func(v any) error { return json.Unmarshal(b, v) }); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *shelf) set(full, hidden bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.full, s.hidden = full, hidden
}

// ledgerOf is a daemon's ledger, whose notices one channel takes.
func ledgerOf(t *testing.T, c *fakeChannel) *Ledger {
	l := &Ledger{Outbox: &Outbox{Log: slog.New(slog.DiscardHandler)}}
	l.Outbox.Delivered = l.Taken
	l.Outbox.Set([]Channel{c})
	t.Cleanup(l.Outbox.Close)
	return l
}

// TestLedger: what goes on is told once, whoever sees it and however often the process begins anew,
// and that it is over once, while the store takes marks, takes none, or cannot be read.
func TestLedger(t *testing.T) {
	for _, c := range []struct {
		name         string
		full, hidden bool
	}{{"a good store", false, false}, {"a full store", true, false}, {"a store that cannot be read", false, true}} {
		t.Run(c.name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				ctx, s, hook := t.Context(), &shelf{marks: map[string][]byte{}}, &fakeChannel{name: "webhook"}
				l := ledgerOf(t, hook)
				look := func(l *Ledger, now ...Alert) {
					for range 5 {
						err := l.Reconcile(ctx, s, "larder", "meadow", now)
						if !c.full && !c.hidden {
							require.NoError(t, err)
						}
						time.Sleep(2 * time.Minute)
					}
				}
				s.set(c.full, c.hidden)
				a, b := example("a"), example("b")
				look(l, a)
				require.Equal(t, []string{"a over=false"}, hook.told())
				look(l, a, b)
				look(l, b)
				require.Equal(t, []string{"a over=false", "b over=false", "a over=true"}, hook.told())
				// The store is well again: what goes on is kept there now, and not told again.
				s.set(false, false)
				look(l, b)
				require.Len(t, hook.told(), 3)
				again := ledgerOf(t, hook)
				look(again, b)
				require.Len(t, hook.told(), 3, "nor by who begins anew")
				look(again)
				look(l)
				require.Equal(t, "b over=true", hook.told()[3])
				require.Len(t, hook.told(), 4, "the other says nothing")
				require.Empty(t, s.marks)
				// What was over and could not be crossed out begins anew.
				look(l, a)
				s.set(c.full, c.hidden)
				look(l)
				s.set(false, false)
				look(l, a)
				require.Equal(t, []string{"a over=false", "a over=true", "a over=false"}, hook.told()[4:])
			})
		})
	}
}

// hanging is a store in which nothing comes back from a write, until it is let go.
type hanging struct {
	*shelf
	wait chan struct{}
}

func (h hanging) PutMark(ctx context.Context, cluster, what string, v any) error {
	<-h.wait
	return h.shelf.PutMark(ctx, cluster, what, v)
}

// TestAHungStoreDoesNotHoldTheLedger: while a store hangs in the middle of keeping what was told, that it
// hangs is told, and what is of other stores.
func TestAHungStoreDoesNotHoldTheLedger(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, hook := t.Context(), &fakeChannel{name: "webhook"}
		l := ledgerOf(t, hook)
		h := hanging{&shelf{marks: map[string][]byte{}}, make(chan struct{})}
		go func() { _ = l.Reconcile(ctx, h, "larder", "meadow", []Alert{example("a"), example("b")}) }()
		time.Sleep(time.Minute)
		sick := Alert{Key: "store", About: "failure", Store: "larder"}
		l.Raise(sick)
		require.NoError(t, l.Reconcile(ctx, &shelf{marks: map[string][]byte{}}, "loft", "heath", []Alert{example("c")}))
		time.Sleep(time.Second)
		require.ElementsMatch(t, []string{"store over=false", "c over=false"}, hook.told())
		close(h.wait)
		l.Clear(sick)
		time.Sleep(time.Second)
		require.ElementsMatch(t, []string{"a over=false", "b over=false", "store over=true"}, hook.told()[2:])
	})
}

// TestToldByAnother: who saw an alert first and died before a channel took it is stood in for.
func TestToldByAnother(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		ctx, s, dead, well := t.Context(), &shelf{marks: map[string][]byte{}}, &fakeChannel{name: "mail", fails: true},
			&fakeChannel{name: "mail"}
		first := ledgerOf(t, dead)
		require.NoError(t, first.Reconcile(ctx, s, "larder", "meadow", []Alert{example("a")}))
		time.Sleep(time.Minute)
		first.Outbox.Close()
		second := ledgerOf(t, well)
		require.NoError(t, second.Reconcile(ctx, s, "larder", "meadow", []Alert{example("a")}))
		time.Sleep(time.Minute)
		require.Empty(t, well.told(), "the first may be at it")
		time.Sleep(repeatAfter)
		require.NoError(t, second.Reconcile(ctx, s, "larder", "meadow", []Alert{example("a")}))
		time.Sleep(time.Second)
		require.Equal(t, []string{"a over=false"}, well.told())
	})
}
