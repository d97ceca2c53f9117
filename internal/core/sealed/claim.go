package sealed

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

// A claim says that somebody is doing something, until a time. It is a row of
// objects claims/WHAT/NUMBER, of which the highest counts: to take, prolong or
// give it up is to create the next one, which only one can. Nobody waits for a
// process that is gone for longer than the claim was made out for.
type ClaimEntry struct {
	Name   string `json:"name"`   // of the object, so that a copy is found out
	Holder string `json:"holder"` // a random name
	process.Identity
	Since time.Time `json:"since"`
	Until time.Time `json:"until"` // the zero time: given up
}

const (
	claimTime = 10 * time.Minute
)

// turn is a lock that may be held while the store is waited for.
type turn chan struct{}

// Lock waits for the turn.
func (t turn) Lock() { t <- struct{}{} }

// Unlock gives it to the next.
func (t turn) Unlock() { <-t }

// ErrHeld is returned when another process holds the claim.
var ErrHeld = errors.New("another process holds the claim")

// Claim is a claim that is held.
type Claim struct {
	s      *Objects
	What   string
	Length time.Duration
	Stop   chan struct{}
	Done   chan struct{}
	// released: it was given up, or is being.
	released sync.Once

	Mu     turn
	number int
	Entry  ClaimEntry
	Awake  time.Duration // process.Awake when it was prolonged last
	made   time.Time     // when it was prolonged last, by the store's clock
	seen   time.Duration // process.Awake when that was heard
	lost   error
}

func ClaimName(what string, n int) string { return fmt.Sprintf("%s%s/%010d", ClaimsPrefix, what, n) }

// ClaimEntries returns the highest entry of every claim whose name begins with prefix,
// and the names of those it has left behind.
func (s *Objects) ClaimEntries(ctx context.Context,
	prefix string) (top map[string]ClaimEntry, number map[string]int, old []string, err error) {
	for {
		var moved bool
		top, number, old, moved, err = s.listClaims(ctx, prefix)
		if err != nil || !moved {
			return top, number, old, err
		}
	}
}

// listClaims is one attempt: moved says that an entry went between its being
// listed and its being read, which the next one has taken the place of.
func (s *Objects) listClaims(ctx context.Context,
	prefix string) (top map[string]ClaimEntry, number map[string]int, old []string, moved bool, err error) {
	top, number = map[string]ClaimEntry{}, map[string]int{}
	last := map[string]blob.Info{}
	err = s.Blob.List(ctx, ClaimsPrefix+prefix, func(i blob.Info) error {
		what, digits, _ := strings.Cut(strings.TrimPrefix(i.Name, ClaimsPrefix), "/")
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
		var e ClaimEntry
		err := s.GetObject(ctx, i.Name, &e)
		if err == nil {
			err = CheckOwnName(i.Name, e.Name)
		}
		switch {
		case errors.Is(err, blob.ErrNotFound):
			return nil, nil, nil, true, nil
		case errors.Is(err, ErrDamaged):
			// as if it was held
			e = ClaimEntry{Identity: process.Identity{Host: "an unknown host"}, Since: i.Made,
				Until: i.Made.Add(claimTime)}
		case err != nil:
			return nil, nil, nil, false, err
		}
		// One whose clock is far ahead, and that ended before it knew, keeps nobody out for longer.
		if most := i.Made.Add(2 * claimTime); !i.Made.IsZero() && e.Until.After(most) {
			e.Until = most
		}
		top[what] = e
	}
	return top, number, old, false, nil
}

// Held reports whether an entry counts. A clock that is a little off must not end
// somebody else's claim.
func (e *ClaimEntry) Held(now time.Time) bool {
	return !e.Until.IsZero() && !e.Gone() && now.Before(e.Until.Add(claimTime/2))
}

// Acquire takes a claim, and keeps it until Release.
func (s *Objects) Acquire(ctx context.Context, what string) (*Claim, error) {
	return s.acquire(ctx, what, claimTime)
}

// AcquireEvery takes a claim where the work of the last one that ended well began at least
// some time ago; else it returns nil.
func (s *Objects) AcquireEvery(ctx context.Context, what string, every time.Duration) (*Claim, error) {
	if every > 0 {
		top, _, _, err := s.ClaimEntries(ctx, what+"/")
		if err != nil || s.Since(top[what].Ended()) < every {
			return nil, err
		}
	}
	return s.Acquire(ctx, what)
}

// AcquireFor takes the claim of some work on a cluster.
func (s *Objects) AcquireFor(ctx context.Context, work, cluster string) (*Claim, error) {
	return s.Acquire(ctx, "work-"+s.NamePart("cluster", cluster)+"-"+s.NamePart("run", work))
}

func (s *Objects) acquire(ctx context.Context, what string, length time.Duration) (*Claim, error) {
	l := &Claim{s: s, What: what, Length: length, Stop: make(chan struct{}), Done: make(chan struct{}),
		Mu:    make(turn, 1),
		Entry: ClaimEntry{Holder: NewID(8), Identity: process.Self(), Since: s.Now().UTC()}}
	top, number, _, err := s.ClaimEntries(ctx, what+"/")
	if err != nil {
		return nil, err
	}
	if e, ok := top[what]; ok && e.Held(s.Now()) {
		return nil, fmt.Errorf("%s: %w: %s, since %s; it counts as gone if it says nothing until %s",
			what, ErrHeld, e.Identity, e.Since.Local().Format(time.RFC3339),
			e.Until.Add(claimTime/2).Local().Format(time.RFC3339))
	}
	l.number = number[what]
	before := l.number
	if err := l.Next(ctx, length); err != nil {
		if errors.Is(err, blob.ErrExists) {
			return nil, fmt.Errorf("%s: %w: it began at the same time", what, ErrHeld)
		}
		if l.number > before { // it is there, and could not be compared
			_ = l.Next(context.WithoutCancel(ctx), 0)
		}
		return nil, err
	}
	// Another may have gone on from a later entry than was seen here.
	if _, now, _, err := s.ClaimEntries(ctx, what+"/"); err != nil || now[what] != l.number {
		_ = s.RemoveObject(ctx, ClaimName(what, l.number))
		if err == nil {
			err = fmt.Errorf("%s: %w: it began at the same time", what, ErrHeld)
		}
		return nil, err
	}
	if err := l.Check(); err != nil { // of clocks that differ
		l.lost = nil
		_ = l.Next(ctx, 0)
		return nil, err
	}
	go l.keep()
	return l, nil
}

// compare looks at a new entry and the one before it by the store's own times: they tell of
// a machine that stood still together with all its clocks, and of a clock that was set. (That
// the entry before is not there any more tells nothing: reclaim removes what is over.)
// Claims of machines whose clocks differ would not be worth much. Asked is when the entry was
// asked for; a store that is slow to answer is no clock that is wrong. The lock is held.
func (l *Claim) compare(ctx context.Context, asked time.Time) error {
	name, made := ClaimName(l.What, l.number), time.Time{}
	err := l.s.Blob.List(ctx, name, func(i blob.Info) error {
		if i.Name == name {
			made = i.Made
		}
		return nil
	})
	if err != nil || l.lost != nil {
		return err
	}
	heard := l.s.Now()
	switch {
	case made.IsZero(): // this place does not tell
	case !l.made.IsZero() && made.Sub(l.made) > l.Length:
		l.lost = fmt.Errorf("%s: %w", l.What, ErrLapsed)
	case asked.Sub(made) > ClockTolerance:
		l.lost = fmt.Errorf("%s: %w", l.What, ClockError(asked.Sub(made)))
	case made.Sub(heard) > ClockTolerance:
		l.lost = fmt.Errorf("%s: %w", l.What, ClockError(heard.Sub(made)))
	}
	l.made, l.seen = made, l.s.awake()
	return nil
}

// StoreNow returns the time by the store's clock, no later than it is: as the last entry tells,
// and as long since as a clock that nobody sets. Where the place tells no times it is the
// machine's.
func (l *Claim) StoreNow() time.Time {
	l.Mu.Lock()
	defer l.Mu.Unlock()
	if l.made.IsZero() {
		return l.s.Now()
	}
	return l.made.Add(l.s.awake() - l.seen)
}

// Confirm prolongs the claim, and reports as Check does whether it is held, also by the
// store's own times.
func (l *Claim) Confirm(ctx context.Context) error {
	if err := l.Check(); err != nil {
		return err
	}
	if err := l.Next(ctx, l.Length); errors.Is(err, blob.ErrExists) {
		return fmt.Errorf("%s: %w", l.What, ErrHeld)
	} else if err != nil {
		return err
	}
	return l.Check()
}

// Next makes the claim's next entry and removes the one before.
func (l *Claim) Next(ctx context.Context, length time.Duration) error {
	l.Mu.Lock()
	defer l.Mu.Unlock()
	e, awake := l.Entry, l.s.awake()
	e.Until = time.Time{}
	if length > 0 {
		e.Until = l.s.Now().Add(length).UTC()
	}
	first := l.number
	var asked time.Time
	for {
		e.Name = ClaimName(l.What, l.number+1)
		asked = l.s.Now()
		err := l.s.PutObject(ctx, l.s.ListKey(), e.Name, e)
		if err == nil {
			break
		}
		// The one that is there may be this process's own, of which the answer was lost.
		var own ClaimEntry
		if !errors.Is(err, blob.ErrExists) || l.s.GetObject(ctx, e.Name, &own) != nil || own.Holder != e.Holder {
			return err
		}
		l.number++
	}
	if !l.Entry.Until.IsZero() {
		l.lapse() // it may have been over before this took effect
	}
	l.number++
	l.Entry, l.Awake = e, awake
	var err error
	if length > 0 {
		err = l.compare(ctx, asked)
	}
	for n := max(first, 1); n < l.number; n++ {
		_ = l.s.RemoveObject(ctx, ClaimName(l.What, n)) // reclaim removes what stays
	}
	return err
}

// lapse notes that the claim was over at any time: by the wall clock, or by one
// that goes on while the machine sleeps and that nobody sets. It is lost for good
// then, as others may have gone by that. The lock is held.
func (l *Claim) lapse() {
	if l.lost == nil && (l.s.Now().After(l.Entry.Until) || l.Awake > 0 && l.s.awake()-l.Awake > l.Length) {
		l.lost = fmt.Errorf("%s: %w", l.What, ErrLapsed)
	}
}

// ErrLapsed is returned when a process stood still for longer than its claim.
var ErrLapsed = errors.New("this process stood still for longer than its claim, and cannot know what others did " +
	"meanwhile; run it again, what is stored already will be used")

func (l *Claim) keep() {
	defer close(l.Done)
	wait := l.Length / 3
	for {
		select {
		case <-l.Stop:
			return
		case <-time.After(wait):
		}
		if l.Check() != nil {
			return
		}
		ctx, cancel := context.WithTimeout(context.Background(), l.Length/6)
		err := l.Next(ctx, l.Length)
		cancel()
		wait = l.Length / 3
		if err != nil {
			wait = min(5*time.Second, l.Length/20) // it is not over yet
		}
		if errors.Is(err, blob.ErrExists) {
			l.Mu.Lock()
			l.lost = fmt.Errorf("%s: %w: this process was too slow to say that it is still at it", l.What, ErrHeld)
			l.Mu.Unlock()
			return
		}
	}
}

// Check reports whether the claim is still held; what it guards must not be done
// when it is not.
func (l *Claim) Check() error {
	l.Mu.Lock()
	defer l.Mu.Unlock()
	l.lapse()
	return l.lost
}

// Release gives up the claim. What was given up already stays so.
func (l *Claim) Release(ctx context.Context) {
	first := false
	l.released.Do(func() { first = true })
	if !first {
		return
	}
	close(l.Stop)
	<-l.Done
	if l.Check() != nil {
		return
	}
	if err := l.giveUp(ctx); err != nil {
		go l.giveUpLater()
	}
}

func (l *Claim) giveUp(ctx context.Context) error {
	if err := l.Next(ctx, 0); err != nil {
		return err
	}
	if Private(l.What) {
		// Nobody else ever takes a claim of that name. The last entry of others
		// stays: who looks for it now must not find the row begun anew.
		_ = l.s.RemoveObject(ctx, ClaimName(l.What, l.number))
	}
	return nil
}

// giveUpLater gives up a claim that the store did not let go of, so that the process that held it
// is not kept out by itself until it lapses.
func (l *Claim) giveUpLater() {
	for pause := time.Second; ; pause = min(2*pause, 4*time.Second) {
		time.Sleep(pause)
		if l.Check() != nil {
			return
		}
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		err := l.giveUp(ctx)
		cancel()
		if err == nil || errors.Is(err, blob.ErrExists) {
			return
		}
	}
}

// Fail gives up the claim as Release does. What it was held for did not come
// about: nobody is to take it for done.
func (l *Claim) Fail(ctx context.Context) {
	l.Mu.Lock()
	l.Entry.Since = time.Time{}
	l.Mu.Unlock()
	l.Release(ctx)
}

// Ended is when the work of a claim that was given up had begun; the zero time
// where it failed, or goes on.
func (e ClaimEntry) Ended() time.Time {
	if !e.Until.IsZero() {
		return time.Time{}
	}
	return e.Since
}

// The names of claims begin so that are their holders' own.
const (
	SessionPrefix = "writer-"
	RunClaim      = "run-"
)

// Private reports whether a claim's name is its holder's own.
func Private(what string) bool {
	return strings.HasPrefix(what, SessionPrefix) || strings.HasPrefix(what, RunClaim)
}

// Enlist makes it known that this store writes, before it relies on anything
// that is there: reclaim removes nothing from under it. Refresh is called then, and
// reads anew what is there.
func (s *Objects) Enlist(ctx context.Context, refresh func(context.Context) error) error {
	s.SessionMu.Lock()
	defer s.SessionMu.Unlock()
	if s.Session != nil {
		return nil
	}
	l, err := s.acquire(ctx, SessionPrefix+NewID(8), claimTime)
	if err != nil {
		return err
	}
	// What was marked for deletion before is known now; what is marked for deletion later waits.
	if err := refresh(ctx); err != nil {
		l.Release(context.WithoutCancel(ctx))
		return err
	}
	s.Session = l
	return nil
}

// Close ends writing to the store: it is no longer written to.
func (s *Objects) Close() {
	s.SessionMu.Lock()
	defer s.SessionMu.Unlock()
	if s.Session != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		s.Session.Release(ctx)
		s.Session = nil
	}
}
