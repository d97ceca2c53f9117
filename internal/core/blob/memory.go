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
	mu      sync.RWMutex
	objects map[string][]byte
	names   *btree.BTreeG[string]
	made    map[string]time.Time
	locked  map[string]time.Time
}

// NewMemory makes an empty memory backend.
func NewMemory() *Memory {
	return &Memory{names: btree.NewBTreeG(func(a, b string) bool { return a < b }), objects: map[string][]byte{}, made: map[string]time.Time{}, locked: map[string]time.Time{}}
}

// Create implements Backend.
func (m *Memory) Create(_ context.Context, name string, data []byte) error {
	if err := CheckName(name); err != nil {
		return err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if _, ok := m.objects[name]; ok {
		return fmt.Errorf("create %s: %w", name, ErrExists)
	}
	m.objects[name], m.made[name] = bytes.Clone(data), time.Now()
	m.names.Set(name)
	return nil
}

// Read implements Backend.
func (m *Memory) Read(_ context.Context, name string) ([]byte, error) {
	m.mu.RLock()
	defer m.mu.RUnlock()
	b, ok := m.objects[name]
	if !ok {
		return nil, fmt.Errorf("read %s: %w", name, ErrNotFound)
	}
	return bytes.Clone(b), nil
}

// ReadAt implements Backend.
func (m *Memory) ReadAt(_ context.Context, name string, off int64, n int) ([]byte, error) {
	m.mu.RLock()
	defer m.mu.RUnlock()
	b, ok := m.objects[name]
	if !ok {
		return nil, fmt.Errorf("read %s: %w", name, ErrNotFound)
	}
	if off < 0 {
		off += int64(len(b))
	}
	if off < 0 || n < 0 || off+int64(n) > int64(len(b)) {
		return nil, fmt.Errorf("read %s: %w", name, ErrRange)
	}
	return bytes.Clone(b[off : off+int64(n)]), nil
}

// List implements Backend.
func (m *Memory) List(ctx context.Context, prefix string, fn func(Info) error) error {
	m.mu.RLock()
	var all []Info
	m.names.Ascend(prefix, func(name string) bool {
		if !strings.HasPrefix(name, prefix) {
			return false
		}
		all = append(all, Info{name, int64(len(m.objects[name])), m.made[name]})
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
	if _, ok := m.objects[name]; !ok {
		return fmt.Errorf("remove %s: %w", name, ErrNotFound)
	}
	if until := m.locked[name]; time.Now().Before(until) {
		return fmt.Errorf("remove %s: %w until %s", name, ErrLocked, until.Format(time.RFC3339))
	}
	delete(m.objects, name)
	m.names.Delete(name)
	delete(m.locked, name)
	return nil
}

// Lock implements Locker.
func (m *Memory) Lock(_ context.Context, name string, until time.Time) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if _, ok := m.objects[name]; !ok {
		return fmt.Errorf("lock %s: %w", name, ErrNotFound)
	}
	if until.After(m.locked[name]) {
		m.locked[name] = until
	}
	return nil
}

// Flip changes one bit of an object, for tests of what damage does.
func (m *Memory) Flip(name string, bit int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.objects[name][bit/8] ^= 1 << (bit % 8)
}

// String implements Backend.
func (m *Memory) String() string { return "mem:" }
