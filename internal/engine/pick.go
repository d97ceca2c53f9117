package engine

import (
	"fmt"
	"strings"
	"time"
)

// Pick chooses the member to read by what is preferred: addresses or roles, the
// first that is fit. The roles primary and secondary stand for what the engine
// calls them. [ErrNoMember] says why each was refused.
func Pick(t Target, shard string, members []Member, leading, following string) (Choice, error) {
	wishes := t.Prefer
	if len(wishes) == 0 {
		wishes = []string{following, leading}
	}
	limit := t.MaxLag
	if limit <= 0 {
		limit = time.Minute
	}
	var why []string
	for _, wish := range wishes {
		role := map[string]string{"secondary": following, "primary": leading}[wish]
		for _, m := range members {
			if m.Address != wish && m.Role != wish && m.Role != role {
				continue
			}
			switch {
			case !m.Healthy:
				why = append(why, fmt.Sprintf("%s (%s): %s", m.Address, m.Role, m.Note))
				continue
			case m.Lag > limit:
				why = append(why, fmt.Sprintf("%s (%s): %s behind, allowed is %s", m.Address, m.Role,
					m.Lag.Round(time.Second), limit))
				continue
			}
			reason := wish + " preferred"
			if m.Address == wish {
				reason = "preferred by address"
			}
			return Choice{Shard: shard, Member: m, Reason: reason}, nil
		}
	}
	if why == nil {
		why = []string{"there is none"}
	}
	return Choice{}, fmt.Errorf("%w: of %s: %s", ErrNoMember, strings.Join(wishes, ", "), strings.Join(why, "; "))
}
