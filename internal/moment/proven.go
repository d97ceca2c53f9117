package moment

import (
	"fmt"

	"dexamen/internal/core/store"
	"dexamen/internal/run"
)

// Proven returns, of points, oldest first, by which point the log up to each was
// proven: its own where it was read from the cluster, the next one that was
// where it was folded. Doubted are those whose proof failed.
func Proven(points []*store.Point, proofs map[string]*store.ProofMark) (
	proven map[string]string, doubted map[string]*store.ProofMark) {
	proven, doubted = map[string]string{}, map[string]*store.ProofMark{}
	for i := len(points) - 1; i >= 0; i-- {
		p := points[i]
		m := proofs[p.ID]
		switch {
		case m == nil:
		case m.Equal && p.Made == "scan":
			proven[p.ID] = p.ID
		case len(m.Doubts) > 0:
			doubted[p.ID] = m
		}
		// The point before was folded, and this one's proof began there.
		if p.Made == "fold" && i+1 < len(points) && points[i+1].Cluster == p.Cluster {
			next := points[i+1]
			by := proven[next.ID]
			if m := proofs[next.ID]; next.Made == "scan" && m != nil && m.From != p.ID ||
				next.Made == "fold" && next.From != p.ID {
				by = ""
			}
			if by != "" {
				proven[p.ID] = by
			}
		}
	}
	return proven, doubted
}

// ProofText reports for people what a point's proof found.
func ProofText(m *store.ProofMark) string {
	switch {
	case m == nil:
		return ""
	case m.Equal:
		return fmt.Sprintf("proven: %s of log lead here from %s", run.Count(m.Changes, "change"), m.From)
	case len(m.Doubts) > 0:
		return fmt.Sprintf("in doubt: log and point disagree in %s", run.Count(int64(len(m.Doubts)), "namespace"))
	}
	return "not proven: " + m.NotProven
}

// lastProven returns the last stretch, from point to point, that is proven without
// a break.
func lastProven(points []*store.Point, proofs map[string]*store.ProofMark) *Stretch {
	proven, _ := Proven(points, proofs)
	var out *Stretch
	for i := len(points) - 1; i > 0; i-- {
		switch by := proven[points[i].ID]; {
		case by == "" && out != nil:
			return out
		case by != "" && out == nil:
			out = &Stretch{points[i-1].Time, points[i].Time}
		case by != "":
			out.From = points[i-1].Time
		}
	}
	return out
}
