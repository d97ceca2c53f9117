package document

import (
	"slices"
	"strings"

	"dexamen/internal/core/record"
)

// bucketPrefix begins the names under which servers keep the content of
// time-series collections ("Time Series Collections", storage).
const bucketPrefix = "system.buckets."

// kindSeries is of time-series collections; their records are their buckets.
const kindSeries record.Kind = "timeseries"

// layoutCollections are what config servers keep about where content is.
var layoutCollections = []string{"chunks", "collections", "databases", "tags"}

// content reports under which name and as what kind Dexamen keeps a collection of
// servers in this role; otherwise the kind is empty and why says why not.
func (r role) content(db, coll string) (name string, kind record.Kind, why string) {
	name = db + "." + coll
	switch db {
	case "admin":
		// The users of a sharded cluster are on its config servers; those on a
		// shard are for its maintenance.
		if (r == alone || r == layout) && (coll == "system.users" || coll == "system.roles") {
			return name, record.KindSettings, ""
		}
		return name, "", "belongs to the server"
	case "config":
		if r == layout && slices.Contains(layoutCollections, coll) {
			return name, record.KindLayout, ""
		}
		return name, "", "belongs to the server"
	case "local":
		return name, "", "belongs to the server"
	}
	if isOwn(db, coll) {
		return name, "", "belongs to Dexamen"
	}
	if r == layout {
		return name, "", "no content belongs on config servers"
	}
	if of, ok := strings.CutPrefix(coll, bucketPrefix); ok {
		return db + "." + of, kindSeries, ""
	}
	if strings.HasPrefix(coll, "system.") && coll != "system.js" && !strings.HasPrefix(coll, "system.resharding.") {
		return name, "", "belongs to the server"
	}
	return name, "collection", ""
}

// serversOwn are the collections of the databases admin and config that servers keep there themselves ("System
// Collections", "Config Database", "Transactions"); what else is there somebody put there.
var serversOwn = map[string][]string{
	"admin": {"tempusers", "temproles"},
	"config": {"actionlog", "changelog", "chunks", "collections", "csrs.indexes", "databases", "image_collection",
		"locks", "lockpings", "mongos", "rangeDeletions", "settings", "shards", "tags", "transactions", "vectorClock",
		"version", "external_validation_keys", "migrationCoordinators", "migrations", "placementHistory",
		"clusterParameters", "queryAnalyzers", "sampledQueries", "sampledQueriesDiff", "shard.indexes",
		"shard.collections", "reshardingOperations", "localRenameParticipants"},
}

// strays reports whether a collection of admin or config is none of the servers' own: it is not protected, which
// is to be told.
func strays(db, coll string) bool {
	own, ok := serversOwn[db]
	return ok && !strings.HasPrefix(coll, "system.") && !strings.HasPrefix(coll, "cache.") &&
		!strings.HasPrefix(coll, "localResharding") && !slices.Contains(own, coll)
}

// physical returns the name under which a server keeps a namespace's records.
func physical(name string, kind record.Kind) (db, coll string) {
	db, coll, _ = strings.Cut(name, ".")
	if kind == kindSeries {
		coll = bucketPrefix + coll
	}
	return db, coll
}

// kindOf reports the kind of a namespace that no entry created.
func kindOf(name string) record.Kind {
	switch {
	case strings.HasPrefix(name, "admin."):
		return record.KindSettings
	case strings.HasPrefix(name, "config."):
		return record.KindLayout
	}
	return "collection"
}
