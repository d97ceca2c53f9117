//go:build linux

package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"golang.org/x/sys/unix"
)

// parent opens the folder that holds a path of a root, through no link that leads out of
// it, and calls fn with it and the path's last element.
func parent(root, path string, fn func(dir int, name string) error) error {
	if path == "" {
		return withDir(filepath.Dir(root), func(d int) error { return fn(d, filepath.Base(root)) })
	}
	dir, name := "", path
	if i := strings.LastIndexByte(path, '/'); i >= 0 {
		dir, name = path[:i], path[i+1:]
	}
	if dir == "" {
		return withDir(root, func(d int) error { return fn(d, name) })
	}
	return withDir(root, func(d int) error {
		how := unix.OpenHow{Flags: unix.O_PATH | unix.O_DIRECTORY | unix.O_CLOEXEC | unix.O_NOFOLLOW,
			Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS}
		sub, err := unix.Openat2(d, dir, &how)
		if errors.Is(err, unix.ENOSYS) {
			sub, err = openBeneath(d, dir)
		}
		if err != nil {
			return &os.PathError{Op: "open", Path: filepath.Join(root, dir), Err: err}
		}
		defer unix.Close(sub)
		return fn(sub, name)
	})
}

// openBeneath is openat2 for kernels that have none: element by element.
func openBeneath(d int, dir string) (int, error) {
	at, err := unix.Dup(d)
	for _, el := range strings.Split(dir, "/") {
		if err != nil {
			return -1, err
		}
		if el == ".." {
			unix.Close(at)
			return -1, unix.EXDEV
		}
		var next int
		next, err = unix.Openat(at, el, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC|unix.O_NOFOLLOW, 0)
		unix.Close(at)
		at = next
	}
	return at, err
}

func withDir(dir string, fn func(d int) error) error {
	d, err := unix.Open(dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return &os.PathError{Op: "open", Path: dir, Err: err}
	}
	defer unix.Close(d)
	return fn(d)
}

// open opens a regular file that was listed, for reading.
func open(root string, e *Entry, fn func(f *os.File, now Entry) error) error {
	return parent(root, e.Path, func(dir int, name string) error {
		fd, err := unix.Openat(dir, name, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_CLOEXEC|unix.O_NONBLOCK|unix.O_NOATIME,
			0)
		if errors.Is(err, unix.EPERM) { // only a file's owner may leave its time of reading as it is
			fd, err = unix.Openat(dir, name, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_CLOEXEC|unix.O_NONBLOCK, 0)
		}
		if err != nil {
			return err
		}
		f := os.NewFile(uintptr(fd), name)
		kept := false
		defer func() {
			if !kept {
				_ = f.Close()
			}
		}()
		var st unix.Stat_t
		if err := unix.Fstat(fd, &st); err != nil {
			return err
		}
		now := entryOf(&st)
		now.Path = e.Path
		if now.Kind != e.Kind || e.Ino != 0 && (now.Ino != e.Ino || now.Dev != e.Dev) {
			return fmt.Errorf("%w: it was replaced", ErrChanged)
		}
		err = fn(f, now)
		kept = errors.Is(err, errKept)
		if kept {
			err = nil
		}
		return err
	})
}

// errKept is returned to keep a file open.
var errKept = errors.New("the file is kept open")

// Read implements [Host].
func (l *Local) Read(_ context.Context, root string, e Entry) (c Content, err error) {
	c.Entry = e
	switch e.Kind {
	case Regular:
		err = open(root, &e, func(f *os.File, now Entry) error {
			c.Entry = now
			if now.Size > 0 {
				hole, err := unix.Seek(int(f.Fd()), 0, unix.SEEK_HOLE)
				c.Sparse = err == nil && hole < now.Size
			}
			if now.Size <= Inline {
				c.Data = make([]byte, now.Size)
				n, err := f.ReadAt(c.Data, 0)
				if err != nil && !errors.Is(err, io.EOF) {
					return err
				}
				if int64(n) < now.Size {
					return fmt.Errorf("%w: it became shorter", ErrChanged)
				}
				var st unix.Stat_t
				if err := unix.Fstat(int(f.Fd()), &st); err != nil {
					return err
				}
				after := entryOf(&st)
				c.Changed = !after.Same(&now)
			}
			if c.Attributes, err = attributes(fmt.Sprintf("/proc/self/fd/%d", f.Fd())); err == nil &&
				now.Size > Inline {
				c.Handle, err = l.keep(f), errKept
			}
			return err
		})
	case Symlink, Folder, Pipe:
		err = parent(root, e.Path, func(dir int, name string) error {
			if e.Kind == Symlink {
				buf := make([]byte, unix.PathMax)
				n, err := unix.Readlinkat(dir, name, buf)
				if err != nil {
					return err
				}
				c.Target = string(buf[:n])
			}
			c.Attributes, err = attributes(fmt.Sprintf("/proc/self/fd/%d/%s", dir, name))
			return err
		})
	}
	return c, err
}

// attributes reads the extended attributes of a file, in order; of a link itself, where
// the path ends with one.
func attributes(path string) ([]Attribute, error) {
	list, get := unix.Llistxattr, unix.Lgetxattr
	if strings.Count(path, "/") == 4 { // a file that is open is a link of /proc
		list, get = unix.Listxattr, unix.Getxattr
	}
	n, err := list(path, nil)
	if n == 0 || errors.Is(err, unix.ENOTSUP) {
		return nil, nil
	}
	var names []byte
	if err == nil {
		names = make([]byte, n+256)
		n, err = list(path, names)
	}
	if err != nil {
		return nil, fmt.Errorf("extended attributes: %w", err)
	}
	var out []Attribute
	for _, name := range strings.Split(strings.TrimSuffix(string(names[:n]), "\x00"), "\x00") {
		size, err := get(path, name, nil)
		var v []byte
		if err == nil {
			v = make([]byte, size+256)
			size, err = get(path, name, v)
		}
		if errors.Is(err, unix.ENODATA) || errors.Is(err, unix.EPERM) {
			continue // gone meanwhile, or of a kind that only the kernel gives
		}
		if err != nil {
			return nil, fmt.Errorf("extended attribute %q: %w", name, err)
		}
		out = append(out, Attribute{name, string(v[:size])})
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out, nil
}

// keep keeps a file open under a handle.
func (l *Local) keep(f *os.File) uint64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.last++
	l.files[l.last] = f
	return l.last
}

func (l *Local) file(handle uint64) (*os.File, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	f := l.files[handle]
	if f == nil {
		return nil, os.ErrClosed
	}
	return f, nil
}

// CloseFile implements [Host].
func (l *Local) CloseFile(handle uint64) error {
	f, err := l.file(handle)
	if err != nil {
		return err
	}
	l.mu.Lock()
	delete(l.files, handle)
	l.mu.Unlock()
	return f.Close()
}

// StatFile implements [Host].
func (l *Local) StatFile(_ context.Context, handle uint64) (Entry, error) {
	f, err := l.file(handle)
	if err != nil {
		return Entry{}, err
	}
	var st unix.Stat_t
	err = unix.Fstat(int(f.Fd()), &st)
	return entryOf(&st), err
}

// ReadAt implements [Host].
func (l *Local) ReadAt(_ context.Context, handle uint64, off int64, n int) ([]byte, error) {
	f, err := l.file(handle)
	if err != nil {
		return nil, err
	}
	data := make([]byte, n)
	got, err := f.ReadAt(data, off)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return data[:got], err
}

// Pieces implements [Host].
func (l *Local) Pieces(_ context.Context, handle uint64, from int64,
	most int) (offsets []int64, next int64, err error) {
	f, err := l.file(handle)
	if err != nil {
		return nil, -1, err
	}
	st, err := f.Stat()
	if err != nil {
		return nil, -1, err
	}
	size, fd := st.Size(), int(f.Fd())
	for next = from; len(offsets) < most; {
		if next >= size {
			return offsets, -1, nil
		}
		at, err := unix.Seek(fd, next, unix.SEEK_DATA)
		if errors.Is(err, unix.ENXIO) {
			return offsets, -1, nil
		}
		if err != nil { // no holes are told here
			at = next
		}
		end, err := unix.Seek(fd, at, unix.SEEK_HOLE)
		if err != nil {
			end = size
		}
		next = max(next, at-at%PieceSize)
		for next < end && len(offsets) < most {
			offsets = append(offsets, next)
			next += PieceSize
		}
	}
	return offsets, next, nil
}
