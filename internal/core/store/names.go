package store

import (
	"fmt"
	"strings"

	"dexamen/internal/core/catalog"
	"dexamen/internal/core/content"
	"dexamen/internal/core/sealed"
	"dexamen/internal/core/upkeep"
)

// MadeByExport is how a point was made that is in no store, but was read from an export.
const MadeByExport = "export"

// KeptSuffix follows a cluster's name in that under which protective points are kept: those
// of namespaces that a restore is about to change, where no log covers them. They are no
// points of the cluster, and change nothing about which of its moments can be had.
const KeptSuffix = ".kept"

// The types that callers of a store need.
type (
	// Of package catalog.
	Dropped        = catalog.Dropped
	Hold           = catalog.Hold
	Point          = catalog.Point
	PointNamespace = catalog.PointNamespace
	PointShard     = catalog.PointShard
	ProofDoubt     = catalog.ProofDoubt
	ProofMark      = catalog.ProofMark
	Run            = catalog.Run
	RunFilter      = catalog.RunFilter
	Rehearsal      = catalog.Rehearsal
	RunCheck       = catalog.RunCheck
	RunPromise     = catalog.RunPromise
	RunHook        = catalog.RunHook
	RunMember      = catalog.RunMember
	RunVerdict     = catalog.RunVerdict
	RunRestored    = catalog.RunRestored
	RunLogin       = catalog.RunLogin
	RunRetired     = catalog.RunRetired
	Shrunk         = catalog.Shrunk
	Skipped        = catalog.Skipped
	// Of package content.
	Scratch    = content.Scratch
	WriteStats = content.WriteStats
	Writer     = content.Writer
	// Of package sealed.
	Access        = sealed.Access
	Compress      = sealed.Compress
	CreateOptions = sealed.CreateOptions
	Descriptor    = sealed.Descriptor
	Holder        = sealed.Holder
	KeyHolder     = sealed.KeyHolder
	Memo          = sealed.Memo
	Options       = sealed.Options
	// Of package upkeep.
	FilesCopied    = upkeep.FilesCopied
	FilesChecked   = upkeep.FilesChecked
	JoinOptions    = upkeep.JoinOptions
	MirrorOptions  = upkeep.MirrorOptions
	Mirrored       = upkeep.Mirrored
	ReclaimOptions = upkeep.ReclaimOptions
	Reclaimed      = upkeep.Reclaimed
	Retired        = upkeep.Retired
	ScrubOptions   = upkeep.ScrubOptions
	ScrubReport    = upkeep.ScrubReport
	Share          = upkeep.Share
	Usage          = upkeep.Usage
)

// The constants of a store.
const (
	// Of package catalog.
	RunCapture     = catalog.RunCapture
	RunDiffers     = catalog.RunDiffers
	RunDone        = catalog.RunDone
	RunFailed      = catalog.RunFailed
	RunIncomplete  = catalog.RunIncomplete
	RunInterrupted = catalog.RunInterrupted
	RunKilled      = catalog.RunKilled
	RunRefused     = catalog.RunRefused
	RunRestore     = catalog.RunRestore
	RunUndo        = catalog.RunUndo
	RunRetention   = catalog.RunRetention
	RunMirror      = catalog.RunMirror
	RunDrill       = catalog.RunDrill
	RunScrub       = catalog.RunScrub
	RunSnapshot    = catalog.RunSnapshot
	RunVerify      = catalog.RunVerify
	FoundSound     = catalog.FoundSound
	FoundDiffers   = catalog.FoundDiffers
	FoundDamaged   = catalog.FoundDamaged
	FoundNotProven = catalog.FoundNotProven
	RunLend        = catalog.RunLend
	RunLendEnd     = catalog.RunLendEnd
	// Of package sealed.
	ClockTolerance = sealed.ClockTolerance
	CompressAuto   = sealed.CompressAuto
	CompressFast   = sealed.CompressFast
	CompressSmall  = sealed.CompressSmall
	FormatVersion  = sealed.FormatVersion
	Read           = sealed.Read
	Write          = sealed.Write
)

// The errors of a store.
var (
	// Of package catalog.
	ErrNoPoint  = catalog.ErrNoPoint
	ErrRunEnded = catalog.ErrRunEnded
	ErrThere    = catalog.ErrThere
	RunKinds    = catalog.RunKinds
	// Of package sealed.
	ErrCondemned       = catalog.ErrCondemned
	ErrDamaged         = sealed.ErrDamaged
	ErrHeld            = sealed.ErrHeld
	ErrLapsed          = sealed.ErrLapsed
	ErrMissing         = sealed.ErrMissing
	ErrNoKey           = sealed.ErrNoKey
	ErrNoStore         = sealed.ErrNoStore
	ErrPlain           = sealed.ErrPlain
	ErrUnexpectedStore = sealed.ErrUnexpectedStore
	ErrReplaced        = sealed.ErrReplaced
	ErrSpent           = sealed.ErrSpent
	ErrBadHolder       = sealed.ErrBadHolder
	ErrStoreExists     = sealed.ErrStoreExists
	ErrTooNew          = sealed.ErrTooNew
	ErrWriteOnly       = sealed.ErrWriteOnly
	ErrNotKept         = upkeep.ErrNotKept
	ErrWrongKey        = sealed.ErrWrongKey
	// Of package upkeep.
	ErrOtherStore  = upkeep.ErrOtherStore
	ErrUnexplained = upkeep.ErrUnexplained
)

// The functions that need no open store.
var (
	// Of package catalog.
	NewPointID = catalog.NewPointID
	Newest     = catalog.Newest
	// Of package sealed.
	CheckPlace  = sealed.CheckPlace
	Probe       = sealed.Probe
	ClockError  = sealed.ClockError
	Create      = sealed.Create
	HolderOf    = sealed.HolderOf
	NewHolder   = sealed.NewHolder
	NewMemo     = sealed.NewMemo
	NewSecret   = sealed.NewSecret
	ParseSecret = sealed.ParseSecret
)

// DroppedFor is for how long retired points can be brought back.
const DroppedFor = upkeep.DroppedFor

// CheckClusterName refuses cluster names under which a store could not keep points and
// protective points.
func CheckClusterName(name string) error {
	const longest = 64 - len(KeptSuffix)
	if len(name) > longest {
		return fmt.Errorf("cluster name %q: use up to %d letters, digits, '-', '_' and '.'", name, longest)
	}
	if strings.HasSuffix(name, KeptSuffix) {
		return fmt.Errorf("cluster name %q: names that end in %s are of what restores keep", name, KeptSuffix)
	}
	return sealed.CheckClusterName(name)
}
