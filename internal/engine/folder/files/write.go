//go:build linux

package files

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"
)

type local struct {
	mu     *sync.Mutex
	stages map[string]*stage
	files  map[uint64]*os.File
	last   uint64 // handle
}

func newLocal() local { return local{&sync.Mutex{}, map[string]*stage{}, map[uint64]*os.File{}, 0} }

// Close implements [Host].
func (l *Local) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, f := range l.files {
		_ = f.Close()
	}
	clear(l.files)
	return nil
}

// stage is a folder that is being filled, in order of keys.
type stage struct {
	root string
	// open is the file that the records read last are of, which may go on.
	open *filling
	// folders are those into which more may come; their times are set when none can.
	folders []Item
}

// filling is a regular file on its way.
type filling struct {
	item Item
	at   int64 // bytes up to here are written, or are a hole
}

func (l *Local) stage(root string) *stage {
	l.mu.Lock()
	defer l.mu.Unlock()
	s := l.stages[root]
	if s == nil {
		s = &stage{root: root}
		l.stages[root] = s
	}
	return s
}

// Write implements [Host].
func (l *Local) Write(ctx context.Context, root string, recs [][]byte) error {
	return l.stage(root).write(ctx, recs)
}

// Finish implements [Host].
func (l *Local) Finish(ctx context.Context, root string) error {
	s := l.stage(root)
	l.mu.Lock()
	delete(l.stages, root)
	l.mu.Unlock()
	if err := s.endOpen(); err != nil {
		return err
	}
	if err := s.endFolders(""); err != nil {
		return err
	}
	return withDir(root, func(int) error {
		d, err := os.Open(root)
		if err != nil {
			return err
		}
		defer d.Close()
		return unix.Syncfs(int(d.Fd()))
	})
}

func (s *stage) write(ctx context.Context, recs [][]byte) error {
	items := make([]Item, len(recs))
	for i, r := range recs {
		var err error
		if items[i], err = Parse(r); err != nil {
			return err
		}
	}
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(max(2, runtime.GOMAXPROCS(0)))
	var links []Item
	for len(items) > 0 {
		n := 1
		for n < len(items) && items[n].Path == items[0].Path {
			n++
		}
		group := items[:n]
		items = items[n:]
		first := group[0]
		switch {
		case first.Piece:
			if s.open == nil || s.open.item.Path != first.Path {
				return fmt.Errorf("%s: %w: a piece without its file", first.Path, ErrRecord)
			}
		default:
			if err := s.endOpen(); err != nil {
				return err
			}
		}
		switch {
		case first.LinkTo != "":
			links = append(links, first)
			continue
		case !first.Piece && first.Kind == Folder:
			if err := s.mkdir(first); err != nil {
				return err
			}
			continue
		case !first.Piece && first.Kind != Regular:
			if err := s.special(first); err != nil {
				return err
			}
			continue
		}
		f := s.open
		if !first.Piece {
			f = &filling{item: first}
			f.item.Data = nil
		}
		if len(items) == 0 { // it may go on
			s.open = f
			g.Go(func() error { return s.fill(ctx, f, group, false) })
			continue
		}
		s.open = nil
		g.Go(func() error { return s.fill(ctx, f, group, true) })
	}
	if err := g.Wait(); err != nil {
		return err
	}
	for _, it := range links {
		if err := s.link(it); err != nil {
			return err
		}
	}
	if len(recs) == 0 {
		return nil
	}
	last, _ := Parse(recs[len(recs)-1])
	return s.endFolders(last.Path)
}

func (s *stage) fail(it *Item, err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%s: %s %q: %w", s.root, it.Kind, it.Path, err)
}

func (s *stage) mkdir(it Item) error {
	s.folders = append(s.folders, it)
	return s.fail(&it, parent(s.root, it.Path, func(d int, name string) error { return unix.Mkdirat(d, name, 0o700) }))
}

func (s *stage) special(it Item) error {
	return s.fail(&it, parent(s.root, it.Path, func(d int, name string) error {
		var err error
		switch it.Kind {
		case Symlink:
			err = unix.Symlinkat(it.Target, d, name)
		case Pipe:
			err = unix.Mknodat(d, name, unix.S_IFIFO|0o600, 0)
		default:
			err = fmt.Errorf("%w: a %s", ErrRecord, it.Kind)
		}
		if err != nil {
			return err
		}
		return describe(d, name, &it)
	}))
}

func (s *stage) link(it Item) error {
	return s.fail(&it, parent(s.root, it.LinkTo, func(from int, was string) error {
		return parent(s.root, it.Path, func(d int, name string) error {
			return unix.Linkat(from, was, d, name, 0)
		})
	}))
}

// fill writes what a group of records has of a file; to its end where end is set.
func (s *stage) fill(ctx context.Context, f *filling, group []Item, end bool) error {
	return s.fail(&f.item, parent(s.root, f.item.Path, func(d int, name string) error {
		flags := unix.O_WRONLY | unix.O_NOFOLLOW | unix.O_CLOEXEC
		if !group[0].Piece {
			flags |= unix.O_CREAT | unix.O_EXCL
		}
		fd, err := unix.Openat(d, name, flags, 0o600)
		if err != nil {
			return err
		}
		file := os.NewFile(uintptr(fd), name)
		defer file.Close()
		if !group[0].Piece && f.item.Sparse {
			if err := file.Truncate(f.item.Size); err != nil {
				return err
			}
		}
		for i := range group {
			if err := f.put(file, group[i].Offset, group[i].Data); err != nil {
				return err
			}
			if err := ctx.Err(); err != nil {
				return err
			}
		}
		if !end {
			return nil
		}
		return f.end(d, name, file)
	}))
}

const block = 4096

var zeros [PieceSize]byte

// put writes content at an offset; what is before it and was not given is zeros.
func (f *filling) put(file *os.File, off int64, data []byte) error {
	if len(data) == 0 {
		return nil
	}
	if !f.item.Sparse {
		if err := f.pad(file, off); err != nil {
			return err
		}
		f.at = off + int64(len(data))
		_, err := file.WriteAt(data, off)
		return err
	}
	for len(data) > 0 {
		n := 0
		for n < len(data) && !bytes.Equal(data[n:min(n+block, len(data))], zeros[:min(block, len(data)-n)]) {
			n = min(n+block, len(data))
		}
		if n > 0 {
			if _, err := file.WriteAt(data[:n], off); err != nil {
				return err
			}
		}
		hole := min(n+block, len(data))
		off, data = off+int64(hole), data[hole:]
	}
	return nil
}

// pad writes zeros up to an offset.
func (f *filling) pad(file *os.File, to int64) error {
	for f.at < to {
		n := min(to-f.at, PieceSize)
		if _, err := file.WriteAt(zeros[:n], f.at); err != nil {
			return err
		}
		f.at += n
	}
	return nil
}

func (f *filling) end(dir int, name string, file *os.File) error {
	if !f.item.Sparse {
		if err := f.pad(file, f.item.Size); err != nil {
			return err
		}
	}
	return describe(dir, name, &f.item)
}

// endOpen completes the file that was written last.
func (s *stage) endOpen() error {
	f := s.open
	s.open = nil
	if f == nil {
		return nil
	}
	return s.fail(&f.item, parent(s.root, f.item.Path, func(d int, name string) error {
		fd, err := unix.Openat(d, name, unix.O_WRONLY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		if err != nil {
			return err
		}
		file := os.NewFile(uintptr(fd), name)
		defer file.Close()
		return f.end(d, name, file)
	}))
}

// endFolders sets what describes the folders into which nothing more comes, when records
// up to a path have been written; of all where it is empty.
func (s *stage) endFolders(upTo string) error {
	var on []Item
	// From the last one back: a folder may not let its owner in once it is described.
	for _, it := range slices.Backward(s.folders) {
		if upTo != "" && it.Path+"0" > upTo { // 0 comes after the slash
			on = append(on, it)
			continue
		}
		if err := s.fail(&it, s.describeFolder(&it)); err != nil {
			return err
		}
	}
	slices.Reverse(on)
	s.folders = on
	return nil
}

func (s *stage) describeFolder(it *Item) error {
	return parent(s.root, it.Path, func(d int, name string) error { return describe(d, name, it) })
}

// describe sets owner, mode, attributes and times of a file.
func describe(dir int, name string, it *Item) error {
	if err := unix.Fchownat(dir, name, int(it.UID), int(it.GID), unix.AT_SYMLINK_NOFOLLOW); err != nil {
		if int(it.UID) != os.Geteuid() || int(it.GID) != os.Getegid() {
			return fmt.Errorf("its owner %d:%d: %w", it.UID, it.GID, err)
		}
	}
	path := fmt.Sprintf("/proc/self/fd/%d/%s", dir, name)
	for _, a := range it.Attributes {
		if err := unix.Lsetxattr(path, a.Name, []byte(a.Value), 0); err != nil {
			return fmt.Errorf("its extended attribute %q: %w", a.Name, err)
		}
	}
	if it.Kind != Symlink {
		if err := unix.Fchmodat(dir, name, it.Mode, 0); err != nil {
			return err
		}
	}
	ts := []unix.Timespec{unix.NsecToTimespec(it.MTime), unix.NsecToTimespec(it.MTime)}
	return unix.UtimesNanoAt(dir, name, ts, unix.AT_SYMLINK_NOFOLLOW)
}

// Describe implements [Host].
func (l *Local) Describe(_ context.Context, root string, it Item) error {
	return parent(root, "", func(d int, name string) error { return describe(d, name, &it) })
}

// Make implements [Host].
func (l *Local) Make(_ context.Context, path string) error {
	err := os.Mkdir(path, 0o700)
	if errors.Is(err, os.ErrExist) {
		return fmt.Errorf("%s: %w", path, ErrOccupied)
	}
	return err
}

// Remove implements [Host].
func (l *Local) Remove(_ context.Context, path string) error {
	l.mu.Lock()
	delete(l.stages, path)
	l.mu.Unlock()
	return removeAll(path)
}

// removeAll removes a folder, also where folders in it may not be written to by their owner.
func removeAll(path string) error {
	err := os.RemoveAll(path)
	if err == nil || !errors.Is(err, os.ErrPermission) {
		return err
	}
	_ = filepath.WalkDir(path, func(p string, d os.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			_ = os.Chmod(p, 0o700) //nolint:gosec // it is removed next
		}
		return nil
	})
	return os.RemoveAll(path)
}

// Empty implements [Host].
func (l *Local) Empty(_ context.Context, path string) error {
	names, err := readNames(path)
	for _, n := range names {
		err = errors.Join(err, removeAll(filepath.Join(path, n)))
	}
	return err
}

// Supports implements [Host].
func (l *Local) Supports(_ context.Context, root string) (s Support, err error) {
	dir := root
	for e, serr := lstat(dir, ""); (serr != nil || e.Kind != Folder) && dir != "/"; e, serr = lstat(dir, "") {
		dir = filepath.Dir(dir)
	}
	if dir == root {
		dir = filepath.Dir(root)
	}
	s.UID, s.GID = uint32(os.Geteuid()), uint32(os.Getegid())
	s.Owners = s.UID == 0
	var fs unix.Statfs_t
	if err := unix.Statfs(dir, &fs); err == nil {
		s.Free = int64(fs.Bavail) * fs.Bsize //nolint:unconvert // its type differs between machines
	}
	a, err := os.CreateTemp(dir, ".dexamen-try-")
	if err != nil {
		return s, nil //nolint:nilerr // it cannot be written to, which is what was asked
	}
	defer os.Remove(a.Name())
	defer a.Close()
	s.Writable = true
	s.Xattrs = unix.Fsetxattr(int(a.Fd()), "user.dexamen", []byte("tried"), 0) == nil
	if err := a.Truncate(1 << 20); err == nil {
		if _, err = a.WriteAt([]byte("tried"), 1<<19); err == nil {
			hole, err := unix.Seek(int(a.Fd()), 0, unix.SEEK_HOLE)
			s.Holes = err == nil && hole < 1<<20
		}
	}
	b, err := os.CreateTemp(dir, ".dexamen-try-")
	if err != nil {
		return s, nil //nolint:nilerr // likewise
	}
	defer os.Remove(b.Name())
	defer b.Close()
	s.Clone = unix.IoctlFileClone(int(b.Fd()), int(a.Fd())) == nil
	return s, nil
}

// Clock implements [Host].
func (l *Local) Clock(context.Context) (now int64, system string, err error) {
	var uts unix.Utsname
	err = unix.Uname(&uts)
	return time.Now().UnixNano(), unix.ByteSliceToString(uts.Sysname[:]) + " " +
		unix.ByteSliceToString(uts.Release[:]), err
}

// Resolve implements [Host].
func (l *Local) Resolve(_ context.Context, path string) (string, error) {
	to, err := filepath.EvalSymlinks(path)
	if notThere(err) {
		return path, nil
	}
	return to, err
}

// hidden reports whether a name is one of Dexamen's own beside folders.
func hidden(name string) bool { return strings.HasPrefix(name, HiddenPrefix) }
