//go:build linux

package files

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"golang.org/x/sys/unix"
)

// Publish implements [Host].
func (l *Local) Publish(_ context.Context, stage, to string, replace bool) (without int64, err error) {
	err = unix.Renameat2(unix.AT_FDCWD, stage, unix.AT_FDCWD, to, unix.RENAME_NOREPLACE)
	switch {
	case err == nil:
		return 0, syncDir(filepath.Dir(to))
	case errors.Is(err, unix.EEXIST) && !replace:
		return 0, fmt.Errorf("%s: %w", to, ErrOccupied)
	case noExchange(err):
		return 0, fmt.Errorf("%s: %w: %w", to, ErrNoExchange, err)
	case !errors.Is(err, unix.EEXIST) && !errors.Is(err, unix.EINVAL):
		return 0, &os.LinkError{Op: "rename", Old: stage, New: to, Err: err}
	}
	err = unix.Renameat2(unix.AT_FDCWD, stage, unix.AT_FDCWD, to, unix.RENAME_EXCHANGE)
	old := stage
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) {
		// The kernel or the file system has no exchange.
		old = stage + ".was"
		begin := time.Now()
		if err = os.Rename(to, old); err == nil {
			if err = os.Rename(stage, to); err != nil {
				err = errors.Join(err, os.Rename(old, to))
			}
			without = int64(time.Since(begin))
		}
	}
	if noExchange(err) {
		return 0, fmt.Errorf("%s: %w: %w", to, ErrNoExchange, err)
	}
	if err != nil {
		return 0, &os.LinkError{Op: "exchange", Old: stage, New: to, Err: err}
	}
	return without, errors.Join(syncDir(filepath.Dir(to)), removeAll(old))
}

func noExchange(err error) bool {
	return errors.Is(err, unix.EBUSY) || errors.Is(err, unix.EXDEV) || errors.Is(err, unix.EACCES) ||
		errors.Is(err, unix.EPERM) || errors.Is(err, unix.EROFS)
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// Note implements [Host].
func (l *Local) Note(_ context.Context, path string) (string, error) {
	b, err := os.ReadFile(path)
	if notThere(err) {
		return "", nil
	}
	return string(b), err
}

// SwapNote implements [Host].
func (l *Local) SwapNote(ctx context.Context, path, was, now string) (bool, error) {
	unlock, err := lockNotes(ctx, filepath.Dir(path))
	if err != nil {
		return false, err
	}
	defer unlock()
	is, err := l.Note(ctx, path)
	if err != nil || is != was {
		return false, err
	}
	if now == "" {
		if err := os.Remove(path); err != nil && !notThere(err) {
			return false, err
		}
		return true, nil
	}
	tmp := path + ".new"
	if err := os.WriteFile(tmp, []byte(now), 0o600); err != nil {
		return false, err
	}
	return true, os.Rename(tmp, path)
}

// lockNotes has the notes of a folder for one process at a time. The lock's file goes with
// the lock.
func lockNotes(ctx context.Context, dir string) (unlock func(), err error) {
	path := filepath.Join(dir, HiddenPrefix+"lock")
	for {
		f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR|unix.O_NOFOLLOW, 0o600)
		if err != nil {
			return nil, err
		}
		for err = unix.EWOULDBLOCK; errors.Is(err, unix.EWOULDBLOCK) || errors.Is(err, unix.EINTR); {
			if err = unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err == nil {
				break
			}
			select {
			case <-ctx.Done():
				_ = f.Close()
				return nil, ctx.Err()
			case <-time.After(5 * time.Millisecond):
			}
		}
		if err != nil {
			_ = f.Close()
			return nil, err
		}
		mine, err1 := f.Stat()
		there, err2 := os.Stat(path)
		if err1 == nil && err2 == nil && os.SameFile(mine, there) {
			return func() { _ = os.Remove(path); _ = f.Close() }, nil
		}
		_ = f.Close() // somebody has removed it before we had the lock
	}
}

// Clone implements [Host].
func (l *Local) Clone(ctx context.Context, root, to string, r Rules, fn func([]Entry) error) error {
	if err := os.Mkdir(to, 0o700); err != nil {
		return err
	}
	return l.Walk(ctx, root, r, func(batch []Entry) error {
		for i := range batch {
			e := &batch[i]
			if e.Failed != "" || e.Path == "" {
				continue
			}
			var err error
			switch e.Kind {
			case Folder:
				err = parent(to, e.Path, func(d int, name string) error { return unix.Mkdirat(d, name, 0o700) })
			case Regular:
				err = cloneFile(root, to, e)
			case Symlink, Pipe:
				err = cloneSpecial(root, to, e)
			}
			if err == nil && e.Kind != Regular && e.Kind != Socket && e.Kind != Device {
				err = cloneAttributes(root, to, e.Path)
			}
			if err != nil {
				e.Failed = "it cannot be cloned: " + plain(err)
			}
		}
		return fn(batch)
	})
}

// cloneFile clones a file, and enters in its entry what it was then.
func cloneFile(root, to string, e *Entry) error {
	return open(root, e, func(f *os.File, now Entry) error {
		*e = now
		return parent(to, e.Path, func(d int, name string) error {
			fd, err := unix.Openat(d, name, unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL|unix.O_NOFOLLOW|unix.O_CLOEXEC,
				0o600)
			if err != nil {
				return err
			}
			defer unix.Close(fd)
			if err := unix.IoctlFileClone(fd, int(f.Fd())); err != nil {
				return err
			}
			list, err := attributes(fmt.Sprintf("/proc/self/fd/%d", f.Fd()))
			if err != nil {
				return err
			}
			return setAttributes(fmt.Sprintf("/proc/self/fd/%d", fd), list, unix.Setxattr, unix.Getxattr)
		})
	})
}

func cloneSpecial(root, to string, e *Entry) error {
	return parent(to, e.Path, func(d int, name string) error {
		if e.Kind == Pipe {
			return unix.Mknodat(d, name, unix.S_IFIFO|0o600, 0)
		}
		target, err := os.Readlink(filepath.Join(root, e.Path))
		if err != nil {
			return err
		}
		return unix.Symlinkat(target, d, name)
	})
}

func cloneAttributes(root, to, path string) error {
	var list []Attribute
	err := parent(root, path, func(d int, name string) (err error) {
		list, err = attributes(fmt.Sprintf("/proc/self/fd/%d/%s", d, name))
		return err
	})
	if err != nil || len(list) == 0 {
		return err
	}
	return parent(to, path, func(d int, name string) error {
		return setAttributes(fmt.Sprintf("/proc/self/fd/%d/%s", d, name), list, unix.Lsetxattr, unix.Lgetxattr)
	})
}

// setAttributes sets attributes that the file does not have already.
func setAttributes(path string, list []Attribute, set func(string, string, []byte, int) error,
	get func(string, string, []byte) (int, error)) error {
	for _, a := range list {
		err := set(path, a.Name, []byte(a.Value), 0)
		if err == nil {
			continue
		}
		has := make([]byte, len(a.Value)+1)
		if n, gerr := get(path, a.Name, has); gerr != nil || string(has[:n]) != a.Value {
			return fmt.Errorf("its extended attribute %q: %w", a.Name, err)
		}
	}
	return nil
}

// InUse implements [Host].
func (l *Local) InUse(ctx context.Context, root string) (out []Usage, blind bool, err error) {
	root, err = filepath.EvalSymlinks(root)
	if notThere(err) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	procs, err := os.ReadDir("/proc")
	if err != nil {
		return nil, false, err
	}
	for _, p := range procs {
		pid, err := strconv.Atoi(p.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		path, seen := openIn(pid, root)
		blind = blind || !seen
		if path != "" {
			out = append(out, Usage{PID: pid, Command: commandOf(pid), Path: path})
		}
		if err := ctx.Err(); err != nil {
			return nil, false, err
		}
	}
	return append(out, lockedIn(root, out)...), blind, nil
}
