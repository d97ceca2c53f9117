//go:build linux

package files

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"golang.org/x/sys/unix"
)

// Local is the Host that is this machine.
type Local struct{ local }

// NewLocal returns access to this machine's folders.
func NewLocal() (Host, error) { return &Local{newLocal()}, nil }

const walkBatch = 512

// Walk implements [Host].
func (l *Local) Walk(ctx context.Context, root string, r Rules, fn func([]Entry) error) error {
	w := &walker{ctx: ctx, root: root, rules: r, fn: fn}
	top, err := lstat(root, "")
	switch {
	case notThere(err) || err == nil && top.Kind != Folder:
		return fmt.Errorf("%s: %w", root, ErrNoFolder)
	case err != nil:
		return fmt.Errorf("%s: %w", root, err)
	}
	if err := w.add(top); err != nil {
		return err
	}
	if err := w.folder(""); err != nil {
		return err
	}
	return w.flush()
}

type walker struct {
	ctx   context.Context
	root  string
	rules Rules
	batch []Entry
	fn    func([]Entry) error
}

func (w *walker) add(e Entry) error {
	if w.batch = append(w.batch, e); len(w.batch) < walkBatch {
		return nil
	}
	return w.flush()
}

func (w *walker) flush() error {
	if err := w.ctx.Err(); err != nil {
		return err
	}
	err := w.fn(w.batch)
	w.batch = w.batch[:0]
	return err
}

// folder lists what is in a folder. A folder's own entry comes before those of names that
// begin as its own, what is in it after those that go on with a byte before the slash.
func (w *walker) folder(path string) error {
	names, err := readNames(filepath.Join(w.root, path))
	if err != nil {
		if path == "" {
			return fmt.Errorf("%s: %w", w.root, err)
		}
		return w.add(Entry{Path: path + "/", Failed: plain(err)})
	}
	type item struct {
		order string
		entry Entry
	}
	items := make([]item, 0, len(names))
	for _, n := range names {
		p := n
		if path != "" {
			p = path + "/" + n
		}
		if w.rules.Left(p) {
			continue
		}
		e, err := lstat(filepath.Join(w.root, path), n)
		if notThere(err) {
			continue // gone since it was listed
		}
		e.Path = p
		if err != nil {
			e.Failed = plain(err)
		}
		if err != nil || w.rules.Takes(p, e.Kind == Folder) {
			items = append(items, item{n + "\x00", e})
		}
		if e.Kind == Folder && err == nil {
			items = append(items, item{n + "/", e})
		}
	}
	sort.Slice(items, func(i, j int) bool { return items[i].order < items[j].order })
	for _, it := range items {
		if strings.HasSuffix(it.order, "/") {
			err = w.folder(it.entry.Path)
		} else {
			err = w.add(it.entry)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func readNames(dir string) ([]string, error) {
	f, err := os.OpenFile(dir, os.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return f.Readdirnames(-1)
}

// plain is an error without the path, which stands beside it.
func plain(err error) string {
	var pe *os.PathError
	if errors.As(err, &pe) {
		err = pe.Err
	}
	return err.Error()
}

func lstat(dir, name string) (Entry, error) {
	var st unix.Stat_t
	if err := unix.Lstat(filepath.Join(dir, name), &st); err != nil {
		return Entry{}, err
	}
	return entryOf(&st), nil
}

func entryOf(st *unix.Stat_t) Entry {
	e := Entry{Mode: st.Mode & 0o7777, UID: st.Uid, GID: st.Gid, MTime: st.Mtim.Nano(), CTime: st.Ctim.Nano(),
		Dev: st.Dev, Ino: st.Ino, Links: uint64(st.Nlink)} //nolint:unconvert // its type differs between machines
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		e.Kind, e.Size = Regular, st.Size
	case unix.S_IFDIR:
		e.Kind = Folder
	case unix.S_IFLNK:
		e.Kind, e.Mode = Symlink, 0
	case unix.S_IFIFO:
		e.Kind = Pipe
	case unix.S_IFSOCK:
		e.Kind = Socket
	default:
		e.Kind = Device
	}
	return e
}

// Stat implements [Host].
func (l *Local) Stat(_ context.Context, root, path string) (Entry, error) {
	e, err := lstat(root, path)
	e.Path = path
	var x unix.Statx_t
	if unix.Statx(unix.AT_FDCWD, filepath.Join(root, path), unix.AT_SYMLINK_NOFOLLOW, unix.STATX_BTIME, &x) == nil &&
		x.Mask&unix.STATX_BTIME != 0 {
		e.Born = x.Btime.Sec*1e9 + int64(x.Btime.Nsec)
	}
	if notThere(err) {
		err = fmt.Errorf("%s: %w", filepath.Join(root, path), ErrNoFolder)
	}
	return e, err
}

// Folders implements [Host].
func (l *Local) Folders(_ context.Context, root string) ([]string, error) {
	return folders(root, false)
}

// Hidden implements [Host].
func (l *Local) Hidden(_ context.Context, root string) ([]string, error) { return folders(root, true) }

func folders(root string, own bool) ([]string, error) {
	names, err := readNames(root)
	if notThere(err) {
		return nil, fmt.Errorf("%s: %w", root, ErrNoFolder)
	}
	if err != nil {
		return nil, err
	}
	var out []string
	for _, n := range names {
		if e, err := lstat(root, n); err == nil && e.Kind == Folder && hidden(n) == own {
			out = append(out, n)
		}
	}
	sort.Strings(out)
	return out, nil
}
