// Package tempfile makes files that have no name: whatever ends the process, nothing is left behind.
package tempfile

import "os"

// New makes an empty file in a folder, the system's where dir is empty. Closing it removes it.
func New(dir, pattern string) (*os.File, error) {
	if dir == "" {
		dir = os.TempDir()
	}
	if f, err := nameless(dir); err == nil {
		return f, nil
	}
	f, err := os.CreateTemp(dir, pattern)
	if err == nil {
		_ = os.Remove(f.Name())
	}
	return f, err
}
