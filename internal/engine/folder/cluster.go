package folder

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
	"dexamen/internal/engine/folder/files"
)

// place is a folder of a cluster, or one that holds them, and the machine it is on.
type place struct {
	location
	name string // of the folder, as it is configured; its path may lead through links
	host files.Host
}

// cluster implements [engine.Cluster] and [engine.Revisited].
type cluster struct {
	target engine.Target
	places []*place
	hosts  []files.Host
	rules  files.Rules

	mu sync.Mutex
	// unfinished are stages that are being filled, by name; pieces says how many records
	// besides files were written to each.
	unfinished map[string]*place
	pieces     map[string]int64
	held       bool
	// writers, where there is one, is the cluster whose servers write to the folders.
	writers engine.FileQuiescer
}

// Engine implements [engine.Cluster].
func (c *cluster) Engine() string { return "folder" }

// Close implements [engine.Cluster].
func (c *cluster) Close() error {
	var errs []error
	if c.writers != nil {
		errs = append(errs, c.writers.Close())
	}
	for _, h := range c.hosts {
		errs = append(errs, h.Close())
	}
	return errors.Join(errs...)
}

// Topology implements [engine.Cluster].
func (c *cluster) Topology(ctx context.Context) (*engine.Topology, error) {
	t := &engine.Topology{Engine: "folder", Kind: "folder", Identity: c.places[0].address()}
	if len(c.places) > 1 || c.places[0].holds {
		t.Kind = "folders"
	}
	sh := engine.Shard{Name: "files"}
	for _, p := range c.places {
		m := engine.Member{Address: p.address(), Role: "folder", Healthy: true}
		if _, err := p.host.Stat(ctx, p.path, ""); err != nil {
			m.Healthy, m.Note = false, err.Error()
		} else if _, system, err := p.host.Clock(ctx); err == nil {
			if m.Version = system; t.Version == "" {
				t.Version = system
			}
		}
		sh.Members = append(sh.Members, m)
	}
	t.Shards = []engine.Shard{sh}
	if c.target.Quiesce == nil {
		t.Limitations = append(t.Limitations, engine.Limitation{What: "nothing holds still what writes to the folder",
			Consequence: "files that are written while they are copied may be of different moments; the section " +
				"quiesce of the " +
				"configuration is for that"})
	}
	return t, nil
}

// address names a place for people.
func (p *place) address() string {
	if p.host == nil || p.location.host == "" {
		return p.path
	}
	return p.location.host + ":" + p.path
}

// Choose implements [engine.Cluster].
func (c *cluster) Choose(ctx context.Context, _ string) (engine.Choice, error) {
	for _, p := range c.places {
		if _, err := p.host.Stat(ctx, p.path, ""); err != nil {
			return engine.Choice{}, fmt.Errorf("%w: %s: %w", engine.ErrNoMember, p.where(), err)
		}
	}
	var names []string
	for _, p := range c.places {
		names = append(names, p.address())
	}
	return engine.Choice{Shard: "files", Member: engine.Member{Address: strings.Join(names, ", "), Role: "folder",
		Healthy: true}, Reason: "it is there"}, nil
}

const contentKind record.Kind = "folder"

// definition is what describes a folder itself, and which of its files are taken.
type definition struct {
	Mode       uint32            `json:"mode"`
	UID        uint32            `json:"uid"`
	GID        uint32            `json:"gid"`
	MTime      int64             `json:"mtime"`
	Attributes []files.Attribute `json:"attributes,omitempty"`
	Only       []string          `json:"only,omitempty"`
	LeaveOut   []string          `json:"leave_out,omitempty"`
}

func (d *definition) item() files.Item {
	return files.Item{Kind: files.Folder, Mode: d.Mode, UID: d.UID, GID: d.GID, MTime: d.MTime,
		Attributes: d.Attributes}
}

// describe returns a folder as a namespace.
func (c *cluster) describe(ctx context.Context, name string, p *place, dir string) (record.Namespace, error) {
	ns := record.Namespace{Name: name, Kind: contentKind}
	e, err := p.host.Stat(ctx, dir, "")
	if err != nil {
		return ns, err
	}
	if e.Kind != files.Folder {
		return ns, fmt.Errorf("%s: %w", dir, files.ErrNoFolder)
	}
	full, err := p.host.Read(ctx, dir, e)
	if err != nil {
		return ns, err
	}
	d := definition{Mode: e.Mode, UID: e.UID, GID: e.GID, MTime: e.MTime, Attributes: full.Attributes,
		Only: c.rules.Only, LeaveOut: c.rules.LeaveOut}
	if ns.Definition, err = json.Marshal(d); err != nil {
		return ns, err
	}
	ns.Ident = identOf(&e)
	return ns, nil
}

// identOf names one making of a folder; a rename does not change it.
func identOf(e *files.Entry) []byte {
	return binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(nil, e.Ino), uint64(e.Born))
}

// lookFor is how long files are counted for a listing.
const lookFor = 250 * time.Millisecond

var errEnough = errors.New("enough")

// Namespaces implements [engine.Cluster].
func (c *cluster) Namespaces(ctx context.Context) ([]engine.Namespace, error) {
	var out []engine.Namespace
	for _, p := range c.places {
		dirs := []string{p.path}
		if p.holds {
			names, err := p.host.Folders(ctx, p.path)
			if errors.Is(err, files.ErrNoFolder) {
				continue
			}
			if err != nil {
				return nil, fmt.Errorf("%w: %s: %w", engine.ErrUnreachable, p.where(), err)
			}
			dirs = nil
			for _, n := range names {
				dirs = append(dirs, path.Join(p.path, n))
			}
		}
		for _, dir := range dirs {
			name := p.name
			if p.holds {
				name = path.Base(dir)
			}
			ns, err := c.look(ctx, name, p, dir)
			if errors.Is(err, files.ErrNoFolder) && !p.holds {
				if c.target.Log != nil {
					c.target.Log.Debug("folder is not there", "path", dir)
				}
				continue
			}
			if err != nil {
				return nil, fmt.Errorf("%w: %s: %w", engine.ErrUnreachable, p.where(), err)
			}
			out = append(out, ns)
		}
	}
	for i := range out {
		for j := range out {
			if i != j && out[i].Name == out[j].Name {
				return nil, fmt.Errorf("two folders of the cluster are called %s; name one of them otherwise, or make "+
					"two clusters of them", out[i].Name)
			}
		}
	}
	slices.SortFunc(out, func(a, b engine.Namespace) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// look describes a folder and counts what is in it.
func (c *cluster) look(ctx context.Context, name string, p *place, dir string) (engine.Namespace, error) {
	ns, err := c.describe(ctx, name, p, dir)
	out := engine.Namespace{Namespace: ns, Shard: "files"}
	if err != nil {
		return out, err
	}
	begin := time.Now()
	err = p.host.Walk(ctx, dir, c.rules, func(batch []files.Entry) error {
		for i := range batch {
			if batch[i].Path != "" {
				out.Records++
				out.Bytes += batch[i].Size
			}
		}
		if time.Since(begin) > lookFor && len(batch) > 0 {
			return errEnough
		}
		return nil
	})
	if errors.Is(err, errEnough) {
		err = nil
		out.Note = fmt.Sprintf("more than %d files", out.Records)
		out.Records, out.Bytes = 0, 0
	}
	if out.Note == "" && p.location.host != "" {
		out.Note = "on " + p.location.host
	}
	return out, err
}

// find returns where a folder of a name is, or would be: beside the first one where the
// cluster has none of the name.
func (c *cluster) find(name string) (*place, string) {
	for _, p := range c.places {
		if !p.holds && p.name == name {
			return p, p.path
		}
	}
	p := c.places[0]
	if of, ok := namespaceOf(name); ok { // a stage is beside what it is to become, a clone beside what it is of
		q, dir := c.find(of)
		return q, path.Join(path.Dir(dir), name)
	}
	if p.holds {
		return p, path.Join(p.path, name)
	}
	return p, path.Join(path.Dir(p.path), name)
}

// has reports whether a folder of a name belongs to the cluster.
func (c *cluster) has(name string) bool {
	return c.places[0].holds || slices.ContainsFunc(c.places, func(p *place) bool { return !p.holds && p.name == name })
}

// describeSupport says what a place can do.
func describeSupport(s *files.Support) string {
	var can, cannot []string
	for what, ok := range map[string]bool{
		"clones files": s.Clone, "keeps owners": s.Owners, "extended attributes": s.Xattrs,
		"holes": s.Holes} {
		if ok {
			can = append(can, what)
		} else {
			cannot = append(cannot, what)
		}
	}
	slices.Sort(can)
	slices.Sort(cannot)
	text := strings.Join(can, ", ")
	if len(cannot) > 0 {
		text += "; not: " + strings.Join(cannot, ", ")
	}
	if !s.Writable {
		text = "nothing can be restored beside it: the folder around it may not be written to"
	}
	return text
}

// Check implements [engine.Checker].
func (c *cluster) Check(ctx context.Context, report func(string, error, string)) {
	for _, p := range c.places {
		at := p.address()
		if _, err := p.host.Stat(ctx, p.path, ""); err != nil {
			report("folder "+at, err, "")
			continue
		}
		report("folder "+at, nil, "it is there")
		s, err := p.host.Supports(ctx, p.path)
		if err != nil {
			report("  file system", err, "")
			continue
		}
		report("  file system", nil, describeSupport(&s))
		var failed []string
		begin := time.Now()
		err = p.host.Walk(ctx, p.path, c.rules, func(batch []files.Entry) error {
			for i := range batch {
				if e := &batch[i]; e.Failed != "" {
					failed = append(failed, quoted(e.Path)+": "+e.Failed)
				}
			}
			if time.Since(begin) > 10*lookFor {
				return errEnough
			}
			return nil
		})
		if errors.Is(err, errEnough) {
			err = nil
		}
		if err == nil && len(failed) > 0 {
			err = fmt.Errorf("%d folders cannot be listed: %s", len(failed), some(failed))
		}
		report("  list its files", err, "")
	}
	q := c.target.Quiesce
	if q == nil {
		return
	}
	h, err := c.Quiescible(ctx, nil)
	report("hold it still", err, fmt.Sprintf("%s: %s, for at most %s; not tried", q.Name, h.What, q.Longest))
}

// Partitions implements [engine.Cluster]: files are read ahead of the records, several at
// once, within one.
func (c *cluster) Partitions(context.Context, engine.Namespace, int) ([]engine.Partition, error) {
	return []engine.Partition{{}}, nil
}

// Scan implements [engine.Cluster].
func (c *cluster) Scan(ctx context.Context, ns engine.Namespace, _ engine.Partition,
	fn func(record.Record) error) error {
	return scan(ctx, c, ns, fn)
}

// scan reads all of a folder. A file that cannot be read is an error.
func scan(ctx context.Context, c engine.Revisited, ns engine.Namespace, fn func(record.Record) error) error {
	var failed error
	err := c.Revisit(ctx, ns, nil, engine.Visit{
		Replace: func([]byte) error { return nil }, Put: fn, Note: func(record.Record) error { return nil },
		Skip: func(name, reason string) {
			if failed == nil {
				failed = fmt.Errorf("%s/%s cannot be read: %s", ns.Name, name, reason)
			}
		}, Caveat: func(string) {}, Say: func(string) {}})
	return errors.Join(err, failed)
}
