package store

import "strings"

// The folders of a store, by the kind of objects in them.
const (
	contentPrefix       = "content/"        // content files: frames that hold nodes
	listingsPrefix      = "listings/"       // what content files hold, again
	pointsPrefix        = "points/"         // restore points
	journalPrefix       = "journal/"        // segments of logs
	holdersPrefix       = "holders/"        // who can open the store
	dataKeysPrefix      = "datakeys/"       // keys of content, encrypted
	marksPrefix         = "marks/"          // what must not be forgotten about a cluster
	runsPrefix          = "runs/"           // runs that have ended
	runningPrefix       = "running/"        // runs that go on
	holdsPrefix         = "holds/"          // points that are kept whatever the rules say
	proofsPrefix        = "proofs/"         // what proving points found
	headsPrefix         = "heads/"          // what is newest of each cluster
	retiredPrefix       = "retired/"        // what retention has removed
	claimsPrefix        = "claims/"         // who is at some work
	scrubsPrefix        = "scrubs/"         // what scrubs found
	suspectPrefix       = "suspect/"        // content files that are damaged
	pendingDeletePrefix = "pending_delete/" // content files that will be removed
	activeWritersPrefix = "active_writers/" // who was writing when that was said
	parityPrefix        = "parity/"         // of other objects
	repairedPrefix      = "repaired/"       // right bytes, while they are put in place
	checkPrefix         = "check/"          // what store check writes, and removes
)

// kind says how the objects of a kind are treated.
type kind struct {
	// prefix begins their names; the descriptor's is its name.
	prefix string
	// lockable: restoring needs them, so they are locked where the store locks.
	lockable bool
	// parity: nothing else can make them again, so they have parity where the
	// store was made with it.
	parity bool
	// twice: without them nothing can be read, so every store has a second copy.
	twice bool
	// expendable: a damaged one can be done without, and is removed.
	expendable bool
}

// kinds are all that may lie in a store, besides parity and what is on its way.
var kinds = []kind{
	{prefix: descriptorName, lockable: true, twice: true},
	{prefix: holdersPrefix, lockable: true, twice: true},
	{prefix: dataKeysPrefix, lockable: true, twice: true},
	{prefix: contentPrefix, lockable: true, parity: true},
	{prefix: pointsPrefix, lockable: true, parity: true},
	{prefix: journalPrefix, lockable: true, parity: true},
	{prefix: listingsPrefix},
	{prefix: marksPrefix},
	{prefix: runsPrefix},
	{prefix: runningPrefix},
	{prefix: holdsPrefix},
	{prefix: retiredPrefix},
	{prefix: claimsPrefix},
	{prefix: proofsPrefix, expendable: true},
	{prefix: headsPrefix, expendable: true},
	{prefix: scrubsPrefix, expendable: true},
	{prefix: suspectPrefix, expendable: true},
	{prefix: pendingDeletePrefix, expendable: true},
	{prefix: activeWritersPrefix, expendable: true},
}

// kindOf returns the kind of an object by its name; the zero kind where it is of
// none.
func kindOf(name string) kind {
	for _, k := range kinds {
		if strings.HasPrefix(name, k.prefix) {
			return k
		}
	}
	return kind{}
}
