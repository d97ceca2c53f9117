package pinpoint

import (
	"bytes"

	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
)

// points compares each point with the one before it where no log tells what happened in
// between, or the log does not tell of namespaces that come and go.
func (s *search) points() {
	for i := 1; i < len(s.cov.Points); i++ {
		a, b := s.cov.Points[i-1], s.cov.Points[i]
		if !s.within(a.Time, b.Time) {
			continue
		}
		logged := s.joined(a, b)
		if logged && !a.Unlogged {
			continue
		}
		now := map[string]store.PointNamespace{}
		for _, ns := range b.Parts() {
			now[ns.Name] = ns.PointNamespace
		}
		for _, was := range a.Parts() {
			if !s.chosen(was.Name) || s.model.Staged(was.Name) || !address.Scope(b.Scope).Match(was.Name) {
				continue
			}
			is, there := now[was.Name]
			f := Finding{Namespace: was.Name, Started: a.Time, Finished: b.Time, Was: was.Root.Records,
				when: address.When{Kind: address.Point, Text: a.ID}}
			switch {
			case !there:
				f.Kind = Gone
			case len(was.Ident) > 0 && len(is.Ident) > 0 && !bytes.Equal(was.Ident, is.Ident):
				f.Kind, f.Is = Remade, is.Root.Records
			case !logged && fewer(was.Root.Records, is.Root.Records):
				f.Kind, f.Is = Fewer, is.Root.Records
			case !logged && len(definitionChange(s.model, was.Definition, is.Definition)) > 0:
				f.Kind, f.Was = Altered, 0
				f.Detail = definitionChange(s.model, was.Definition, is.Definition)
			default:
				continue
			}
			s.out.Findings = append(s.out.Findings, f)
		}
	}
}

// fewer reports whether so many records less are worth telling: a twentieth, and not only
// a few.
func fewer(was, is int64) bool {
	const few = 5
	return was-is > max(few, was/20)
}

// joined reports whether the logs of all shards lead from one point to another.
func (s *search) joined(a, b *store.Point) bool {
	for _, sh := range a.Shards {
		to, ok := b.Shard(sh.Name)
		if !ok || sh.Mark.Position == "" || to.Mark.Position == "" {
			return false
		}
		c := s.cov.Chains[sh.Name]
		if c == nil || c.Reach(sh.Mark).Position < to.Mark.Position {
			return false
		}
	}
	return len(a.Shards) > 0
}
