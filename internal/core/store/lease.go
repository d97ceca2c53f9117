package store

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/process"
)

// A lease says that somebody is doing something, until a time. It is a row of
// objects leases/WHAT/NUMBER, of which the highest counts: to take, prolong or
// give it up is to create the next one, which only one can. Nobody waits for a
// process that is gone for longer than the lease was made out for.
type leaseEntry struct {
	Name   string `json:"name"`   // of the object, so that a copy is found out
	Holder string `json:"holder"` // a random name
	process.Identity
	Began time.Time `json:"began"`
	Until time.Time `json:"until"` // the zero time: given up
}

const (
	leaseTime = 10 * time.Minute
)

// ErrHeld: somebody else holds the lease.
var ErrHeld = errors.New("another process holds the claim")

// Lease is a lease that is held.
type Lease struct {
	s      *Objects
	what   string
	length time.Duration
	stop   chan struct{}
	done   chan struct{}

	mu     sync.Mutex
	number int
	entry  leaseEntry
	awake  time.Duration // process.Awake when it was prolonged last
	lost   error
}

func leaseName(what string, n int) string { return fmt.Sprintf("%s%s/%010d", claimsPrefix, what, n) }

// leases returns the highest entry of every lease whose name begins with prefix,
// and the names of those it has left behind.
func (s *Objects) leases(ctx context.Context, prefix string) (top map[string]leaseEntry, number map[string]int, old []string, err error) {
	for {
		var moved bool
		top, number, old, moved, err = s.listLeases(ctx, prefix)
		if err != nil || !moved {
			return top, number, old, err
		}
	}
}

// listLeases is one attempt: moved says that an entry went between its being
// listed and its being read, which the next one has taken the place of.
func (s *Objects) listLeases(ctx context.Context, prefix string) (top map[string]leaseEntry, number map[string]int, old []string, moved bool, err error) {
	top, number = map[string]leaseEntry{}, map[string]int{}
	last := map[string]blob.Info{}
	err = s.blob.List(ctx, claimsPrefix+prefix, func(i blob.Info) error {
		what, digits, _ := strings.Cut(strings.TrimPrefix(i.Name, claimsPrefix), "/")
		n := 0
		if _, err := fmt.Sscanf(digits, "%d", &n); err != nil {
			return nil
		}
		if before := last[what]; before.Name != "" {
			old = append(old, before.Name)
		}
		last[what], number[what] = i, n
		return nil
	})
	if err != nil {
		return nil, nil, nil, false, err
	}
	for what, i := range last {
		var e leaseEntry
		err := s.get(ctx, i.Name, &e)
		if err == nil {
			err = named(i.Name, e.Name)
		}
		switch {
		case errors.Is(err, blob.ErrNotFound):
			return nil, nil, nil, true, nil
		case errors.Is(err, ErrDamaged):
			e = leaseEntry{Identity: process.Identity{Host: "an unknown host"}, Began: i.Made, Until: i.Made.Add(leaseTime)} // as if it was held
		case err != nil:
			return nil, nil, nil, false, err
		}
		top[what] = e
	}
	return top, number, old, false, nil
}

// held reports whether an entry counts. A clock that is a little off must not end
// somebody else's lease.
func (e *leaseEntry) held(now time.Time) bool {
	return !e.Until.IsZero() && !e.Gone() && now.Before(e.Until.Add(leaseTime/2))
}

// Acquire takes a lease, and keeps it until Release.
func (s *Objects) Acquire(ctx context.Context, what string) (*Lease, error) {
	return s.acquire(ctx, what, leaseTime)
}

// AcquireFor takes the lease of some work on a cluster.
func (s *Objects) AcquireFor(ctx context.Context, work, cluster string) (*Lease, error) {
	return s.Acquire(ctx, "work-"+s.part("cluster", cluster)+"-"+s.part("run", work))
}

func (s *Objects) acquire(ctx context.Context, what string, length time.Duration) (*Lease, error) {
	l := &Lease{s: s, what: what, length: length, stop: make(chan struct{}), done: make(chan struct{}),
		entry: leaseEntry{Holder: newID(8), Identity: process.Self(), Began: time.Now().UTC()}}
	top, number, _, err := s.leases(ctx, what+"/")
	if err != nil {
		return nil, err
	}
	if e, ok := top[what]; ok && e.held(time.Now()) {
		return nil, fmt.Errorf("%s: %w: %s, since %s; it counts as gone if it says nothing until %s",
			what, ErrHeld, e.Identity, e.Began.Local().Format(time.RFC3339), e.Until.Add(leaseTime/2).Local().Format(time.RFC3339))
	}
	l.number = number[what]
	if err := l.next(ctx, length); err != nil {
		if errors.Is(err, blob.ErrExists) {
			return nil, fmt.Errorf("%s: %w: it began at the same time", what, ErrHeld)
		}
		return nil, err
	}
	// Another may have gone on from a later entry than was seen here.
	if _, now, _, err := s.leases(ctx, what+"/"); err != nil || now[what] != l.number {
		_ = s.remove(ctx, leaseName(what, l.number))
		if err == nil {
			err = fmt.Errorf("%s: %w: it began at the same time", what, ErrHeld)
		}
		return nil, err
	}
	if err := l.clock(ctx); err != nil {
		_ = l.next(ctx, 0)
		return nil, err
	}
	go l.keep()
	return l, nil
}

// clock compares this machine's clock with the store's: leases of machines
// whose clocks differ would not be worth much.
func (l *Lease) clock(ctx context.Context) error {
	now, name := time.Now(), leaseName(l.what, l.number)
	return l.s.blob.List(ctx, name, func(i blob.Info) error {
		if off := now.Sub(i.Made); i.Name == name && !i.Made.IsZero() && off.Abs() > ClockTolerance {
			return ClockError(off)
		}
		return nil
	})
}

// next makes the lease's next entry and removes the one before.
func (l *Lease) next(ctx context.Context, length time.Duration) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	e, awake := l.entry, process.Awake()
	e.Until = time.Time{}
	if length > 0 {
		e.Until = time.Now().Add(length).UTC()
	}
	e.Name = leaseName(l.what, l.number+1)
	if err := l.s.put(ctx, l.s.listKey(), e.Name, e); err != nil {
		return err
	}
	if !l.entry.Until.IsZero() {
		l.lapse() // it may have been over before this took effect
	}
	l.number++
	l.entry, l.awake = e, awake
	if l.number > 1 {
		_ = l.s.remove(ctx, leaseName(l.what, l.number-1)) // reclaim removes what stays
	}
	return nil
}

// lapse notes that the lease was over at any time: by the wall clock, or by one
// that goes on while the machine sleeps and that nobody sets. It is lost for good
// then, as others may have gone by that. The lock is held.
func (l *Lease) lapse() {
	if l.lost == nil && (time.Now().After(l.entry.Until) || l.awake > 0 && process.Awake()-l.awake > l.length) {
		l.lost = fmt.Errorf("%s: %w", l.what, ErrLapsed)
	}
}

// ErrLapsed is returned when a process stood still for longer than its lease.
var ErrLapsed = errors.New("this process stood still for longer than its lease, and cannot know what others did meanwhile; run it again, what is stored already will be used")

func (l *Lease) keep() {
	defer close(l.done)
	wait := l.length / 3
	for {
		select {
		case <-l.stop:
			return
		case <-time.After(wait):
		}
		if l.Check() != nil {
			return
		}
		ctx, cancel := context.WithTimeout(context.Background(), l.length/6)
		err := l.next(ctx, l.length)
		cancel()
		wait = l.length / 3
		if err != nil {
			wait = min(5*time.Second, l.length/20) // it is not over yet
		}
		if errors.Is(err, blob.ErrExists) {
			l.mu.Lock()
			l.lost = fmt.Errorf("%s: %w: this process was too slow to say that it is still at it", l.what, ErrHeld)
			l.mu.Unlock()
			return
		}
	}
}

// Check reports whether the lease is still held; what it guards must not be done
// when it is not.
func (l *Lease) Check() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.lapse()
	return l.lost
}

// Release gives the lease up.
func (l *Lease) Release(ctx context.Context) {
	close(l.stop)
	<-l.done
	if l.Check() != nil {
		return
	}
	if l.next(ctx, 0) == nil && private(l.what) {
		// Nobody else ever takes a lease of that name. The last entry of others
		// stays: who looks for it now must not find the row begun anew.
		_ = l.s.remove(ctx, leaseName(l.what, l.number))
	}
}

// Fail gives the lease up as Release does. What it was held for did not come
// about: nobody is to take it for done.
func (l *Lease) Fail(ctx context.Context) {
	l.mu.Lock()
	l.entry.Began = time.Time{}
	l.mu.Unlock()
	l.Release(ctx)
}

// ended is when the work of a lease that was given up had begun; the zero time
// where it failed, or goes on.
func (e leaseEntry) ended() time.Time {
	if !e.Until.IsZero() {
		return time.Time{}
	}
	return e.Began
}

// The names of claims begin so that are their holders' own.
const (
	sessionPrefix = "writer-"
	runClaim      = "run-"
)

// private reports whether a lease's name is its holder's own.
func private(what string) bool {
	return strings.HasPrefix(what, sessionPrefix) || strings.HasPrefix(what, runClaim)
}

// enlist makes it known that this store writes, before it relies on anything
// that is there: reclaim removes nothing from under it. Refresh is called then, and
// reads anew what is there.
func (s *Objects) enlist(ctx context.Context, refresh func(context.Context) error) error {
	s.sessionMu.Lock()
	defer s.sessionMu.Unlock()
	if s.session != nil {
		return nil
	}
	l, err := s.acquire(ctx, sessionPrefix+newID(8), leaseTime)
	if err != nil {
		return err
	}
	// What was condemned before is known now; what is condemned later waits.
	if err := refresh(ctx); err != nil {
		l.Release(context.WithoutCancel(ctx))
		return err
	}
	s.session = l
	return nil
}

// Close says that the store is no longer written to.
func (s *Objects) Close() {
	s.sessionMu.Lock()
	defer s.sessionMu.Unlock()
	if s.session != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		s.session.Release(ctx)
		s.session = nil
	}
}
