package engine

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"dexamen/internal/core/process"
)

// ErrClaimed is returned when another process is restoring onto a namespace.
var ErrClaimed = errors.New("another restore is writing there")

// ErrClaimLost is returned when a claim was taken by another process, as this
// one stood still for too long.
var ErrClaimLost = errors.New("the claim on the target was lost")

// ClaimTable is where an engine keeps claims on a target itself, so that
// restores out of different stores know of each other.
type ClaimTable interface {
	// Claim returns what is kept under a name; empty where there is nothing.
	Claim(ctx context.Context, name string) (value string, err error)
	// SwapClaim puts now where was is, in one step. Empty stands for nothing.
	// It reports whether was was there.
	SwapClaim(ctx context.Context, name, was, now string) (bool, error)
}

// Claims are names of a target that this process has for itself.
type Claims struct {
	t      ClaimTable
	length time.Duration
	stop   chan struct{}
	done   chan struct{}

	mu    sync.Mutex
	claim process.Claim
	held  map[string]string // what is kept under each name
	lost  error
	taken []string
}

const claimTime = time.Minute

// ClaimNames takes names of a target for this process, all or none. [ErrClaimed]
// says who has one of them. Claims of processes that are gone are taken over.
func ClaimNames(ctx context.Context, t ClaimTable, names []string) (*Claims, error) {
	id := make([]byte, 8)
	_, _ = rand.Read(id) // never fails, by its contract
	now := time.Now().UTC().Truncate(time.Second)
	c := &Claims{t: t, length: claimTime, stop: make(chan struct{}), done: make(chan struct{}),
		held: map[string]string{},
		claim: process.Claim{ID: hex.EncodeToString(id), Identity: process.Self(), Since: now,
			Until: now.Add(claimTime)}}
	names = slices.Clone(names)
	slices.Sort(names) // two that want the same do not wait for each other in a ring
	for _, n := range slices.Compact(names) {
		if err := c.take(ctx, n); err != nil {
			close(c.done)
			return nil, errors.Join(err, c.release(context.WithoutCancel(ctx), ""))
		}
	}
	go c.keep(context.WithoutCancel(ctx))
	return c, nil
}

func (c *Claims) take(ctx context.Context, name string) error {
	for range 10 {
		was, err := c.t.Claim(ctx, name)
		if err != nil {
			return err
		}
		var other process.Claim
		// What cannot be read was left by another version.
		if was != "" && json.Unmarshal([]byte(was), &other) == nil && other.Held(time.Now()) {
			return fmt.Errorf("%s: %w: %s, since %s; it counts as gone if it says nothing until %s", name, ErrClaimed,
				other.Identity,
				other.Since.Local().Format(time.RFC3339),
				other.Until.Add(process.Tolerance).Local().Format(time.RFC3339))
		}
		c.mu.Lock()
		mine := c.text()
		c.mu.Unlock()
		ok, err := c.t.SwapClaim(ctx, name, was, mine)
		if err != nil {
			return err
		}
		if ok {
			c.mu.Lock()
			defer c.mu.Unlock()
			c.held[name] = mine
			if was != "" {
				c.taken = append(c.taken, name)
			}
			return nil
		}
	}
	return fmt.Errorf("%s: %w", name, ErrClaimed)
}

func (c *Claims) text() string {
	b, err := json.Marshal(c.claim)
	if err != nil {
		panic(err) // made of plain values
	}
	return string(b)
}

func (c *Claims) keep(ctx context.Context) {
	defer close(c.done)
	for {
		select {
		case <-c.stop:
			return
		case <-time.After(c.length / 3):
		}
		beat, cancel := context.WithTimeout(ctx, c.length/3)
		c.beat(beat)
		cancel()
	}
}

// beat prolongs all claims.
func (c *Claims) beat(ctx context.Context) {
	c.mu.Lock()
	defer c.mu.Unlock()
	before := c.claim.Until
	c.claim.Until = time.Now().UTC().Add(c.length).Truncate(time.Second)
	now := c.text()
	for name, was := range c.held {
		ok, err := c.t.SwapClaim(ctx, name, was, now)
		if err == nil && !ok {
			// An answer may have been lost the last time.
			there, gerr := c.t.Claim(ctx, name)
			var other process.Claim
			if gerr == nil && (json.Unmarshal([]byte(there), &other) != nil || other.ID != c.claim.ID) {
				c.lost = fmt.Errorf("%s: %w: %s", name, ErrClaimLost, other.Identity)
			}
			if gerr == nil {
				c.held[name] = there
			}
			continue
		}
		if err != nil {
			c.claim.Until = before // the next beat tries again
			return
		}
		c.held[name] = now
	}
}

// Check returns [ErrClaimLost] where the claims cannot be relied on any more.
func (c *Claims) Check() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.lost == nil && time.Now().After(c.claim.Until.Add(process.Tolerance/2)) {
		return fmt.Errorf("%w: this process, or the cluster, stood still for too long", ErrClaimLost)
	}
	return c.lost
}

// Add takes one more name.
func (c *Claims) Add(ctx context.Context, name string) error { return c.take(ctx, name) }

// TakenOver returns the names on which a restore was cut short before.
func (c *Claims) TakenOver() []string { return c.taken }

// End gives up one name; what was written there is complete.
func (c *Claims) End(ctx context.Context, name string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	was, ok := c.held[name]
	if !ok {
		return nil
	}
	delete(c.held, name)
	_, err := c.t.SwapClaim(ctx, name, was, "")
	return err
}

// Release gives up the names that are left. With leave set a mark stays under
// each, which says that what was written there is not complete.
func (c *Claims) Release(ctx context.Context, leave bool) error {
	close(c.stop)
	<-c.done
	mark := ""
	if leave {
		c.claim.Until = time.Time{}
		mark = c.text()
	}
	return c.release(ctx, mark)
}

func (c *Claims) release(ctx context.Context, mark string) (err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for name, was := range c.held {
		_, serr := c.t.SwapClaim(ctx, name, was, mark)
		err = errors.Join(err, serr)
	}
	clear(c.held)
	return err
}

// CutShort reports whether what is kept under a name was left by a restore that
// did not end.
func CutShort(value string) bool {
	var c process.Claim
	return value != "" && (json.Unmarshal([]byte(value), &c) != nil || !c.Held(time.Now()))
}
