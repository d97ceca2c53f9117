// Package export writes what was there at a moment in open forms, and reads that back.
//
//	export.go   Write: a folder or an archive
//	archive.go  where files are written to and read from
//	read.go     Open: an export becomes a moment that can be restored
//
// An export is a file manifest.json and, for each namespace, a folder with definition.json
// and records.FORM; docs/reference/export.md describes it.
package export

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// Manifest describes an export.
type Manifest struct {
	// Format is [FormatName].
	Format  string `json:"format"`
	Cluster string `json:"cluster"`
	Engine  string `json:"engine"`
	Version string `json:"version,omitempty"` // of the servers
	// Moment is the time that the content is of, Point the restore point it was taken from.
	Moment  time.Time `json:"moment"`
	Point   string    `json:"point,omitempty"`
	Created time.Time `json:"created"`
	Tool    string    `json:"tool"`
	Form    string    `json:"form"`
	// Chosen says that not all records were asked for.
	Chosen     string      `json:"chosen,omitempty"`
	Namespaces []Namespace `json:"namespaces"`
}

// FormatName names the form of an export, with its version.
const FormatName = "dexamen export 1"

// Namespace is a namespace of an export.
type Namespace struct {
	Name    string      `json:"name"`
	Kind    record.Kind `json:"kind"`
	Folder  string      `json:"folder"`
	Records int64       `json:"records"`
	Bytes   int64       `json:"bytes"` // of the records, as they were
	// Root is the root of the tree of the records, by which what is read back is compared.
	Root tree.Hash `json:"root"`
}

// Definition is what definition.json has.
type Definition struct {
	Name       string          `json:"name"`
	Kind       record.Kind     `json:"kind"`
	Definition json.RawMessage `json:"definition"`
	// Describes says it for people.
	Describes []string `json:"describes,omitempty"`
}

// Options say what to export.
type Options struct {
	Choose func(namespace string) bool
	// Form is one of the engine's; the usual one when empty.
	Form string
	// Chosen says for people which records were chosen, where Fits chooses them.
	Chosen string
	Fits   func(m engine.Model, r record.Record) (bool, error)
}

// Forms returns the forms of an engine; none where it has no open ones.
func Forms(m engine.Model) []engine.Form {
	if x, ok := m.(engine.Exporter); ok {
		return x.Forms()
	}
	return nil
}

// Write writes what was there at a moment to an archive, which it does not close.
func Write(ctx context.Context, e *run.Runner, m *moment.Moment, out Archive, opt Options) (*Manifest, error) {
	x, ok := m.Model.(engine.Exporter)
	if !ok {
		return nil, fmt.Errorf("%w: clusters of this kind have no open form; restore it into a folder of its own",
			run.ErrRefused)
	}
	form := x.Forms()[0].Name
	if opt.Form != "" {
		form = ""
		var names []string
		for _, f := range x.Forms() {
			names = append(names, f.Name)
			if f.Name == opt.Form {
				form = f.Name
			}
		}
		if form == "" {
			return nil, fmt.Errorf("%w: there is no form %s for it, only %s", run.ErrRefused, opt.Form,
				strings.Join(names, ", "))
		}
	}
	scratch, err := e.Store.NewScratch(e.Temp)
	if err != nil {
		return nil, err
	}
	defer scratch.Close()
	e.Emit(run.Step, "building the state of %s", m)
	list, _, err := m.Trees(ctx, scratch, scratch, opt.Choose)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("%s: nothing that was asked for was there", m)
	}
	man := &Manifest{Format: FormatName, Cluster: m.Point.Cluster, Engine: m.Point.Engine, Version: m.Point.Version,
		Moment: m.Time.UTC(), Point: m.Point.ID, Created: time.Now().UTC().Truncate(time.Second), Tool: e.Tool,
		Form:   form,
		Chosen: opt.Chosen}
	used := map[string]bool{}
	for i := range list {
		s := &list[i]
		if opt.Fits != nil && s.Kind.HasRecords() {
			if s.Root, err = chosen(ctx, scratch, m.Model, s.Root, opt.Fits); err != nil {
				return nil, err
			}
		}
		root, err := publicRoot(ctx, scratch, s.Root)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", s.Name, err)
		}
		man.Namespaces = append(man.Namespaces, Namespace{Name: s.Name, Kind: s.Kind, Folder: folderOf(s.Name, used),
			Records: s.Root.Records, Bytes: s.Root.Bytes, Root: root})
	}
	raw, err := json.MarshalIndent(man, "", "  ")
	if err != nil {
		return nil, err
	}
	if err := out.Put("manifest.json", append(raw, '\n')); err != nil {
		return nil, err
	}
	for i, s := range list {
		if err := writeNamespace(ctx, e, scratch, x, out, man, i, s); err != nil {
			return nil, fmt.Errorf("%s: %w", s.Name, err)
		}
	}
	return man, nil
}

// publicRoot returns the root of a tree's records that anybody can reckon: those of a store come from
// a key that only the store has.
func publicRoot(ctx context.Context, x *store.Scratch, root tree.Root) (tree.Hash, error) {
	if root.Hash.IsZero() || x.Cuts() == (tree.Cuts{}) {
		return root.Hash, nil
	}
	root, err := tree.RootWith(ctx, x, root, tree.Cuts{})
	return root.Hash, err
}

// chosen returns the tree of the records that fit.
func chosen(ctx context.Context, x *store.Scratch, m engine.Model, root tree.Root,
	fits func(engine.Model, record.Record) (bool, error)) (tree.Root, error) {
	b := tree.NewBuilder(x)
	err := tree.Walk(ctx, x, root, func(r record.Record) error {
		ok, err := fits(m, r)
		if err != nil || !ok {
			return err
		}
		return b.Add(ctx, r)
	})
	if err != nil {
		return root, err
	}
	return b.Finish(ctx)
}

func writeNamespace(ctx context.Context, e *run.Runner, src tree.Source, x engine.Exporter, out Archive, man *Manifest,
	i int, s moment.NamespaceState) error {
	in := man.Namespaces[i]
	def, err := x.DefinitionJSON(s.Definition)
	if err != nil {
		return err
	}
	raw, err := json.MarshalIndent(Definition{s.Name, s.Kind, def, x.Describe(s.Definition)}, "", "  ")
	if err != nil {
		return err
	}
	if err := out.Put(in.Folder+"/definition.json", append(raw, '\n')); err != nil {
		return err
	}
	if !s.Kind.HasRecords() {
		return nil
	}
	e.Emit(run.Step, "exporting %s, %s", s.Name, run.Count(in.Records, "record"))
	return out.Stream(in.Folder+"/records."+man.Form, func(w io.Writer) error {
		var buf []byte
		n, size := int64(0), int64(0)
		return tree.Walk(ctx, src, s.Root, func(r record.Record) error {
			var err error
			if buf, err = x.AppendExported(buf[:0], man.Form, s.Name, r); err != nil {
				return err
			}
			n, size = n+1, size+int64(len(r.Value))
			if n%4096 == 0 {
				e.ReportProgress(s.Name, n, in.Records, size)
			}
			if _, err = w.Write(buf); err != nil {
				return err
			}
			return ctx.Err()
		})
	})
}

// folderOf returns a folder's name for a namespace, which no other has: what not every file
// system takes is written as %XX.
func folderOf(name string, used map[string]bool) string {
	const longest = 150
	var b strings.Builder
	for i := range len(name) {
		c := name[i]
		plain := c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '_' || c == '-' || c == '.' && i > 0
		switch {
		case b.Len() >= longest:
		case plain:
			b.WriteByte(c)
		default:
			fmt.Fprintf(&b, "%%%02X", c) // capitals too: not every file system tells them apart
		}
	}
	base := b.String()
	if base == "" {
		base = "%"
	}
	f := base
	for n := 2; used[f] || f == "manifest.json"; n++ {
		f = fmt.Sprintf("%s-%d", base, n)
	}
	used[f] = true
	return f
}
