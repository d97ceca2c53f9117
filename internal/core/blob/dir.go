package blob

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"
)

// Dir keeps objects as files below a folder.
//
// An object is written to a temporary file, synced, and linked to its name;
// the link fails where the name is taken, so nothing is ever replaced. Then
// the folder is synced. A crash leaves at most a temporary file, which List
// does not show.
type Dir struct{ root string }

// tmpDir holds files being written. Its name is none that CheckName allows.
const tmpDir = ".incoming"

// NewDir gives the backend for a folder, which need not exist.
func NewDir(root string) *Dir { return &Dir{filepath.Clean(root)} }

// Free implements Roomy: what the file system has left for who is no superuser.
func (d *Dir) Free() (int64, error) {
	var st syscall.Statfs_t
	if err := syscall.Statfs(d.root, &st); err != nil {
		return 0, err
	}
	return int64(st.Bavail) * int64(st.Bsize), nil
}

func (d *Dir) path(name string) string { return filepath.Join(d.root, filepath.FromSlash(name)) }

// Create implements Backend.
func (d *Dir) Create(ctx context.Context, name string, data []byte) (err error) {
	if err := CheckName(name); err != nil {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = fmt.Errorf("create %s: %w", name, d.Explain(err))
		}
	}()
	dst := d.path(name)
	if _, err := os.Lstat(dst); err == nil {
		return ErrExists
	}
	if err := d.makeFolder(filepath.Join(d.root, tmpDir)); err != nil {
		return err
	}
	if err := d.makeFolder(filepath.Dir(dst)); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Join(d.root, tmpDir), "w-*")
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(f.Name()) }()
	_, err = f.Write(data)
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	if err := os.Link(f.Name(), dst); errors.Is(err, fs.ErrExist) {
		return ErrExists
	} else if err != nil {
		return err
	}
	return syncFolder(filepath.Dir(dst))
}

// Explain says what can be done about what the operating system says.
func (d *Dir) Explain(err error) error {
	switch {
	case errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT):
		return fmt.Errorf("%w: the disk under %s is full; make room, store reclaim may give some back", err, d.root)
	case errors.Is(err, syscall.EROFS):
		return fmt.Errorf("%w: %s is mounted so that nobody can write to it", err, d.root)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%w: user %d may not write to %s", err, os.Getuid(), d.root)
	case errors.Is(err, syscall.ESTALE):
		return fmt.Errorf("%w: the server of the shared folder %s has lost track of it; mount it again", err, d.root)
	}
	return err
}

// makeFolder makes a folder and those above it, each made durable.
func (d *Dir) makeFolder(dir string) error {
	if _, err := os.Stat(dir); err == nil {
		return nil
	}
	parent := filepath.Dir(dir)
	if parent != dir {
		if err := d.makeFolder(parent); err != nil {
			return err
		}
	}
	if err := os.Mkdir(dir, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return syncFolder(parent)
}

func syncFolder(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

func (d *Dir) open(name string) (*os.File, error) {
	if err := CheckName(name); err != nil {
		return nil, err
	}
	f, err := os.Open(d.path(name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("read %s: %w", name, ErrNotFound)
	}
	return f, err
}

// Read implements Backend.
func (d *Dir) Read(ctx context.Context, name string) ([]byte, error) {
	f, err := d.open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(f)
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", name, err)
	}
	return b, ctx.Err()
}

// ReadAt implements Backend.
func (d *Dir) ReadAt(ctx context.Context, name string, off int64, n int) ([]byte, error) {
	f, err := d.open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if off < 0 {
		st, err := f.Stat()
		if err != nil {
			return nil, fmt.Errorf("read %s: %w", name, err)
		}
		if off += st.Size(); off < 0 {
			return nil, fmt.Errorf("read %s: %w", name, ErrRange)
		}
	}
	b := make([]byte, n)
	if got, err := f.ReadAt(b, off); got < n {
		if errors.Is(err, io.EOF) {
			err = ErrRange
		}
		return nil, fmt.Errorf("read %s: %w", name, err)
	}
	return b, ctx.Err()
}

// List implements Backend.
func (d *Dir) List(ctx context.Context, prefix string, fn func(Info) error) error {
	// Begin at the deepest folder the prefix names whole.
	start := ""
	if i := strings.LastIndexByte(prefix, '/'); i >= 0 {
		start = prefix[:i]
	}
	var all []Info
	err := filepath.WalkDir(d.path(start), func(p string, e fs.DirEntry, err error) error {
		if err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			return err
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		if e.IsDir() {
			if e.Name() == tmpDir {
				return fs.SkipDir
			}
			return nil
		}
		rel, err := filepath.Rel(d.root, p)
		if err != nil {
			return err
		}
		name := filepath.ToSlash(rel)
		if !strings.HasPrefix(name, prefix) || CheckName(name) != nil {
			return nil
		}
		st, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		all = append(all, Info{name, st.Size(), st.ModTime()})
		return nil
	})
	if err != nil {
		return fmt.Errorf("list %q: %w", prefix, err)
	}
	slices.SortFunc(all, func(a, b Info) int { return strings.Compare(a.Name, b.Name) })
	for _, i := range all {
		if err := fn(i); err != nil {
			return err
		}
	}
	return nil
}

// Remove implements Backend.
func (d *Dir) Remove(_ context.Context, name string) error {
	if err := CheckName(name); err != nil {
		return err
	}
	if st, err := os.Lstat(d.path(name)); err == nil && st.ModTime().After(time.Now().Add(time.Minute)) {
		return fmt.Errorf("remove %s: %w until %s", name, ErrLocked, st.ModTime().Format(time.RFC3339))
	}
	err := os.Remove(d.path(name))
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("remove %s: %w", name, ErrNotFound)
	}
	if err != nil {
		return fmt.Errorf("remove %s: %w", name, err)
	}
	return syncFolder(filepath.Dir(d.path(name)))
}

// Lock implements Locker as far as a folder can: the file cannot be written to,
// and its time of change is when the lock ends, before which Remove refuses. It
// keeps Dexamen and mistakes from removing it, not a user who may write to the
// folder and means to.
func (d *Dir) Lock(_ context.Context, name string, until time.Time) error {
	if err := CheckName(name); err != nil {
		return err
	}
	p := d.path(name)
	st, err := os.Lstat(p)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("lock %s: %w", name, ErrNotFound)
	}
	if err == nil && st.ModTime().Before(until) {
		err = errors.Join(os.Chtimes(p, time.Time{}, until), os.Chmod(p, 0o400))
	}
	if err != nil {
		return fmt.Errorf("lock %s: %w", name, err)
	}
	return nil
}

// String implements Backend.
func (d *Dir) String() string { return "file://" + filepath.ToSlash(d.root) }
