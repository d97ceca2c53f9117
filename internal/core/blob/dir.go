package blob

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"
)

// Dir keeps objects as files below a folder.
//
// An object is written to a temporary file, synced, and linked to its name;
// the link fails where the name is taken, so nothing is ever replaced. Then
// the folder is synced. A crash leaves at most a temporary file, which List
// does not show.
//
// The folder itself may be a symbolic link, which is resolved once. Links below
// it are refused, as a listing that does not follow them would miss what reads
// find.
type Dir struct {
	root     string
	anchored atomic.Pointer[anchor]
	tidied   atomic.Int64 // when it was seen to that room is kept, in seconds since 1970
}

// anchor identifies the folder that a store was opened in.
type anchor struct {
	dev, ino uint64
	names    []string // of objects of which one at least must be there
	content  []byte   // of the first
}

// tmpDir holds files being written. Its name is none that [CheckName] allows.
const tmpDir = ".incoming"

// NewDir returns the backend for a folder, which need not exist.
func NewDir(root string) *Dir {
	root = filepath.Clean(root)
	if to, err := filepath.EvalSymlinks(root); err == nil {
		root = to
	}
	return &Dir{root: root}
}

// Anchor implements Anchored. It notes which folder this is, and the content of
// an object in it.
func (d *Dir) Anchor(_ context.Context, name string, copies ...string) error {
	dev, ino, err := d.identity()
	if err != nil {
		return err
	}
	content, err := d.content(name)
	if errors.Is(err, ErrNotFound) && len(copies) > 0 || errors.Is(err, ErrDamaged) {
		err = nil
	}
	if err == nil {
		d.anchored.Store(&anchor{dev, ino, append([]string{name}, copies...), content})
	}
	return err
}

// identity returns the device and inode of the store's folder.
func (d *Dir) identity() (dev, ino uint64, err error) {
	st, err := os.Stat(d.root)
	if err != nil {
		return 0, 0, err
	}
	sys, ok := st.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, 0, nil
	}
	return uint64(sys.Dev), sys.Ino, nil //nolint:unconvert // other systems have it narrower
}

// Present implements Anchored.
func (d *Dir) Present(ctx context.Context) error {
	a := d.anchored.Load()
	if a == nil {
		return nil
	}
	dev, ino, err := d.identity()
	if err == nil {
		if dev == a.dev && ino == a.ino {
			for _, n := range a.names {
				if _, lerr := os.Lstat(d.path(n)); lerr == nil {
					return nil
				}
			}
		}
		// A shared folder that was mounted again has another device number.
		var now []byte
		if now, err = d.content(a.names[0]); err == nil && bytes.Equal(now, a.content) {
			return d.Anchor(ctx, a.names[0], a.names[1:]...)
		}
	}
	if err == nil || errors.Is(err, fs.ErrNotExist) || errors.Is(err, ErrNotFound) {
		return fmt.Errorf("%w: %s no longer holds the store that was opened there; was it unmounted or moved away? "+
			"Nothing is written there until it is back", ErrGone, d.root)
	}
	return err
}

// owner returns who owns the store's folder, and the permissions that new folders
// and files in it get.
func (d *Dir) owner() (uid, gid int, folder, file fs.FileMode) {
	st, err := os.Stat(d.root)
	if err != nil {
		return -1, -1, 0o700, 0o600
	}
	uid, gid = -1, -1
	if sys, ok := st.Sys().(*syscall.Stat_t); ok && os.Geteuid() == 0 && sys.Uid != 0 {
		uid, gid = int(sys.Uid), int(sys.Gid)
	}
	mode := st.Mode() & (fs.ModePerm | fs.ModeSetgid)
	return uid, gid, mode | 0o700, mode&0o666 | 0o600
}

// Free implements Roomy: what the file system has left for who is no superuser.
func (d *Dir) Free() (int64, error) {
	var st syscall.Statfs_t
	if err := syscall.Statfs(d.root, &st); err != nil {
		return 0, err
	}
	return int64(st.Bavail) * int64(st.Bsize), nil //nolint:unconvert // other systems have it narrower
}

func (d *Dir) path(name string) string { return filepath.Join(d.root, filepath.FromSlash(name)) }

func (d *Dir) create(ctx context.Context, name string, data []byte) (err error) {
	if err := CheckName(name); err != nil {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	defer func() {
		if errors.Is(err, fs.ErrNotExist) { // the folder was taken away meanwhile, perhaps
			if gone := d.Present(ctx); gone != nil {
				err = gone
			}
		}
		if err != nil {
			err = fmt.Errorf("create %s: %w", name, d.Explain(err))
		}
	}()
	if err := d.Present(ctx); err != nil {
		return err
	}
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
		err = d.adopt(f)
	}
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
	return SyncFolder(filepath.Dir(dst))
}

// adopt returns a new file the permissions of the store's folder, and its owner
// where root writes to the store of another user.
func (d *Dir) adopt(f *os.File) error {
	uid, gid, folder, file := d.owner()
	if st, err := f.Stat(); err == nil && st.IsDir() {
		file = folder
	}
	err := f.Chmod(file)
	if uid >= 0 {
		err = errors.Join(f.Chown(uid, gid), err)
	}
	if errors.Is(err, syscall.ENOTSUP) || errors.Is(err, syscall.EPERM) && uid < 0 {
		return nil // a file system without permissions of its own
	}
	return err
}

// Explain reports what can be done about what the operating system says.
func (d *Dir) Explain(err error) error {
	switch {
	case errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT):
		return fmt.Errorf("%w: the disk under %s is full; make room, store reclaim may give some back", err, d.root)
	case errors.Is(err, syscall.EROFS):
		return fmt.Errorf("%w: %s is mounted so that nobody can write to it", err, d.root)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%w: user %d may not write to %s%s", err, os.Getuid(), d.root, d.foreign())
	case errors.Is(err, syscall.ESTALE):
		return fmt.Errorf("%w: the server of the shared folder %s has lost track of it; mount it again", err, d.root)
	}
	return err
}

// foreign returns whose the store's folder is, where that is another user.
func (d *Dir) foreign() string {
	st, err := os.Stat(d.root)
	if err != nil {
		return ""
	}
	sys, ok := st.Sys().(*syscall.Stat_t)
	if !ok || int(sys.Uid) == os.Getuid() {
		return ""
	}
	return fmt.Sprintf(
		", which belongs to user %d; run dexamen as that user, or give the folder and all in it to this one", sys.Uid)
}

// unreadable reports that one file cannot be read, and why. The rest of the store
// may be sound.
func (d *Dir) unreadable(name string, err error) error {
	if errors.Is(err, fs.ErrPermission) {
		who := ""
		if st, serr := os.Lstat(d.path(name)); serr == nil {
			if sys, ok := st.Sys().(*syscall.Stat_t); ok {
				who = fmt.Sprintf(" (it belongs to user %d, mode %04o; chown and chmod give it back)", sys.Uid,
					st.Mode().Perm())
			}
		}
		return fmt.Errorf("read %s: %w: user %d may not read it%s", name, ErrDamaged, os.Getuid(), who)
	}
	var pe *fs.PathError
	if errors.As(err, &pe) {
		err = pe.Err
	}
	if errors.Is(err, syscall.ELOOP) {
		err = errors.New("it is a symbolic link, which a store may not hold")
	}
	return fmt.Errorf("read %s: %w: it cannot be read: %w", name, ErrDamaged, err)
}

// makeFolder makes a folder and those above it, each made durable. Once a store
// was opened its own folder is never made anew: that it is missing means that it
// was unmounted or moved.
func (d *Dir) makeFolder(dir string) error {
	if _, err := os.Stat(dir); err == nil {
		return nil
	}
	if d.anchored.Load() != nil && !strings.HasPrefix(dir, d.root+string(filepath.Separator)) {
		return fmt.Errorf("%w: %s is not there any more", ErrGone, d.root)
	}
	parent := filepath.Dir(dir)
	if parent != dir {
		if err := d.makeFolder(parent); err != nil {
			return err
		}
	}
	err := os.Mkdir(dir, 0o700)
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if err == nil && strings.HasPrefix(dir, d.root+string(filepath.Separator)) {
		f, err := os.Open(dir)
		if err == nil {
			err = errors.Join(d.adopt(f), f.Close())
		}
		if err != nil {
			return err
		}
	}
	return SyncFolder(parent)
}

// SyncFolder has it last that files of a folder were made, renamed or removed.
func SyncFolder(dir string) error {
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
	f, err := os.OpenFile(d.path(name), os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("read %s: %w", name, ErrNotFound)
	}
	if err != nil && !errors.Is(err, syscall.EMFILE) && !errors.Is(err, syscall.ENFILE) &&
		!errors.Is(err, syscall.ESTALE) {
		return nil, d.unreadable(name, err)
	}
	return f, err
}

// Read implements Backend.
func (d *Dir) Read(ctx context.Context, name string) ([]byte, error) {
	b, err := d.content(name)
	if err != nil {
		return nil, d.missing(ctx, err)
	}
	return b, ctx.Err()
}

func (d *Dir) content(name string) ([]byte, error) {
	f, err := d.open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if st, err := f.Stat(); err == nil && st.Size() > MaxObject {
		return nil, d.unreadable(name, errTooLarge)
	}
	b, err := io.ReadAll(io.LimitReader(f, MaxObject+1))
	if err == nil && len(b) > MaxObject {
		err = errTooLarge
	}
	if err != nil {
		return nil, d.unreadable(name, err)
	}
	return b, nil
}

// missing distinguishes an object that is not there from a store that is gone.
func (d *Dir) missing(ctx context.Context, err error) error {
	if errors.Is(err, ErrNotFound) {
		if gone := d.Present(ctx); gone != nil {
			return gone
		}
	}
	return err
}

// ReadAt implements Backend.
func (d *Dir) ReadAt(ctx context.Context, name string, off int64, n int) ([]byte, error) {
	f, err := d.open(name)
	if err != nil {
		return nil, d.missing(ctx, err)
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", name, err)
	}
	if off < 0 {
		off += st.Size()
	}
	if off < 0 || n < 0 || off > st.Size()-int64(n) { // before room is made for it
		return nil, fmt.Errorf("read %s: %w", name, ErrRange)
	}
	b := make([]byte, n)
	if got, err := f.ReadAt(b, off); got < n {
		if errors.Is(err, io.EOF) {
			return nil, fmt.Errorf("read %s: %w", name, ErrRange)
		}
		return nil, d.unreadable(name, err)
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
	if err := errors.Join(d.Present(ctx), d.real(start)); err != nil {
		return fmt.Errorf("list %q: %w", prefix, err)
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
		if e.Type()&fs.ModeSymlink != 0 {
			// A link to a file, or a loop, is one damaged object. Behind any other
			// there may be many.
			if st, err := os.Stat(p); err == nil && st.IsDir() || err != nil && !errors.Is(err, syscall.ELOOP) {
				return d.linked(p)
			}
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

// real refuses a folder of the store that is reached by a symbolic link.
func (d *Dir) real(folder string) error {
	p := d.root
	for _, part := range strings.Split(folder, "/") {
		if p = filepath.Join(p, part); part == "" {
			continue
		}
		if st, err := os.Lstat(p); err == nil && st.Mode()&fs.ModeSymlink != 0 {
			return d.linked(p)
		}
	}
	return nil
}

// linked reports what to do about a symbolic link in the store.
func (d *Dir) linked(p string) error {
	return fmt.Errorf("%w: %s is a symbolic link; what is behind it would be missed by some and found by others: "+
		"move it back, mount it there instead, or move the whole store and link its own folder", ErrLink, p)
}

// Remove implements Backend.
func (d *Dir) Remove(ctx context.Context, name string) error {
	if err := CheckName(name); err != nil {
		return err
	}
	if err := d.Present(ctx); err != nil {
		return fmt.Errorf("remove %s: %w", name, err)
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
	return SyncFolder(filepath.Dir(d.path(name)))
}

// UseLocks implements Locker; nothing is to be done for it.
func (d *Dir) UseLocks() {}

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
