// Package account lends logins that see one database, and takes them away when their time is
// over.
//
// That a login is lent is recorded before it is made, so that one whose maker was killed is
// taken away all the same: by the daemon, or by the next command that works on the store.
package account

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// Open opens a configured cluster.
type Open func(ctx context.Context, cluster string) (engine.Cluster, error)

// NewUser returns a name for a login, which no other has.
func NewUser() string {
	b := make([]byte, 4)
	_, _ = rand.Read(b) // never fails, by its contract
	return "dexamen-lent-" + hex.EncodeToString(b)
}

// NewPassword returns a password of 160 random bits.
func NewPassword() string {
	b := make([]byte, 20)
	_, _ = rand.Read(b)
	return strings.ToLower(base32.StdEncoding.EncodeToString(b))
}

// Lend makes a login and tries it, within the run that records it. What was made of one that
// fails is taken away again.
func Lend(ctx context.Context, c engine.Cluster, l engine.Loan, r *store.Run) error {
	lender, err := lenderOf(c)
	if err != nil {
		r.Login.Gone = true
		return err
	}
	err = lender.Lend(ctx, l)
	if err == nil {
		err = lender.TryLoan(ctx, l)
	}
	if err == nil {
		return nil
	}
	if errors.Is(err, engine.ErrOpenToAll) { // nothing was made
		r.Login.Gone = true
		return fmt.Errorf("%w: %w", run.ErrRefused, err)
	}
	after, cancel := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
	defer cancel()
	if away := lender.EndLoan(after, l.User); away != nil {
		return fmt.Errorf("%w; and login %s could not be taken away again, which is tried until it is: %w", err, l.User,
			away)
	}
	r.Login.Gone = true
	return err
}

func lenderOf(c engine.Cluster) (engine.Lender, error) {
	l, ok := engine.ApplicationView(c).(engine.Lender)
	if !ok {
		return nil, fmt.Errorf("%w: no logins are lent on %s clusters", run.ErrRefused, c.Engine())
	}
	return l, nil
}

// Lent returns the runs of logins that are lent: that were made, or may have been, and not
// taken away; in order of their end.
func Lent(ctx context.Context, s *store.Store) ([]*store.Run, error) {
	runs, _, err := s.Runs(ctx, store.RunFilter{Kinds: []string{store.RunLend, store.RunLendEnd}})
	if err != nil {
		return nil, err
	}
	gone := map[string]bool{}
	for _, r := range runs {
		if r.Kind == store.RunLendEnd && r.Good() {
			gone[r.Undoes] = true
		}
	}
	var out []*store.Run
	for _, r := range runs {
		if r.Kind == store.RunLend && r.Login != nil && !r.Login.Gone && !gone[r.ID] {
			out = append(out, r)
		}
	}
	slices.SortStableFunc(out, func(a, b *store.Run) int { return a.Until.Compare(b.Until) })
	return out, nil
}

// End takes a login away and records that. [store.ErrHeld] is returned when another process is
// at it.
func End(ctx context.Context, e *run.Runner, of *store.Run, open Open, reason string) (*store.Run, error) {
	r := &store.Run{Kind: store.RunLendEnd, Cluster: of.Cluster, Undoes: of.ID, Login: of.Login, Reason: reason}
	o := run.RecordOptions{Exclusive: true, Deadline: time.Minute, Check: func() error {
		list, err := Lent(ctx, e.Store)
		if err == nil && !slices.ContainsFunc(list, func(r *store.Run) bool { return r.ID == of.ID }) {
			err = errEnded
		}
		return err
	}}
	err := e.Record(ctx, r, o, func(ctx context.Context, _ *run.Runner, _ *store.Run) error {
		c, err := open(ctx, of.Cluster)
		if err != nil {
			return err
		}
		defer c.Close()
		l, err := lenderOf(c)
		if err != nil {
			return err
		}
		return l.EndLoan(ctx, of.Login.User)
	})
	if errors.Is(err, errEnded) {
		return nil, nil
	}
	return r, err
}

var errEnded = errors.New("it has been taken away")

// brokenOff reports whether a login was not made whole.
func brokenOff(r *store.Run) bool {
	return !slices.Contains([]string{store.RunDone, store.RunIncomplete}, r.Result)
}

// EndOverdue takes away the logins whose time is over, and those whose maker was killed. It
// returns what was taken away; errors name the login.
func EndOverdue(ctx context.Context, e *run.Runner, open Open) (ended []*store.Run, failed map[string]error,
	err error) {
	list, err := Lent(ctx, e.Store)
	failed = map[string]error{}
	for _, of := range list {
		reason := "its time is over"
		if brokenOff(of) {
			reason = "making it was broken off"
		} else if time.Now().Before(of.Until) {
			continue
		}
		r, err := End(ctx, e, of, open, reason)
		switch {
		case errors.Is(err, store.ErrHeld):
		case err != nil:
			failed[of.ID] = fmt.Errorf("login %s on %s, which was lent until %s, could not be taken away: %w",
				of.Login.User, of.Cluster, of.Until.Local().Format(time.RFC3339), err)
		case r != nil:
			ended = append(ended, r)
		}
	}
	return ended, failed, err
}
