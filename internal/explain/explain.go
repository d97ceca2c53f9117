// Package explain words errors for people: what is wrong, and what to do next, in
// the program's own commands and flags. It is used by what speaks to people, the
// command line and the daemon.
package explain

import (
	"fmt"
	"strings"

	"dexamen/internal/core/remedy"
)

// Error returns an error's text with what to do next behind it, where that is
// known.
func Error(err error) string {
	if err == nil {
		return ""
	}
	text := err.Error()
	for _, r := range remedy.All(err) {
		if do := next(r); do != "" && !strings.Contains(text, do) {
			text += "; " + do
		}
	}
	return text
}

func next(r remedy.Remedy) string {
	switch r.Kind {
	case remedy.Snapshot:
		return "take a new point now with: dexamen snapshot " + r.Of
	case remedy.FirstSnapshot:
		return "begin with: dexamen snapshot " + r.Of
	case remedy.Points:
		return fmt.Sprintf("what its points hold can be had all the same: dexamen points %[1]s; "+
			"what is to come is safe again after: dexamen snapshot %[1]s", r.Of)
	case remedy.Capture:
		return "capture what has happened since with: dexamen capture " + r.Of
	case remedy.ScratchServer:
		return "name an empty server to carry the log out on, as scratch: of the cluster or with --scratch, or take " +
			"the point itself: " + r.Of
	case remedy.Salvage:
		return "--salvage restores the records that can be read"
	case remedy.Beside:
		return fmt.Sprintf("restore beside it with --rename %s=NEWNAME, or replace it with --conflict replace", r.Of)
	case remedy.BesideOrDrop:
		return fmt.Sprintf("restore beside it with --rename %s=NEWNAME, or drop it first", r.Of)
	case remedy.Replace:
		return "end that, and run it again with --conflict replace"
	case remedy.ReplaceOne:
		return "--conflict replace puts it back"
	case remedy.Sharded:
		return "on several shards different documents may have one _id, in one collection they may not: " +
			"restore onto a " +
			"sharded cluster"
	case remedy.ShardLogins:
		return "shards do not know the users that were made through a router: on the primary of each shard, run " +
			"what this prints: dexamen cluster grants " + r.Of
	case remedy.Trust:
		return "look at it with: dexamen cluster trust"
	case remedy.TrustHost:
		return "compare it with what the machine's administrator gives, and trust it with: dexamen cluster trust " +
			r.Of
	case remedy.ChooseStore:
		if r.Of == "" {
			return "say which with --store, name a cluster that has one, or set default_store"
		}
		return fmt.Sprintf("say which with --store, or set clusters.%s.store", r.Of)
	case remedy.WriteConfig:
		return "begin with one from: dexamen config sample > dexamen.yaml"
	case remedy.Reach:
		return fmt.Sprintf("see that it is up and can be reached from here, and that clusters.%s.address is "+
			"right", r.Of)
	case remedy.SampleConfig:
		return "a file that is right, with comments: dexamen config sample"
	case remedy.OtherPlace:
		return "use it as it is (dexamen store check), or give another location"
	case remedy.Keys:
		if r.Of == "" {
			return "make one with: dexamen store keys new FILE"
		}
		return "see who can open it with: dexamen store keys list " + r.Of
	case remedy.StoreIdentity:
		return "find out who put it there before anything is written; identity in the configuration says which " +
			"store is meant, and key that it is encrypted"
	case remedy.Scrub:
		return "store scrub says more, and --repair may heal it"
	}
	return ""
}
