package workers

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"time"

	"github.com/nats-io/nats.go/jetstream"

	"dexamen/internal/core/wait"
)

// Limit bounds how many tasks, of whatever jobs, are worked on at once by all workers: of the clusters of a site,
// or with a store.
type Limit struct {
	Name  string `json:"name"` // letters, digits, _ and -
	Slots int    `json:"slots"`
}

// Slot is one place of each of several limits, held until Free.
type Slot struct {
	e      *Engine
	keys   []string
	cancel context.CancelFunc
	ended  chan struct{}
	lost   chan struct{} // closed where the servers have given a place to others
	once   sync.Once
	mu     sync.Mutex
	busy   bool // of a process that holds one for its job: a task of its own uses it
}

// holder is what the bucket says of a place.
type holder struct {
	Worker string    `json:"worker"`
	Since  time.Time `json:"since"`
}

// slotKey is the key of one place of a limit.
func slotKey(limit string, n int) string { return fmt.Sprintf("%s.%d", limit, n) }

// takeSlot takes a place of each limit; nil where one has none that is free. Limits are taken in
// order of names, so that two who need the same do not keep each other out.
func (e *Engine) takeSlot(ctx context.Context, limits []Limit, who string) (*Slot, error) {
	s := &Slot{e: e, ended: make(chan struct{}), lost: make(chan struct{})}
	revisions := map[string]uint64{}
	value, err := json.Marshal(holder{who, time.Now()})
	if err != nil {
		return nil, err
	}
	for _, l := range limits {
		key, rev, err := e.takePlace(ctx, l, value)
		if err != nil || key == "" {
			s.giveBack(ctx)
			return nil, err
		}
		s.keys, revisions[key] = append(s.keys, key), rev
	}
	rctx, cancel := context.WithCancel(context.WithoutCancel(ctx))
	s.cancel = cancel
	go s.hold(rctx, value, revisions)
	return s, nil
}

// takePlace takes one place of a limit, and returns its key; empty where all are taken.
func (e *Engine) takePlace(ctx context.Context, l Limit, value []byte) (string, uint64, error) {
	taken := map[string]bool{}
	w, err := e.slots.Watch(ctx, l.Name+".*", jetstream.IgnoreDeletes())
	if err != nil {
		return "", 0, err
	}
	defer func() { _ = w.Stop() }()
	for more := true; more; {
		select {
		case x, ok := <-w.Updates():
			if !ok {
				return "", 0, errors.New("the workers' servers broke off")
			}
			if x == nil { // all there is
				more = false
			} else {
				taken[x.Key()] = true
			}
		case <-ctx.Done():
			return "", 0, context.Cause(ctx)
		}
	}
	for _, n := range rand.Perm(l.Slots) { // not all for the same one
		key := slotKey(l.Name, n)
		if taken[key] {
			continue
		}
		rev, err := e.slots.Create(ctx, key, value)
		if err == nil {
			return key, rev, nil
		}
		if !errors.Is(err, jetstream.ErrKeyExists) {
			return "", 0, err
		}
	}
	return "", 0, nil
}

// hold says that the places are held until the context ends.
func (s *Slot) hold(ctx context.Context, value []byte, revisions map[string]uint64) {
	defer close(s.ended)
	heard := time.Now()
	for wait.For(ctx, s.e.beat) == nil {
		for _, key := range s.keys {
			once, stop := context.WithTimeout(ctx, 2*s.e.beat)
			rev, err := s.e.slots.Update(once, key, value, revisions[key])
			stop()
			switch {
			case err == nil:
				revisions[key], heard = rev, time.Now()
			case isOtherRevision(err), time.Since(heard) > s.e.fence():
				// Ours it is no more, or will not be by the time that it is heard of.
				close(s.lost)
				return
			}
		}
	}
}

// Lost is closed once a place may be another's.
func (s *Slot) Lost() <-chan struct{} { return s.lost }

// Free gives the places back.
func (s *Slot) Free() {
	s.once.Do(func() {
		s.cancel()
		<-s.ended
		select {
		case <-s.lost: // they are another's
			return
		default:
		}
		ctx, cancel := context.WithTimeout(context.Background(), 2*s.e.beat)
		defer cancel()
		s.giveBack(ctx)
	})
}

func (s *Slot) giveBack(ctx context.Context) {
	for _, key := range s.keys {
		_ = s.e.slots.Delete(ctx, key) // or it goes by itself
	}
}

// use takes the slot for a task of the process that holds it; false while another task has it.
func (s *Slot) use() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	was := s.busy
	s.busy = true
	return !was
}

func (s *Slot) unuse() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.busy = false
}

// AwaitSlot takes a place of each limit as soon as there is one; waiting, where not nil, is told once that
// there is none yet.
func (e *Engine) AwaitSlot(ctx context.Context, limits []Limit, who string, waiting func()) (*Slot, error) {
	for told := false; ; {
		s, err := e.takeSlot(ctx, limits, who)
		if s != nil || err != nil && (!isSilence(err) || ctx.Err() != nil) {
			return s, err
		}
		if !told && err == nil && waiting != nil {
			told = true
			waiting()
		}
		if err := wait.For(ctx, max(e.beat/5, 100*time.Millisecond)); err != nil {
			return nil, err
		}
	}
}

// Slots returns how many places of each limit are taken.
func (e *Engine) Slots(ctx context.Context) (map[string]int, error) {
	out := map[string]int{}
	err := each(ctx, e.slots, func(x jetstream.KeyValueEntry) error {
		for i := len(x.Key()) - 1; i >= 0; i-- {
			if x.Key()[i] == '.' {
				out[x.Key()[:i]]++
				break
			}
		}
		return nil
	})
	return out, err
}

// fence is after how long without a word of the servers somebody must take what it has for another's.
func (e *Engine) fence() time.Duration { return e.opt.LostAfter * 2 / 3 }
