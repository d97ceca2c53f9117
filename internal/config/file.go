package config

import (
	"errors"
	"io"
	"os"

	"dexamen/internal/command"
)

// readFile returns a file's content, of at most so many bytes. What is no file, a pipe or a device, is
// refused: it may never end, or never begin.
func readFile(path string, limit int64) ([]byte, error) {
	st, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !st.Mode().IsRegular() {
		return nil, &os.PathError{Op: "read", Path: path, Err: errors.New("it is no file, but a " + kind(st.Mode()))}
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err == nil && int64(len(b)) > limit {
		err = &os.PathError{Op: "read", Path: path, Err: command.ErrTooMuch}
	}
	return b, err
}

func kind(m os.FileMode) string {
	switch {
	case m.IsDir():
		return "folder"
	case m&os.ModeNamedPipe != 0:
		return "pipe"
	case m&os.ModeSocket != 0:
		return "socket"
	}
	return "device"
}
