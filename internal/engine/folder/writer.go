package folder

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
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

// Names of Dexamen's own beside folders.
const (
	stagePrefix = files.HiddenPrefix + "stage-"
	clonePrefix = files.HiddenPrefix + "clone-"
	claimPrefix = files.HiddenPrefix + "claim-"
)

// writer implements [engine.StagingWriter], [engine.ClaimTable], [engine.Fitter],
// [engine.Sequencer] and [engine.GapTeller].
type writer struct {
	c      *cluster
	claims *engine.Claims

	mu      sync.Mutex
	without time.Duration
	// anyway: that a folder is in use is no reason not to replace it.
	anyway bool
	// blind: there are processes that may not be looked at.
	blind   bool
	support map[string]files.Support // by path of a folder
}

// Writer implements [engine.Cluster].
func (c *cluster) Writer(context.Context) (engine.Writer, error) {
	return &writer{c: c, support: map[string]files.Support{}}, nil
}

// note returns where a claim on a name is kept: beside the folder.
func (w *writer) note(name string) (files.Host, string) {
	p, dir := w.c.find(name)
	return p.host, path.Join(path.Dir(dir), claimPrefix+strings.TrimPrefix(name, files.HiddenPrefix))
}

// Claim implements [engine.ClaimTable].
func (w *writer) Claim(ctx context.Context, name string) (string, error) {
	h, at := w.note(name)
	return h.Note(ctx, at)
}

// SwapClaim implements [engine.ClaimTable].
func (w *writer) SwapClaim(ctx context.Context, name, was, now string) (bool, error) {
	h, at := w.note(name)
	ok, err := h.SwapNote(ctx, at, was, now)
	if err != nil {
		err = fmt.Errorf("the folder that %s is in must be writable, for what is written to take its place in one "+
			"step: %w", name, err)
	}
	return ok, err
}

// Reserve implements [engine.Writer].
func (w *writer) Reserve(ctx context.Context, names []string) (_ *engine.Claims, err error) {
	w.claims, err = engine.ClaimNames(ctx, w, names)
	return w.claims, err
}

// homes lists the folders in which stages may be.
func (w *writer) homes() []*place {
	var out []*place
	for _, p := range w.c.places {
		home := &place{location: location{host: p.location.host, path: path.Dir(p.path)}, host: p.host}
		if p.holds {
			home.path = p.path
		}
		if !slices.ContainsFunc(out, func(o *place) bool { return o.path == home.path && o.host == home.host }) {
			out = append(out, home)
		}
	}
	return out
}

// Stages implements [engine.Writer].
func (w *writer) Stages(ctx context.Context) ([]string, error) {
	var out []string
	for _, home := range w.homes() {
		names, err := home.host.Hidden(ctx, home.path)
		if errors.Is(err, files.ErrNoFolder) {
			continue
		}
		if err != nil {
			return nil, err
		}
		for _, n := range names {
			if _, ours := namespaceOf(n); !ours {
				continue
			}
			left, err := w.Claim(ctx, n)
			if err != nil {
				return nil, err
			}
			if left == "" || engine.CutShort(left) {
				out = append(out, n)
			}
		}
	}
	return out, nil
}

// own returns a new name of Dexamen's own for something of a namespace. It says of which,
// as it is beside that.
func own(prefix, name string) string {
	b := make([]byte, 6)
	_, _ = rand.Read(b) // never fails, by its contract
	return prefix + hex.EncodeToString(b) + "-" + name
}

// namespaceOf returns the name that a stage or a clone is for.
func namespaceOf(own string) (string, bool) {
	rest, ok := strings.CutPrefix(own, stagePrefix)
	if !ok {
		rest, ok = strings.CutPrefix(own, clonePrefix)
	}
	if !ok || len(rest) < 14 || rest[12] != '-' {
		return "", false
	}
	return rest[13:], true
}

// Stage implements [engine.StagingWriter].
func (w *writer) Stage(ctx context.Context, ns record.Namespace) (record.Namespace, error) {
	p, dir := w.c.find(ns.Name)
	if s, err := w.supports(ctx, p, dir); err != nil {
		return ns, err
	} else if !s.Writable {
		return ns, fmt.Errorf("%w: the folder around %s may not be written to", engine.ErrNoRename, dir)
	}
	here, err := p.host.Stat(ctx, dir, "")
	if err == nil {
		around, err := p.host.Stat(ctx, path.Dir(dir), "")
		if err != nil {
			return ns, err
		}
		if around.Dev != here.Dev {
			return ns, fmt.Errorf("%w: something is mounted at %s", engine.ErrNoRename, dir)
		}
	}
	name := own(stagePrefix, ns.Name)
	if err := w.claims.Add(ctx, name); err != nil {
		return ns, err
	}
	return w.make(ctx, name)
}

func (w *writer) make(ctx context.Context, name string) (record.Namespace, error) {
	p, dir := w.c.find(name)
	if err := p.host.Make(ctx, dir); err != nil {
		return record.Namespace{}, err
	}
	w.c.mu.Lock()
	w.c.unfinished[name], w.c.pieces[name] = p, 0
	w.c.mu.Unlock()
	return w.c.describe(ctx, name, p, dir)
}

func (w *writer) supports(ctx context.Context, p *place, dir string) (files.Support, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	s, ok := w.support[dir]
	if !ok {
		var err error
		if s, err = p.host.Supports(ctx, dir); err != nil {
			return s, err
		}
		w.support[dir] = s
	}
	return s, nil
}

// StageInPlace implements [engine.StagingWriter].
func (w *writer) StageInPlace(ctx context.Context, ns record.Namespace, replace bool) (record.Namespace, error) {
	p, dir := w.c.find(ns.Name)
	_, err := p.host.Stat(ctx, dir, "")
	switch {
	case errors.Is(err, files.ErrNoFolder):
		return w.make(ctx, ns.Name)
	case err != nil:
		return ns, err
	case !replace:
		return ns, fmt.Errorf("%s: %w", dir, files.ErrOccupied)
	}
	if err := w.free(ctx, p, dir); err != nil {
		return ns, err
	}
	if err := p.host.Empty(ctx, dir); err != nil {
		return ns, err
	}
	w.c.mu.Lock()
	w.c.unfinished[ns.Name], w.c.pieces[ns.Name] = p, 0
	w.c.mu.Unlock()
	return w.c.describe(ctx, ns.Name, p, dir)
}

// Write implements [engine.StagingWriter].
func (w *writer) Write(ctx context.Context, stage string, recs []record.Record) error {
	p, dir := w.c.find(stage)
	values := make([][]byte, len(recs))
	pieces := int64(0)
	for i, r := range recs {
		values[i] = r.Value
		if it, err := files.Parse(r.Value); err != nil {
			return err
		} else if it.Piece {
			pieces++
		}
	}
	w.c.mu.Lock()
	w.c.unfinished[stage] = p
	w.c.pieces[stage] += pieces
	w.c.mu.Unlock()
	return p.host.Write(ctx, dir, values)
}

// InOrder implements [engine.Sequencer].
func (w *writer) InOrder(record.Namespace) bool { return true }

// finish completes a stage that was written to.
func (c *cluster) finish(ctx context.Context, name string) error {
	c.mu.Lock()
	p := c.unfinished[name]
	delete(c.unfinished, name)
	c.mu.Unlock()
	if p == nil {
		return nil
	}
	_, dir := c.find(name)
	return p.host.Finish(ctx, dir)
}

// CurrentNamespace implements [engine.StagingWriter].
func (w *writer) CurrentNamespace(ctx context.Context, name string) (record.Namespace, error) {
	if err := w.c.finish(ctx, name); err != nil {
		return record.Namespace{}, err
	}
	p, dir := w.c.find(name)
	return w.c.describe(ctx, name, p, dir)
}

// Index implements [engine.StagingWriter]: it describes the folder itself.
func (w *writer) Index(ctx context.Context, stage string, ns record.Namespace) error {
	if err := w.c.finish(ctx, stage); err != nil {
		return err
	}
	var d definition
	if err := json.Unmarshal(ns.Definition, &d); err != nil {
		return fmt.Errorf("%s: %w", ns.Name, err)
	}
	p, dir := w.c.find(stage)
	return p.host.Describe(ctx, dir, d.item())
}

// Count implements [engine.StagingWriter].
func (w *writer) Count(ctx context.Context, name string) (int64, error) {
	if err := w.c.finish(ctx, name); err != nil {
		return 0, err
	}
	w.c.mu.Lock()
	n, written := w.c.pieces[name]
	w.c.mu.Unlock()
	p, dir := w.c.find(name)
	err := p.host.Walk(ctx, dir, files.Rules{}, func(batch []files.Entry) error {
		for i := range batch {
			if batch[i].Path == "" {
				continue
			}
			n++
			if e := &batch[i]; !written && e.Size > files.Inline {
				n += (e.Size + files.PieceSize - 1) / files.PieceSize
			}
		}
		return nil
	})
	return n, err
}

// free refuses a folder that a server has open.
func (w *writer) free(ctx context.Context, p *place, dir string) error {
	used, blind, err := p.host.InUse(ctx, dir)
	w.mu.Lock()
	w.blind = blind
	w.mu.Unlock()
	if err != nil || len(used) == 0 || w.anyway {
		return err
	}
	u := used[0]
	who := fmt.Sprintf("%d (%s), ", u.PID, u.Command)
	if u.PID <= 0 {
		who = ""
	}
	how := ""
	if u.Locked {
		how = ", which is locked"
	}
	return fmt.Errorf("%s: %w: %s%s%s; stop it, or say --in-use ignore if that does no harm", dir, engine.ErrOpen, who,
		quoted(u.Path), how)
}

// Publish implements [engine.StagingWriter].
func (w *writer) Publish(ctx context.Context, stage, name string, replace bool) error {
	if err := w.c.finish(ctx, stage); err != nil {
		return err
	}
	p, dir := w.c.find(name)
	_, from := w.c.find(stage)
	if replace {
		if err := w.free(ctx, p, dir); err != nil {
			return err
		}
	}
	without, err := p.host.Publish(ctx, from, dir, replace)
	if errors.Is(err, files.ErrNoExchange) {
		return fmt.Errorf("%w: %w", engine.ErrNoRename, err)
	}
	if err != nil {
		return err
	}
	w.mu.Lock()
	w.without = time.Duration(without)
	w.mu.Unlock()
	w.c.mu.Lock()
	w.c.pieces[name] = w.c.pieces[stage]
	delete(w.c.pieces, stage)
	w.c.mu.Unlock()
	return w.claims.End(ctx, stage)
}

// Without implements [engine.GapTeller].
func (w *writer) Without() time.Duration {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.without
}

// Replaceable implements [engine.StagingWriter].
func (w *writer) Replaceable(record.Namespace) error { return nil }

// KeepsIdentity implements [engine.StagingWriter].
func (w *writer) KeepsIdentity(record.Namespace) bool { return true }

// Trusted implements [engine.StagingWriter]: a rename keeps what is renamed.
func (w *writer) Trusted(context.Context) bool { return true }

// Discard implements [engine.StagingWriter].
func (w *writer) Discard(ctx context.Context, stage string) error {
	if _, ours := namespaceOf(stage); !ours {
		return fmt.Errorf("%s is no stage", quoted(stage))
	}
	w.c.mu.Lock()
	delete(w.c.unfinished, stage)
	delete(w.c.pieces, stage)
	w.c.mu.Unlock()
	p, dir := w.c.find(stage)
	if err := p.host.Remove(ctx, dir); err != nil {
		return err
	}
	if w.claims != nil {
		if err := w.claims.End(ctx, stage); err != nil {
			return err
		}
	}
	left, err := w.Claim(ctx, stage)
	if err != nil || left == "" {
		return err
	}
	_, err = w.SwapClaim(ctx, stage, left, "")
	return err
}

// View implements [engine.StagingWriter].
func (w *writer) View(context.Context, record.Namespace, bool) error {
	return errors.New("folders have no views")
}

// Fit implements [engine.Fitter]: owners, attributes and holes as far as they can be kept.
func (w *writer) Fit(ctx context.Context, ns record.Namespace, _ string,
	chosen map[string]string) (engine.Fitted, error) {
	p, dir := w.c.find(ns.Name)
	out := engine.Fitted{Definition: ns.Definition}
	w.anyway = chosen["in-use"] == "ignore"
	if err := w.free(ctx, p, dir); err != nil {
		return out, err
	}
	_, err := p.host.Stat(ctx, dir, "")
	if err == nil && w.blind && !w.anyway {
		out.Notes = append(out.Notes,
			fmt.Sprintf("%s: whether processes of other users have files of it open cannot be "+
				"seen from here", dir))
	}
	switch there := err == nil; {
	case there && chosen["files"] != "":
		return out, fmt.Errorf("%s is there: single files are restored beside it, so that what else is in it stays; "+
			"give them a folder of their own with --rename %s=NAME", dir, ns.Name)
	case there && !w.c.has(ns.Name):
		return out, fmt.Errorf(
			"%s is there and is none of the folders of cluster %s: it is left alone; choose another "+
				"name with --rename", dir, w.c.target.Name)
	}
	s, err := w.supports(ctx, p, dir)
	if err != nil {
		return out, err
	}
	fit := func(it *files.Item) (lost []string) {
		if !s.Owners && (it.UID != s.UID || it.GID != s.GID) {
			it.UID, it.GID = s.UID, s.GID
			lost = append(lost,
				fmt.Sprintf("whose owner is not kept but becomes %d:%d, as only root may give files away",
					s.UID, s.GID))
		}
		kept := slices.DeleteFunc(slices.Clone(it.Attributes), func(a files.Attribute) bool {
			of, _, _ := strings.Cut(a.Name, ".")
			return !s.Xattrs && of == "user" || !s.Owners && of != "user"
		})
		if len(kept) < len(it.Attributes) {
			it.Attributes = kept
			lost = append(lost, "without extended attributes that cannot be set there")
		}
		if it.Sparse && !s.Holes {
			it.Sparse = false
			lost = append(lost, "whose holes take room there")
		}
		return lost
	}
	var d definition
	if err := json.Unmarshal(ns.Definition, &d); err != nil {
		return out, fmt.Errorf("%s: %w", ns.Name, err)
	}
	it := d.item()
	if lost := fit(&it); len(lost) > 0 {
		d.UID, d.GID, d.Attributes = it.UID, it.GID, it.Attributes
		if out.Definition, err = json.Marshal(d); err != nil {
			return out, err
		}
	}
	if s.Owners && s.Xattrs && s.Holes {
		return out, nil
	}
	out.Rewrite = func(value []byte) ([]byte, string) {
		it, err := files.Parse(value)
		if err != nil || it.Piece {
			return value, ""
		}
		lost := fit(&it)
		if len(lost) == 0 {
			return value, ""
		}
		return it.Append(bytes.Clone(value[:0])), strings.Join(lost, ", ")
	}
	return out, nil
}

// RemoveNamespace implements [engine.NamespaceRemover]. A folder that a server has open is
// left alone.
func (w *writer) RemoveNamespace(ctx context.Context, ns record.Namespace) error {
	p, dir := w.c.find(ns.Name)
	if err := w.free(ctx, p, dir); err != nil {
		return err
	}
	return p.host.Remove(ctx, dir)
}
