package notify

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/zeebo/blake3"

	"dexamen/internal/config"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
)

// Marks is where a store keeps what has been told: [store.Store] is one.
type Marks interface {
	PutMark(ctx context.Context, cluster, what string, v any) error
	RemoveMark(ctx context.Context, cluster, what string) error
	Marks(ctx context.Context, cluster, prefix string, fn func(what string, read func(v any) error) error) error
}

// Ledger knows what has been told, so that it is told once, whoever sees it and however often it
// is started anew. Stores keep that; where one refuses, it is told all the same and kept in memory
// until the store takes it.
type Ledger struct {
	Outbox *Outbox

	mu      sync.Mutex
	cfg     config.Alerts
	notes   map[string]*note       // by store, cluster and the mark's name
	folders map[string]*sync.Mutex // one that reconciles a folder of marks at a time
}

// note is what this process has told of an alert.
type note struct {
	alert    Alert
	stored   bool     // the store keeps that it was seen
	taken    []string // channels that took it, which the store is still to keep
	over     bool     // told as well, and the mark could not be removed
	unstored bool     // no store is to remember it: see Raise
}

// Set has the ledger go by a configuration.
func (l *Ledger) Set(c config.Alerts) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.cfg = c
}

// mark is what a store keeps of an alert that was seen, and of one that a channel has taken.
type mark struct {
	Alert Alert     `json:"alert"`
	Seen  time.Time `json:"seen,omitzero"`
	Sent  time.Time `json:"sent,omitzero"`
}

const (
	markPrefix = "alert-"
	sentPart   = "-sent" // then "-" and the channel
)

// repeatAfter is after how long an alert that was seen and that a channel has not taken is told by
// whoever sees it next: who saw it first is gone.
const repeatAfter = 5 * time.Minute

func markName(a Alert) string {
	sum := blake3.Sum256([]byte(a.Key))
	return fmt.Sprintf("%s%x", markPrefix, sum[:8])
}

// place is the folder that a cluster's marks are in; a store itself has one too.
func place(cluster string) string {
	if cluster == "" {
		return "-"
	}
	return cluster
}

func noteKey(storeName, cluster, name string) string {
	return storeName + "\x00" + cluster + "\x00" + name
}

// Taken notes that a channel has taken a notice; the store is to keep it when it is looked at next.
func (l *Ledger) Taken(a Alert, channel string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, cluster := range []string{a.Cluster, ""} {
		if n := l.notes[noteKey(a.Store, cluster, markName(a))]; n != nil && !a.Over {
			n.taken = append(n.taken, channel)
			return
		}
	}
}

// Unkept reports whether something was told that the store of a cluster does not keep yet.
func (l *Ledger) Unkept(storeName, cluster string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	for k, n := range l.notes {
		if strings.HasPrefix(k, noteKey(storeName, cluster, "")) && len(n.taken) > 0 {
			return true
		}
	}
	return false
}

// known is what a store keeps of alerts.
type known struct {
	seen map[string]mark
	sent map[string][]string // channels that took it, by name
}

func (k *known) read(ctx context.Context, m Marks, cluster string) error {
	k.seen, k.sent = map[string]mark{}, map[string][]string{}
	return m.Marks(ctx, place(cluster), markPrefix, func(what string, read func(any) error) error {
		if name, channel, ok := strings.Cut(what, sentPart); ok {
			k.sent[name] = append(k.sent[name], strings.TrimPrefix(channel, "-"))
			return nil
		}
		var s mark
		if err := read(&s); err != nil {
			if errors.Is(err, blob.ErrNotFound) || errors.Is(err, store.ErrDamaged) {
				return nil
			}
			return err
		}
		k.seen[what] = s
		return nil
	})
}

// Reconcile sends the alerts of a cluster, or of a store itself, that are new and of those that
// are over, and keeps in the store that it did. First it tells: an error says that the store could
// not be read or refuses to remember, and nothing else.
func (l *Ledger) Reconcile(ctx context.Context, m Marks, storeName, cluster string, now []Alert) error {
	folder := l.folder(noteKey(storeName, cluster, ""))
	folder.Lock()
	defer folder.Unlock()
	var k known
	unread := k.read(ctx, m, cluster)
	l.mu.Lock()
	defer l.mu.Unlock()
	errs := []error{unread}
	put := func(name string, v mark) error {
		return l.unlocked(func() error { return m.PutMark(ctx, place(cluster), name, v) })
	}
	is := map[string]bool{}
	for _, a := range now {
		name := markName(a)
		is[name] = true
		key := noteKey(storeName, cluster, name)
		n, seen := l.notes[key], k.seen[name]
		_, stored := k.seen[name]
		if n != nil && n.over { // it has begun again before the mark of the time before went
			if stored && l.forget(ctx, m, cluster, name, k.sent[name]) == nil {
				delete(k.seen, name)
				stored = false
			}
			n = nil
			delete(l.notes, key)
			k.sent[name] = nil
		}
		switch {
		case n != nil && (stored || unread != nil):
			n.stored = n.stored || stored
		case n != nil:
			err := put(name, mark{Alert: n.alert, Seen: time.Now().UTC()})
			n.stored = n.stored || err == nil
			errs = append(errs, refused(err))
		case stored:
			if time.Since(seen.Seen) > repeatAfter {
				if to := l.untold(k.sent[name]); len(to) > 0 {
					l.tell(seen.Alert, to)
					l.notes[key] = &note{alert: seen.Alert, stored: true}
				}
			}
		default:
			var err error
			if unread == nil {
				err = put(name, mark{Alert: a, Seen: time.Now().UTC()})
			}
			if errors.Is(err, blob.ErrExists) {
				continue // another tells
			}
			l.tell(a, nil)
			l.notes[key] = &note{alert: a, stored: err == nil && unread == nil}
			errs = append(errs, err)
		}
		if n := l.notes[key]; n != nil && n.stored && unread == nil {
			taken, left := n.taken, []string{}
			n.taken = nil
			for _, channel := range taken {
				err := put(name+sentPart+"-"+channel, mark{Alert: n.alert, Sent: time.Now().UTC()})
				if refused(err) != nil {
					left, errs = append(left, channel), append(errs, err)
				}
			}
			n.taken = append(left, n.taken...)
		}
	}
	errs = append(errs, l.overs(ctx, m, storeName, cluster, k, is, unread != nil))
	return errors.Join(errs...)
}

// overs sends that alerts are over.
func (l *Ledger) overs(ctx context.Context, m Marks, storeName, cluster string, k known, is map[string]bool,
	unread bool) error {
	var errs []error
	for name, s := range k.seen {
		if is[name] {
			continue
		}
		key := noteKey(storeName, cluster, name)
		n := l.notes[key]
		err := l.forget(ctx, m, cluster, name, k.sent[name])
		if errors.Is(err, blob.ErrNotFound) {
			delete(l.notes, key)
			continue // another tells
		}
		errs = append(errs, err)
		if (n != nil && !n.over) || n == nil && len(k.sent[name]) > 0 {
			l.tellOver(s.Alert)
		}
		if err != nil {
			l.notes[key] = &note{alert: s.Alert, stored: true, over: true}
			continue
		}
		delete(l.notes, key)
	}
	for key, n := range l.notes {
		name, mine := strings.CutPrefix(key, noteKey(storeName, cluster, ""))
		_, stored := k.seen[name]
		switch {
		case !mine || n.unstored || is[name] || stored:
		case unread && !n.over:
			l.tellOver(n.alert)
			n.over = true
		case unread:
		case n.stored || n.over: // another has told
			delete(l.notes, key)
		default:
			l.tellOver(n.alert)
			delete(l.notes, key)
		}
	}
	return errors.Join(errs...)
}

// forget removes the marks of an alert.
func (l *Ledger) forget(ctx context.Context, m Marks, cluster, name string, sent []string) error {
	return l.unlocked(func() error {
		if err := m.RemoveMark(ctx, place(cluster), name); err != nil {
			return err
		}
		for _, channel := range sent {
			if channel != "" {
				channel = "-" + channel
			}
			_ = m.RemoveMark(ctx, place(cluster), name+sentPart+channel)
		}
		return nil
	})
}

// unlocked does what may hang, as a store does, without the lock: others are told of that meanwhile.
func (l *Ledger) unlocked(do func() error) error {
	l.mu.Unlock()
	defer l.mu.Lock()
	return do()
}

// folder returns the lock of a folder of marks.
func (l *Ledger) folder(name string) *sync.Mutex {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.notes == nil {
		l.notes, l.folders = map[string]*note{}, map[string]*sync.Mutex{}
	}
	if l.folders[name] == nil {
		l.folders[name] = &sync.Mutex{}
	}
	return l.folders[name]
}

func refused(err error) error {
	if errors.Is(err, blob.ErrExists) {
		return nil
	}
	return err
}

// untold lists the channels that have not taken an alert.
func (l *Ledger) untold(sent []string) (out []string) {
	for _, name := range l.Outbox.Names() {
		if !slices.Contains(sent, name) && !slices.Contains(sent, "") {
			out = append(out, name)
		}
	}
	return out
}

func (l *Ledger) tell(a Alert, channels []string) {
	if Wanted(l.cfg, a.About) {
		l.Outbox.Add(a, channels...)
	}
}

func (l *Ledger) tellOver(a Alert) {
	if !a.Passes() {
		a.Over = true
		l.tell(a, nil)
	}
}

// Raise sends an alert that no store is to remember, as it is of the store or of this process
// itself; while it goes on it is told once.
func (l *Ledger) Raise(a Alert) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.notes == nil {
		l.notes, l.folders = map[string]*note{}, map[string]*sync.Mutex{}
	}
	key := "\x00" + a.of()
	if l.notes[key] == nil {
		l.notes[key] = &note{alert: a, unstored: true}
		l.tell(a, nil)
	}
}

// Clear sends that what was raised is over; a is what it was raised with, of which Store, Cluster
// and Key count.
func (l *Ledger) Clear(a Alert) {
	l.mu.Lock()
	defer l.mu.Unlock()
	key := "\x00" + a.of()
	if n := l.notes[key]; n != nil {
		delete(l.notes, key)
		n.alert.Over = true
		l.tell(n.alert, nil)
	}
}

// Raised lists what goes on that no store remembers, by store, cluster and key.
func (l *Ledger) Raised() (out []Alert) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, n := range l.notes {
		if n.unstored {
			out = append(out, n.alert)
		}
	}
	slices.SortFunc(out, func(a, b Alert) int { return strings.Compare(a.of(), b.of()) })
	return out
}

// Told lists what this process has told of a cluster and that goes on, as it was told.
func (l *Ledger) Told(storeName, cluster string) (out []Alert) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for key, n := range l.notes {
		if strings.HasPrefix(key, noteKey(storeName, cluster, markPrefix)) && !n.over {
			out = append(out, n.alert)
		}
	}
	return out
}

// Active lists the alerts that go on, as a store keeps them.
func Active(ctx context.Context, m Marks, cluster string) (out []Alert, err error) {
	var k known
	if err = k.read(ctx, m, cluster); err != nil {
		return nil, err
	}
	for _, s := range k.seen {
		out = append(out, s.Alert)
	}
	slices.SortFunc(out, func(a, b Alert) int { return strings.Compare(a.Key, b.Key) })
	return out, nil
}
