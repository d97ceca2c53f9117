package export

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
)

// Archive takes the files of an export.
type Archive interface {
	// Put writes a small file.
	Put(name string, data []byte) error
	// Stream writes a file of a length that is not known beforehand.
	Stream(name string, fill func(io.Writer) error) error
	// Close ends it, and only then is it there under its name. Where the export has failed,
	// nothing is left of it.
	Close(failed error) error
}

// Create begins an export: "-" is an archive on out, a name that ends in .tar or .tar.zst an
// archive, any other name a folder. What is there is not written over, but with replace set
// an archive is.
func Create(name string, out io.Writer, replace bool) (Archive, error) {
	switch {
	case name == "-":
		return newArchive(out, nil, true)
	case strings.HasSuffix(name, ".tar"), strings.HasSuffix(name, ".tar.zst"):
		if _, err := os.Lstat(name); err == nil && !replace {
			return nil, fmt.Errorf("%s is there already; --overwrite replaces it", name)
		}
		f, err := os.CreateTemp(filepath.Dir(name), ".export-*")
		if err != nil {
			return nil, err
		}
		return newArchive(f, &target{f, name}, strings.HasSuffix(name, ".zst"))
	}
	if list, err := os.ReadDir(name); err == nil && len(list) > 0 {
		return nil, fmt.Errorf("the folder %s is there already, and not empty; name another one", name)
	} else if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	dir, err := os.MkdirTemp(filepath.Dir(filepath.Clean(name)), ".export-*")
	if err != nil {
		return nil, err
	}
	return &folder{dir, filepath.Clean(name)}, nil
}

// folder is an export as a folder, which gets its name when it is complete.
type folder struct{ dir, name string }

func (f *folder) Put(name string, data []byte) error {
	return f.Stream(name, func(w io.Writer) error { _, err := w.Write(data); return err })
}

func (f *folder) Stream(name string, fill func(io.Writer) error) error {
	path := filepath.Join(f.dir, filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	err = fill(file)
	if err == nil {
		err = file.Sync()
	}
	return errors.Join(err, file.Close())
}

func (f *folder) Close(failed error) error {
	if failed != nil {
		return os.RemoveAll(f.dir)
	}
	if err := os.Remove(f.name); err != nil && !errors.Is(err, os.ErrNotExist) { // an empty one
		return errors.Join(err, os.RemoveAll(f.dir))
	}
	return os.Rename(f.dir, f.name)
}

// target is a file that gets its name when it is complete.
type target struct {
	f    *os.File
	name string
}

// archive is an export as a tar file, compressed or not.
type archive struct {
	tar  *tar.Writer
	zst  *zstd.Encoder // may be nil
	to   *target       // nil on the standard output
	made time.Time
}

func newArchive(w io.Writer, to *target, compressed bool) (*archive, error) {
	a := &archive{to: to, made: time.Now()}
	if compressed {
		z, err := zstd.NewWriter(w, zstd.WithEncoderCRC(true), zstd.WithEncoderConcurrency(1))
		if err != nil {
			return nil, err
		}
		a.zst, w = z, z
	}
	a.tar = tar.NewWriter(w)
	return a, nil
}

func (a *archive) Put(name string, data []byte) error {
	h := &tar.Header{Name: name, Mode: 0o600, Size: int64(len(data)), ModTime: a.made, Format: tar.FormatPAX}
	if err := a.tar.WriteHeader(h); err != nil {
		return err
	}
	_, err := a.tar.Write(data)
	return err
}

// partSize is how much of a stream makes a part: tar files say the length first.
const partSize = 8 << 20

// Stream writes parts, NAME, NAME.1, NAME.2 and so on, which belong after each other.
func (a *archive) Stream(name string, fill func(io.Writer) error) error {
	p := &parts{a: a, name: name}
	if err := fill(p); err != nil {
		return err
	}
	return p.flush(true)
}

type parts struct {
	a    *archive
	name string
	buf  []byte
	n    int
}

func (p *parts) Write(b []byte) (int, error) {
	p.buf = append(p.buf, b...)
	for len(p.buf) >= partSize {
		if err := p.flush(false); err != nil {
			return 0, err
		}
	}
	return len(b), nil
}

func (p *parts) flush(last bool) error {
	if last && len(p.buf) == 0 && p.n > 0 {
		return nil
	}
	name := p.name
	if p.n > 0 {
		name = fmt.Sprintf("%s.%d", p.name, p.n)
	}
	n := min(len(p.buf), partSize)
	err := p.a.Put(name, p.buf[:n])
	p.buf = append(p.buf[:0], p.buf[n:]...)
	p.n++
	return err
}

func (a *archive) Close(failed error) error {
	var err error
	if failed == nil {
		if err = a.tar.Close(); err == nil && a.zst != nil {
			err = a.zst.Close()
		}
	}
	if a.to == nil {
		return err
	}
	if failed == nil && err == nil {
		err = a.to.f.Sync()
	}
	err = errors.Join(err, a.to.f.Close())
	if failed != nil || err != nil {
		return errors.Join(err, os.Remove(a.to.f.Name()))
	}
	return os.Rename(a.to.f.Name(), a.to.name)
}
