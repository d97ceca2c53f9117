package sealed

import (
	"context"
	"errors"
	"fmt"
	"time"

	"dexamen/internal/core/blob"
)

// ErrReplaced is returned when a place let an object be replaced.
var ErrReplaced = errors.New("the place let an object be replaced: earlier backups would not be safe")

// ErrSpent is returned when a place does not let a name be used again of which the object was
// removed.
var ErrSpent = errors.New("the place does not take an object under a name that another one had that was removed: " +
	"what is told once would not be told again")

// ClockTolerance is how far this machine's clock may be off from the store's.
const ClockTolerance = 2 * time.Minute

// ClockError reports that a clock is off.
func ClockError(off time.Duration) error {
	which := "ahead of"
	if off < 0 {
		which = "behind"
	}
	return fmt.Errorf("this machine's clock is %s %s the store's: claims, locks and retention rest on both being "+
		"right; set the one that is wrong", off.Abs().Round(time.Second), which)
}

// PlaceReport describes how a store's place behaves.
type PlaceReport struct {
	Bytes               int
	Write, Read, Remove time.Duration
	ClockOff            time.Duration // how far this machine's clock is ahead
}

// CheckPlace writes an object, reads it back, sees that it cannot be replaced,
// removes it, and sees that its name can be used again. [ErrReplaced] and [ErrSpent]: the place
// does not heed conditions as it should.
func CheckPlace(ctx context.Context, b blob.Backend, size int) (PlaceReport, error) {
	r := PlaceReport{Bytes: size}
	name := CheckPrefix + NewID(16)
	data := make([]byte, size)
	for i := range data {
		data[i] = byte(i * 31 >> 3)
	}
	t := time.Now()
	if err := b.Create(ctx, name, data); err != nil {
		return r, err
	}
	r.Write, t = time.Since(t), time.Now()
	got, err := b.Read(ctx, name)
	if err == nil && string(got) != string(data) {
		err = fmt.Errorf("%s: %w: read back other bytes than were written", name, ErrDamaged)
	}
	r.Read = time.Since(t)
	if err == nil {
		err = b.List(ctx, name, func(i blob.Info) error {
			if i.Name == name && !i.Made.IsZero() {
				r.ClockOff = t.Sub(i.Made).Truncate(time.Second)
			}
			return nil
		})
	}
	if err == nil {
		if e := b.Create(ctx, name, nil); !errors.Is(e, blob.ErrExists) {
			err = fmt.Errorf("%s: %w", name, ErrReplaced)
		}
	}
	t = time.Now()
	err = errors.Join(err, b.Remove(ctx, name))
	r.Remove = time.Since(t)
	if err != nil {
		return r, err
	}
	if err = b.Create(ctx, name, data[:1]); errors.Is(err, blob.ErrExists) {
		return r, fmt.Errorf("%s: %w", name, ErrSpent)
	}
	return r, errors.Join(err, b.Remove(ctx, name))
}

// probeBytes is how large what a probe writes is.
const probeBytes = 512

// Probe writes a small object and removes it: whether a place takes anything at all, at the cost
// of two requests.
func Probe(ctx context.Context, b blob.Backend) error {
	name := CheckPrefix + NewID(16)
	if err := b.Create(ctx, name, make([]byte, probeBytes)); err != nil {
		return err
	}
	return b.Remove(ctx, name)
}
