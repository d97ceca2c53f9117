//go:build !linux

package files

// NewLocal returns access to this machine's folders.
func NewLocal() (Host, error) { return nil, ErrPlatform }
