package sealed

import "strings"

// The folders of a store, by the kind of objects in them.
const (
	ContentPrefix       = "content/"        // content files: frames that hold nodes
	ListingsPrefix      = "listings/"       // what content files hold, again
	PointsPrefix        = "points/"         // restore points
	JournalPrefix       = "journal/"        // segments of logs
	HoldersPrefix       = "holders/"        // who can open the store
	RefusedPrefix       = "refused/"        // holders that were dropped while they were locked
	DataKeysPrefix      = "datakeys/"       // keys of content, encrypted
	marksPrefix         = "marks/"          // what must not be forgotten about a cluster
	RunsPrefix          = "runs/"           // runs that have ended
	RunningPrefix       = "running/"        // runs that go on
	HoldsPrefix         = "holds/"          // points that are kept whatever the rules say
	ProofsPrefix        = "proofs/"         // what proving points found
	EvidencePrefix      = "evidence/"       // signed statements of what runs found
	HeadsPrefix         = "heads/"          // what is newest of each cluster
	RetiredPrefix       = "retired/"        // what retention has removed
	DroppedPrefix       = "dropped/"        // points that it removed and that can be brought back
	ClaimsPrefix        = "claims/"         // who is at some work
	ScrubsPrefix        = "scrubs/"         // what scrubs found
	SuspectPrefix       = "suspect/"        // content files that are damaged
	PendingDeletePrefix = "pending_delete/" // content files that will be removed
	ActiveWritersPrefix = "active_writers/" // who was writing when that was said
	ParityPrefix        = "parity/"         // of other objects
	RepairedPrefix      = "repaired/"       // right bytes, while they are put in place
	CheckPrefix         = "check/"          // what store check writes, and removes
)

// Kind describes how the objects of a kind are treated.
type Kind struct {
	// Prefix begins their names; the descriptor's is its name.
	Prefix string
	// lockable: restoring needs them, so they are locked where the store locks.
	lockable bool
	// parity: nothing else can make them again, so they have parity where the
	// store was made with it.
	parity bool
	// twice: without them nothing can be read, so every store has a second copy.
	twice bool
	// Expendable: a damaged one can be done without, and is removed.
	Expendable bool
}

// Kinds are all that may lie in a store, besides parity and what is on its way.
var Kinds = []Kind{
	{Prefix: DescriptorName, lockable: true, twice: true},
	{Prefix: HoldersPrefix, lockable: true, twice: true},
	{Prefix: DataKeysPrefix, lockable: true, twice: true},
	{Prefix: RefusedPrefix, lockable: true, parity: true},
	{Prefix: ContentPrefix, lockable: true, parity: true},
	{Prefix: PointsPrefix, lockable: true, parity: true},
	{Prefix: JournalPrefix, lockable: true, parity: true},
	{Prefix: ListingsPrefix},
	{Prefix: marksPrefix},
	{Prefix: RunsPrefix},
	{Prefix: RunningPrefix},
	{Prefix: HoldsPrefix, parity: true},
	{Prefix: EvidencePrefix, parity: true},
	{Prefix: RetiredPrefix},
	{Prefix: DroppedPrefix, parity: true},
	{Prefix: ClaimsPrefix},
	{Prefix: ProofsPrefix, Expendable: true},
	{Prefix: HeadsPrefix, Expendable: true},
	{Prefix: ScrubsPrefix, Expendable: true},
	{Prefix: SuspectPrefix, Expendable: true},
	{Prefix: PendingDeletePrefix, Expendable: true},
	{Prefix: ActiveWritersPrefix, Expendable: true},
}

// KindOf returns the kind of an object by its name; the zero kind where it is of
// none.
func KindOf(name string) Kind {
	for _, k := range Kinds {
		if strings.HasPrefix(name, k.Prefix) {
			return k
		}
	}
	return Kind{}
}
