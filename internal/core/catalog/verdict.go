package catalog

import (
	"fmt"
	"slices"
)

// Findings of a [RunVerdict].
const (
	FoundSound     = "sound"
	FoundDiffers   = "differs"
	FoundDamaged   = "damaged"
	FoundNotProven = "not proven"
)

// RunVerdict is what was found of one thing that was looked at.
type RunVerdict struct {
	Of     string `json:"of"`    // the content or the log of a point, a namespace, the points of a cluster
	Found  string `json:"found"` // one of the findings
	Detail string `json:"detail,omitempty"`
}

// maxVerdicts bounds what is kept of a run that looked at many namespaces.
const maxVerdicts = 100

// SetVerdicts keeps what was found: what is not sound first. Of more than can be kept of one
// run the last verdicts count the rest, one for each finding.
func (r *Run) SetVerdicts(all []RunVerdict) {
	var kept, sound []RunVerdict
	for _, v := range all {
		if v.Found == FoundSound {
			sound = append(sound, v)
		} else {
			kept = append(kept, v)
		}
	}
	kept = append(kept, sound...)
	if len(kept) > maxVerdicts {
		rest := kept[maxVerdicts:]
		kept = slices.Clip(kept[:maxVerdicts])
		for _, found := range []string{FoundDamaged, FoundDiffers, FoundNotProven, FoundSound} {
			n := 0
			for _, v := range rest {
				if v.Found == found {
					n++
				}
			}
			if n > 0 {
				kept = append(kept, RunVerdict{Of: fmt.Sprintf("%d more", n), Found: found})
			}
		}
	}
	r.Verdicts = kept
}
