package moment

import (
	"bytes"
	"context"
	"fmt"
	"slices"

	"dexamen/internal/core/tree"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// DiffStates compares two namespaces; either may be nil.
func DiffStates(ctx context.Context, src tree.Source, a, b *NamespaceState, m engine.Model,
	keys int) (NamespaceDiff, error) {
	var d NamespaceDiff
	empty := &NamespaceState{}
	if a == nil {
		a = empty
	}
	if b == nil {
		b = empty
	}
	d.A, d.RecordsA, d.RootA = a.Name, a.Root.Records, a.Root.Hash
	d.B, d.RecordsB, d.RootB = b.Name, b.Root.Records, b.Root.Hash
	if a.Name != "" && b.Name != "" {
		d.DefinitionA, d.DefinitionB = DiffDefinitions(m, a.Definition, b.Definition)
	}
	if a.Root.Hash == b.Root.Hash {
		return d, nil
	}
	grouper, grouped := m.(engine.Grouper)
	grouped = grouped && m.Traits().Grouped
	var group []byte // of the difference before
	named := false
	err := tree.Diff(ctx, tree.Side{Source: src, Root: a.Root}, tree.Side{Source: src, Root: b.Root},
		func(k tree.Difference) error {
			var kd KeyDiff
			partly := false
			if grouped {
				prefix := grouper.GroupPrefix(k.Key)
				if group != nil && bytes.Equal(prefix, group) {
					if last := len(d.Keys) - 1; named && d.Keys[last].Kind == "changed" &&
						!slices.Contains(d.Keys[last].Fields, "content") {
						d.Keys[last].Fields = append(d.Keys[last].Fields, "content")
					}
					return ctx.Err()
				}
				group = bytes.Clone(prefix)
				partly = !bytes.Equal(prefix, k.Key)
			}
			switch {
			case partly:
				kd.Kind = "changed"
				d.Changed++
			case k.B == nil:
				kd.Kind = "missing"
				d.Missing++
			case k.A == nil:
				kd.Kind = "extra"
				d.Extra++
			default:
				kd.Kind = "changed"
				d.Changed++
			}
			if named = len(d.Keys) < keys; named {
				v := k.A
				if v == nil {
					v = k.B
				}
				kd.Label = m.Label(v)
				if partly {
					kd.Fields = []string{"content"}
				} else if k.A != nil && k.B != nil {
					kd.Fields = m.Changes(k.A, k.B)
				}
				d.Keys = append(d.Keys, kd)
			}
			return ctx.Err()
		})
	return d, err
}

func DiffDefinitions(m engine.Model, a, b []byte) (onlyA, onlyB []string) {
	if bytes.Equal(m.Portable(a), m.Portable(b)) {
		return nil, nil
	}
	la, lb := m.Describe(a), m.Describe(b)
	for _, l := range la {
		if !slices.Contains(lb, l) {
			onlyA = append(onlyA, l)
		}
	}
	for _, l := range lb {
		if !slices.Contains(la, l) {
			onlyB = append(onlyB, l)
		}
	}
	return onlyA, onlyB
}

// KeyDiff is one record at which two namespaces differ.
type KeyDiff struct {
	Kind  string `json:"kind"` // "missing" on the right, "extra" there, or "changed"
	Label string `json:"key"`
	// Fields says of a changed record what changed.
	Fields []string `json:"fields,omitempty"`
}

// NamespaceDiff is what a comparison finds of one namespace, or of a pair.
type NamespaceDiff struct {
	A        string    `json:"a,omitempty"` // name on the left; empty when it is not there
	B        string    `json:"b,omitempty"`
	RecordsA int64     `json:"records_a"`
	RecordsB int64     `json:"records_b"`
	Missing  int64     `json:"missing"` // on the left only
	Extra    int64     `json:"extra"`   // on the right only
	Changed  int64     `json:"changed"`
	Keys     []KeyDiff `json:"keys,omitempty"`
	// DefinitionA and DefinitionB list what only one definition says.
	DefinitionA []string  `json:"definition_a,omitempty"`
	DefinitionB []string  `json:"definition_b,omitempty"`
	RootA       tree.Hash `json:"root_a"`
	RootB       tree.Hash `json:"root_b"`
}

// Same reports that nothing differs.
func (d *NamespaceDiff) Same() bool {
	return d.A != "" && d.B != "" && d.RootA == d.RootB && len(d.DefinitionA) == 0 && len(d.DefinitionB) == 0
}

// Different turns the outcome of a comparison into an error, or nil.
func Different(ds []NamespaceDiff) error {
	n := 0
	for i := range ds {
		if !ds[i].Same() {
			n++
		}
	}
	if n == 0 {
		return nil
	}
	return fmt.Errorf("%w: %d of %d namespaces", run.ErrDiffers, n, len(ds))
}
