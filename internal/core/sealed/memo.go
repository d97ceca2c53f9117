package sealed

import "sync"

// Memo keeps what was read of a store's small objects, which never change, for
// stores that are opened again and again at one place. What it gives is not to be
// changed.
type Memo struct {
	mu   sync.Mutex
	held map[string]any
	size int
	most int // bytes, about
}

// NewMemo makes a memo of about so many bytes.
func NewMemo(most int) *Memo { return &Memo{held: map[string]any{}, most: most} }

func (m *Memo) get(name string) any {
	if m == nil {
		return nil
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.held[name]
}

func (m *Memo) put(name string, v any, size int) {
	if m == nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	size += len(name) + 128
	if m.size+size > m.most {
		// Seldom, and what is needed comes back.
		m.held, m.size = map[string]any{}, 0
	}
	if _, ok := m.held[name]; !ok && size <= m.most {
		m.held[name] = v
		m.size += size
	}
}

// Recall reads an object's content as get does, from the memo where it can.
// Weight is about how many bytes the content takes.
func Recall[T any](m *Memo, name string, read func(v *T) error, weight func(v *T) int) (*T, error) {
	if v, ok := m.get(name).(*T); ok {
		return v, nil
	}
	v := new(T)
	if err := read(v); err != nil {
		return nil, err
	}
	m.put(name, v, weight(v))
	return v, nil
}

func FixedWeight[T any](*T) int { return 1024 }
