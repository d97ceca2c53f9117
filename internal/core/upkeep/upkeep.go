// Package upkeep keeps a store in order.
//
//	scrub.go      reads everything and says what is damaged: scrub_objects.go the
//	              objects, scrub_meaning.go what that costs, scrub_fetch.go what a
//	              mirror has
//	repair.go     puts right bytes where damaged ones are
//	retention.go  removes points and log; bringback.go makes points exist again
//	join.go       puts segments together; locks.go locks for longer what is kept
//	reclaim.go    gives back the room of what no point needs: reclaim_weigh.go which
//	              copy stays, reclaim_leftovers.go what crashes leave behind
//	mirror.go     copies a store to another place
//	usage.go      what a store holds by cluster, and what that takes
package upkeep

import (
	"context"

	"dexamen/internal/core/catalog"
)

// Upkeep keeps a store in order: scrubs, repairs, retention, reclaim, mirrors. Its
// methods may be called from many goroutines.
type Upkeep struct{ *catalog.Catalog }

// Open ends a repair that was interrupted.
func Open(ctx context.Context, c *catalog.Catalog) (*Upkeep, error) {
	u := &Upkeep{c}
	return u, u.resumeRepair(ctx)
}
