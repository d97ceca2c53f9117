package export

import (
	"archive/tar"
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// ErrExport is returned when something is no export, or not the whole of one.
var ErrExport = errors.New("it is no complete export")

// maxSmall is how long manifest.json and a definition may be, in bytes.
const maxSmall = 64 << 20

// Open reads an export, "-" from in, into a scratch, and returns it as a moment that can be
// restored. What it holds must be what was exported, by the roots of its manifest: else
// [run.ErrDiffers] is returned. With unverified set it need not be, and a warning says what is not.
func Open(ctx context.Context, e *run.Runner, x *store.Scratch, name string, in io.Reader,
	unverified bool) (*moment.Moment, *Manifest, error) {
	r := &reader{Runner: e, x: x, unverified: unverified, states: map[string]*state{}}
	err := files(name, in, func(path string, f io.Reader) error { return r.file(ctx, path, f) })
	if err == nil {
		err = r.end(ctx)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", name, err)
	}
	m, err := r.moment()
	return m, r.man, err
}

// files calls fn with each file of an export, the manifest first.
func files(name string, in io.Reader, fn func(path string, f io.Reader) error) error {
	if name != "-" {
		st, err := os.Stat(name)
		if err != nil {
			return err
		}
		if st.IsDir() {
			return filesOf(name, fn)
		}
		f, err := os.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		in = f
	}
	buf := bufio.NewReaderSize(in, 1<<20)
	var src io.Reader = buf
	if head, _ := buf.Peek(4); string(head) == "\x28\xb5\x2f\xfd" { // a Zstandard frame's
		z, err := zstd.NewReader(buf, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(128<<20))
		if err != nil {
			return err
		}
		defer z.Close()
		src = z
	}
	t := tar.NewReader(src)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			// What follows must be read, too: a checksum is at the end.
			_, err = io.Copy(io.Discard, src)
			if err != nil {
				err = fmt.Errorf("%w: %w", ErrExport, err)
			}
			return err
		}
		if err != nil {
			return fmt.Errorf("%w: %w", ErrExport, err)
		}
		if h.Typeflag != tar.TypeReg {
			continue
		}
		if err := fn(h.Name, t); err != nil {
			return err
		}
	}
}

// filesOf calls fn with the files of a folder.
func filesOf(dir string, fn func(path string, f io.Reader) error) error {
	each := func(name string) error {
		f, err := os.Open(filepath.Join(dir, filepath.FromSlash(name)))
		if err != nil {
			return err
		}
		defer f.Close()
		return fn(name, f)
	}
	if err := each("manifest.json"); err != nil {
		return fmt.Errorf("%w: %w", ErrExport, err)
	}
	list, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, d := range list {
		if !d.IsDir() {
			continue
		}
		inner, err := os.ReadDir(filepath.Join(dir, d.Name()))
		if err != nil {
			return err
		}
		for _, f := range inner {
			if err := each(d.Name() + "/" + f.Name()); err != nil {
				return err
			}
		}
	}
	return nil
}

// reader takes the files of an export.
type reader struct {
	*run.Runner
	x          *store.Scratch
	unverified bool
	man        *Manifest
	model      engine.Exporter
	states     map[string]*state // by folder

	// The records that are being read, which may be in several parts.
	open  *state
	pipe  *io.PipeWriter
	ended chan error
}

// state is what was read of a namespace.
type state struct {
	Namespace
	definition []byte
	defined    bool
	root       tree.Root
	public     tree.Hash // of the same records
	read       bool
}

func (r *reader) file(ctx context.Context, path string, f io.Reader) error {
	if path == "manifest.json" {
		return r.manifest(f)
	}
	if r.man == nil {
		return fmt.Errorf("%w: it does not begin with manifest.json", ErrExport)
	}
	dir, base, ok := strings.Cut(path, "/")
	s := r.states[dir]
	if !ok || s == nil {
		r.Emit(run.Warning, "%s is not named in manifest.json and is left out", path)
		return nil
	}
	part, isPart := strings.CutPrefix(base, "records."+r.man.Form)
	switch {
	case base == "definition.json":
		return r.define(s, f)
	case isPart && part == "":
		if s.read || s == r.open {
			return fmt.Errorf("%w: the records of %s are in it twice", ErrExport, s.Name)
		}
		if err := r.endRecords(); err != nil {
			return err
		}
		r.begin(ctx, s)
	case isPart && s == r.open:
	default:
		r.Emit(run.Warning, "%s is no file of an export of this form and is left out", path)
		return nil
	}
	if _, err := io.Copy(r.pipe, f); err != nil {
		return errors.Join(r.endRecords(), fmt.Errorf("%s: %w", path, err))
	}
	return nil
}

func (r *reader) manifest(f io.Reader) error {
	raw, err := io.ReadAll(io.LimitReader(f, maxSmall))
	if err != nil {
		return err
	}
	var m Manifest
	if err := json.Unmarshal(raw, &m); err != nil {
		return fmt.Errorf("%w: manifest.json: %w", ErrExport, err)
	}
	if m.Format != FormatName {
		return fmt.Errorf("%w: manifest.json is of the format %q, and this program reads %q", ErrExport, m.Format,
			FormatName)
	}
	drv, err := engine.ForName(m.Engine)
	if err != nil {
		return err
	}
	model, ok := drv.Model().(engine.Exporter)
	if !ok || !slices.ContainsFunc(model.Forms(), func(f engine.Form) bool { return f.Name == m.Form }) {
		return fmt.Errorf("%w: %s has no form %q", ErrExport, m.Engine, m.Form)
	}
	r.man, r.model = &m, model
	for _, n := range m.Namespaces {
		if r.states[n.Folder] != nil {
			return fmt.Errorf("%w: two namespaces are in the folder %s", ErrExport, n.Folder)
		}
		if err := model.CheckName(n.Name); err != nil {
			return err
		}
		r.states[n.Folder] = &state{Namespace: n}
	}
	return nil
}

func (r *reader) define(s *state, f io.Reader) error {
	raw, err := io.ReadAll(io.LimitReader(f, maxSmall))
	if err != nil {
		return err
	}
	var d Definition
	if err := json.Unmarshal(raw, &d); err != nil {
		return fmt.Errorf("%w: the definition of %s: %w", ErrExport, s.Name, err)
	}
	if s.definition, err = r.model.ParseDefinition(d.Definition); err != nil {
		return fmt.Errorf("the definition of %s: %w", s.Name, err)
	}
	s.defined = true
	return nil
}

// begin begins to read the records of a namespace.
func (r *reader) begin(ctx context.Context, s *state) {
	in, out := io.Pipe()
	r.open, r.pipe, r.ended = s, out, make(chan error, 1)
	ended := r.ended
	go func() {
		l := tree.NewLoader(r.x, r.x, tree.Root{}, r.TempDir(), r.SortMemory())
		part := l.Part()
		err := r.model.ReadExported(bufio.NewReaderSize(in, 1<<20), r.man.Form, s.Name,
			func(rec record.Record) error { return part.Add(ctx, rec) })
		if err == nil {
			if s.root, err = l.Finish(ctx); err == nil {
				s.public, err = publicRoot(ctx, r.x, s.root)
			}
		} else {
			l.Close()
		}
		if err != nil {
			_ = in.CloseWithError(err) // what is still written to it fails
		}
		ended <- err
	}()
}

// endRecords ends the records that are being read.
func (r *reader) endRecords() error {
	if r.open == nil {
		return nil
	}
	s := r.open
	_ = r.pipe.Close()
	err := <-r.ended
	r.open = nil
	if err != nil {
		return fmt.Errorf("the records of %s: %w", s.Name, err)
	}
	s.read = true
	return nil
}

// end compares what was read with what was exported.
func (r *reader) end(context.Context) error {
	if err := r.endRecords(); err != nil {
		return err
	}
	if r.man == nil {
		return fmt.Errorf("%w: there is no manifest.json in it", ErrExport)
	}
	for _, n := range r.man.Namespaces {
		s := r.states[n.Folder]
		if !s.defined || !s.read && n.Kind.HasRecords() {
			return fmt.Errorf("%w: of %s it lacks %s", ErrExport, n.Name,
				map[bool]string{true: "the records", false: "the definition"}[s.defined])
		}
		if s.public == n.Root || !n.Kind.HasRecords() {
			continue
		}
		what := fmt.Sprintf(
			"the records of %s are not those that were exported (%d, and %d then; root %s, and %s then)", n.Name,
			s.root.Records, n.Records, s.public.Short(), n.Root.Short())
		if !r.unverified {
			return fmt.Errorf("%w: %s; where somebody has edited them --unverified takes them all the same",
				run.ErrDiffers, what)
		}
		r.Emit(run.Warning, "%s: taken as it is", what)
	}
	return nil
}

// moment makes a moment of what was read.
func (r *reader) moment() (*moment.Moment, error) {
	p := &store.Point{ID: "export", Cluster: r.man.Cluster, Engine: r.man.Engine, Version: r.man.Version,
		Time:   r.man.Moment,
		Shards: []store.PointShard{{}}, Made: store.MadeByExport, Exact: true}
	for _, n := range r.man.Namespaces {
		s := r.states[n.Folder]
		p.Namespaces = append(p.Namespaces, store.PointNamespace{Root: s.root,
			Namespace: record.Namespace{Name: n.Name, Kind: n.Kind, Definition: s.definition}})
	}
	return moment.At(r.Runner, p, nil, nil)
}
