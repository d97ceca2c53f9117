package blob

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/tidwall/btree"
)

// Memory keeps objects in memory, for tests and rehearsals.
type Memory struct {
	mu     sync.RWMutex
	byName map[string]*object
	sorted *btree.BTreeG[*object]
}

type object struct {
	name   string
	data   []byte
	made   time.Time
	locked time.Time
}

// NewMemory makes an empty memory backend.
func NewMemory() *Memory {
	return &Memory{byName: map[string]*object{},
		sorted: btree.NewBTreeG(func(a, b *object) bool { return a.name < b.name })}
}

// Create implements Backend.
func (m *Memory) Create(_ context.Context, name string, data []byte) error {
	if err := CheckName(name); err != nil {
		return err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.byName[name] != nil {
		return fmt.Errorf("create %s: %w", name, ErrExists)
	}
	o := &object{name: name, data: bytes.Clone(data), made: time.Now()}
	m.byName[name] = o
	m.sorted.Set(o)
	return nil
}

// Read implements Backend.
func (m *Memory) Read(_ context.Context, name string) ([]byte, error) {
	m.mu.RLock()
	defer m.mu.RUnlock()
	o := m.byName[name]
	if o == nil {
		return nil, fmt.Errorf("read %s: %w", name, ErrNotFound)
	}
	return bytes.Clone(o.data), nil
}

// ReadAt implements Backend.
func (m *Memory) ReadAt(_ context.Context, name string, off int64, n int) ([]byte, error) {
	m.mu.RLock()
	defer m.mu.RUnlock()
	o := m.byName[name]
	if o == nil {
		return nil, fmt.Errorf("read %s: %w", name, ErrNotFound)
	}
	if off < 0 {
		off += int64(len(o.data))
	}
	if off < 0 || n < 0 || off+int64(n) > int64(len(o.data)) {
		return nil, fmt.Errorf("read %s: %w", name, ErrRange)
	}
	return bytes.Clone(o.data[off : off+int64(n)]), nil
}

// List implements Backend.
func (m *Memory) List(ctx context.Context, prefix string, fn func(Info) error) error {
	m.mu.RLock()
	var all []Info
	m.sorted.Ascend(&object{name: prefix}, func(o *object) bool {
		if !strings.HasPrefix(o.name, prefix) {
			return false
		}
		all = append(all, Info{o.name, int64(len(o.data)), o.made})
		return true
	})
	m.mu.RUnlock()
	for _, i := range all {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := fn(i); err != nil {
			return err
		}
	}
	return nil
}

// Remove implements Backend.
func (m *Memory) Remove(_ context.Context, name string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	o := m.byName[name]
	if o == nil {
		return fmt.Errorf("remove %s: %w", name, ErrNotFound)
	}
	if time.Now().Before(o.locked) {
		return fmt.Errorf("remove %s: %w until %s", name, ErrLocked, o.locked.Format(time.RFC3339))
	}
	delete(m.byName, name)
	m.sorted.Delete(o)
	return nil
}

// UseLocks implements Locker; nothing is to be done for it.
func (m *Memory) UseLocks() {}

// Lock implements Locker.
func (m *Memory) Lock(_ context.Context, name string, until time.Time) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	o := m.byName[name]
	if o == nil {
		return fmt.Errorf("lock %s: %w", name, ErrNotFound)
	}
	if until.After(o.locked) {
		o.locked = until
	}
	return nil
}

// Flip changes one bit of an object, for tests of what damage does.
func (m *Memory) Flip(name string, bit int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.byName[name].data[bit/8] ^= 1 << (bit % 8)
}

// String implements Backend.
func (m *Memory) String() string { return "mem:" }
