package config

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// Watch tells when a configuration, or a file that it includes, is another one than it was.
type Watch struct {
	mu      sync.Mutex
	path    string
	include []string
	was     string
}

// NewWatch begins with a configuration as it is.
func NewWatch(c *Config) *Watch {
	w := &Watch{path: c.Path, include: c.Include}
	w.was, _ = w.look()
	return w
}

// Load reads the configuration anew.
func (w *Watch) Load() (*Config, error) {
	c, err := Load(w.path)
	if err == nil {
		w.mu.Lock()
		w.include = c.Include
		w.was, _ = w.look()
		w.mu.Unlock()
	}
	return c, err
}

// Changed reports whether any of it is another one than when it was asked last. What was changed
// within this second may not be whole yet.
func (w *Watch) Changed() bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	now, settled := w.look()
	if now == "" || now == w.was || !settled {
		return false
	}
	w.was = now
	return true
}

// look returns names, times and sizes of all files; none where the first is gone, as while it is
// replaced.
func (w *Watch) look() (all string, settled bool) {
	files := []string{w.path}
	for _, pattern := range w.include {
		if !filepath.IsAbs(pattern) {
			pattern = filepath.Join(filepath.Dir(w.path), pattern)
		}
		more, _ := filepath.Glob(pattern)
		files = append(files, more...)
	}
	var b strings.Builder
	settled = true
	for i, path := range files {
		st, err := os.Stat(path)
		if err != nil {
			if i == 0 {
				return "", false
			}
			continue
		}
		settled = settled && time.Since(st.ModTime()) >= time.Second
		fmt.Fprintf(&b, "%s %d %d\n", path, st.ModTime().UnixNano(), st.Size())
	}
	return b.String(), settled
}
