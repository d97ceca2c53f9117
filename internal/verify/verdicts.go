package verify

import (
	"cmp"
	"errors"
	"fmt"

	"dexamen/internal/core/store"
	"dexamen/internal/moment"
	"dexamen/internal/run"
)

// Verdicts returns what was found of a point's content, of the log after it and of the log
// before it; err is what verifying it returned. What an error kept from being looked at is not
// proven.
func (p *Proof) Verdicts(err error) []store.RunVerdict {
	content := store.RunVerdict{Of: "content", Found: store.FoundSound}
	after := store.RunVerdict{Of: "log after", Found: store.FoundSound}
	before := store.RunVerdict{Of: "log before", Found: store.FoundNotProven, Detail: p.NotFolded}
	switch {
	case p.Segments == 0:
		after.Found, after.Detail = store.FoundNotProven, "none captured yet"
	case p.Unfolded != "":
		after.Found, after.Detail = store.FoundNotProven, p.Unfolded
	}
	switch {
	case p.Disagreement != "":
		before.Found, before.Detail = store.FoundDiffers, p.Disagreement
	case p.Equal:
		before.Found, before.Detail = store.FoundSound,
			fmt.Sprintf("point %s and %s give the same roots", p.From, run.Count(p.FoldedFrom, "change"))
	}
	if err == nil || errors.Is(err, run.ErrDiffers) {
		return []store.RunVerdict{content, after, before}
	}
	bad := &content
	if p.contentRead {
		bad = &after
		if p.logRead {
			bad = &before
		}
	}
	notReached := false
	for _, v := range []*store.RunVerdict{&content, &after, &before} {
		if v == bad {
			v.Found, v.Detail, notReached = store.FoundDamaged, err.Error(), true
			if !errors.Is(err, store.ErrDamaged) && !errors.Is(err, store.ErrMissing) {
				v.Found = store.FoundNotProven
			}
		} else if notReached {
			v.Found, v.Detail = store.FoundNotProven, cmp.Or(v.Detail, "not looked at")
		}
	}
	return []store.RunVerdict{content, after, before}
}

// LogVerdicts returns what a proof found of the log before a point: of each namespace in which
// log and point differ, else of all of it.
func LogVerdicts(m *store.ProofMark) []store.RunVerdict {
	if m.Equal {
		return []store.RunVerdict{{Of: "log before", Found: store.FoundSound,
			Detail: fmt.Sprintf("point %s and %s give the same roots", m.From, run.Count(m.Changes, "change"))}}
	}
	if len(m.Doubts) == 0 {
		return []store.RunVerdict{{Of: "log before", Found: store.FoundNotProven, Detail: m.NotProven}}
	}
	var out []store.RunVerdict
	for _, d := range m.Doubts {
		of := "log before"
		if d.Namespace != "" {
			of += ", " + d.Namespace
		}
		out = append(out, store.RunVerdict{Of: of, Found: store.FoundDiffers, Detail: d.What})
	}
	return out
}

// LiveVerdicts returns what was found of each namespace that was compared.
func LiveVerdicts(diffs []moment.NamespaceDiff) []store.RunVerdict {
	var out []store.RunVerdict
	for i := range diffs {
		d := &diffs[i]
		v := store.RunVerdict{Of: cmp.Or(d.A, d.B), Found: store.FoundSound}
		if !d.Same() {
			v.Found = store.FoundDiffers
			v.Detail = fmt.Sprintf("%d missing, %d extra, %d changed of %d records", d.Missing, d.Extra, d.Changed,
				d.RecordsA)
			switch {
			case d.B == "":
				v.Detail = "it is not there"
			case len(d.DefinitionA)+len(d.DefinitionB) > 0:
				v.Detail += ", and another definition"
			}
		}
		out = append(out, v)
	}
	return out
}
