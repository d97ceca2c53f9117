// Package files reads and writes folders of one machine, exactly: names as bytes, times
// in nanoseconds, hard links, holes, extended attributes. No path leads out of a folder,
// whatever links are in it.
//
//	files.go       what a file is, the Host that gives access
//	rules.go       which files are chosen
//	walk.go        what there is, in order
//	read.go        what is in it
//	write.go       a stage that is filled
//	publish.go     a stage takes its name
//	inuse.go       who has files open
package files

import (
	"context"
	"errors"
	"os"
)

// Errors of this package.
var (
	// ErrNoFolder is returned when there is no folder of the name.
	ErrNoFolder = errors.New("there is no such folder")
	// ErrChanged is returned when a file is not what it was when it was listed.
	ErrChanged = errors.New("it changed while it was read")
	// ErrOccupied is returned when something has the name that a stage is to have.
	ErrOccupied = errors.New("it is there already")
	// ErrNoExchange is returned when a folder cannot give its place to another one, as
	// something is mounted there, or the folder around it may not be written to.
	ErrNoExchange = errors.New("its place cannot be given to another folder")
	// ErrPlatform is returned on machines of a kind whose folders cannot be read exactly.
	ErrPlatform = errors.New("folders are read and written on Linux only")
)

// PieceSize is how many bytes of a file are read and kept as one, from multiples of it on.
const PieceSize = 1 << 20

// Kind describes what a file is.
type Kind byte

// The kinds of files. Their values are part of what is stored.
const (
	Regular Kind = 'f'
	Folder  Kind = 'd'
	Symlink Kind = 'l'
	Pipe    Kind = 'p'
	Socket  Kind = 's'
	Device  Kind = 'b'
)

// String names the kind for people.
func (k Kind) String() string {
	switch k {
	case Regular:
		return "file"
	case Folder:
		return "folder"
	case Symlink:
		return "link"
	case Pipe:
		return "pipe"
	case Socket:
		return "socket"
	}
	return "device"
}

// Entry is a file as it is listed.
type Entry struct {
	Path  string // bytes, from the folder on; empty of the folder itself
	Kind  Kind
	Mode  uint32 // the lowest 12 bits
	UID   uint32
	GID   uint32
	Size  int64 // of regular files
	MTime int64 // nanoseconds since 1970
	CTime int64 // likewise
	Dev   uint64
	Ino   uint64
	Links uint64
	Born  int64 // when it was made, in nanoseconds since 1970; of Stat, where it is known
	// Failed says why it could not be looked at; the rest is not known then.
	Failed string
}

// Same reports whether two listings show no sign of a change between them.
func (e *Entry) Same(o *Entry) bool {
	return e.Kind == o.Kind && e.Size == o.Size && e.MTime == o.MTime && e.CTime == o.CTime && e.Ino == o.Ino
}

// Attribute is an extended attribute.
type Attribute struct{ Name, Value string }

// Content is what is read of a file besides its listing.
type Content struct {
	Entry      Entry // as it was when it was opened
	Target     string
	Attributes []Attribute
	// Sparse: not all of it takes room on the disk.
	Sparse bool
	// Data is the content of a regular file of at most Inline bytes.
	Data []byte
	// Handle, where not zero, is the file, open.
	Handle uint64
	// Changed: it was written to while Data was read.
	Changed bool
}

// Inline is the largest file in bytes that is read with its listing.
const Inline = 64 << 10

// Usage is a process that has files of a folder open.
type Usage struct {
	PID     int
	Command string
	Path    string // one of them
	// Locked: it is a lock, which no process needs to hold.
	Locked bool
}

// Support is what a place on a machine can do.
type Support struct {
	Clone    bool // of files, without copying
	Owners   bool // they may be given away
	Xattrs   bool // of users; without them none are kept
	Holes    bool
	UID, GID uint32 // of who writes
	Writable bool
	Free     int64 // bytes
}

// Host gives access to folders of one machine. Methods may be called at the same time
// from several goroutines. Roots are absolute paths.
type Host interface {
	// Walk lists a folder: each file's entry in order of path and a zero byte, in batches
	// that are valid until fn returns. [ErrNoFolder] is returned where there is none.
	Walk(ctx context.Context, root string, r Rules, fn func([]Entry) error) error
	// Read opens a file. [ErrChanged] is returned when it is not the one that was listed.
	Read(ctx context.Context, root string, e Entry) (Content, error)
	// Pieces lists at most so many offsets of an open file's pieces that have content, from
	// one on, and where to go on; next is -1 at the end.
	Pieces(ctx context.Context, handle uint64, from int64, most int) (offsets []int64, next int64, err error)
	// ReadAt reads at most n bytes of an open file.
	ReadAt(ctx context.Context, handle uint64, off int64, n int) ([]byte, error)
	// StatFile lists an open file, without its path.
	StatFile(ctx context.Context, handle uint64) (Entry, error)
	CloseFile(handle uint64) error
	// Stat lists one file as Walk does.
	Stat(ctx context.Context, root, path string) (Entry, error)
	// Folders lists the folders in one but Dexamen's own, Hidden those.
	Folders(ctx context.Context, root string) ([]string, error)
	Hidden(ctx context.Context, root string) ([]string, error)
	// Clone makes a clone of what rules choose of a folder, which shares its blocks, and
	// lists what it cloned.
	Clone(ctx context.Context, root, to string, r Rules, fn func([]Entry) error) error
	// Supports tries out what can be done where a folder of the path is, or would be.
	Supports(ctx context.Context, root string) (Support, error)
	// InUse lists processes that have files of a folder open. Blind says that there are
	// some that may not be looked at.
	InUse(ctx context.Context, root string) (used []Usage, blind bool, err error)
	// Clock returns the machine's time in nanoseconds since 1970, and what system it is.
	Clock(ctx context.Context) (now int64, system string, err error)
	// Resolve returns the path of a folder without links; as it is where it is not there.
	Resolve(ctx context.Context, path string) (string, error)

	// Write writes into a stage: records of this package's form, in order of their keys,
	// one call after the other. Finish ends it: times and modes of folders, hard links.
	Write(ctx context.Context, stage string, recs [][]byte) error
	Finish(ctx context.Context, stage string) error
	// Describe sets what describes a folder itself.
	Describe(ctx context.Context, root string, it Item) error
	// Make makes an empty folder. [ErrOccupied] is returned where something is there.
	Make(ctx context.Context, path string) error
	// Publish makes a stage the folder of a name, by one rename where the kernel offers
	// it; else it returns for how long the name was not there, in nanoseconds. What had the
	// name is gone, if replace allows that. [ErrNoExchange] is returned when nothing was changed.
	Publish(ctx context.Context, stage, to string, replace bool) (without int64, err error)
	// Remove removes a folder and all in it. Empty removes all that is in it.
	Remove(ctx context.Context, path string) error
	Empty(ctx context.Context, path string) error

	// Note reads a small file beside folders; empty where there is none. SwapNote puts
	// now where was is, in one step; empty stands for none.
	Note(ctx context.Context, path string) (string, error)
	SwapNote(ctx context.Context, path, was, now string) (bool, error)

	// Run runs a command, as elevated as the Host is, and returns what it printed.
	Run(ctx context.Context, command []string, env []string) (string, error)
	// StandBy has the host run a command should this connection break or the time be over
	// before it is told that all is well, by its id.
	StandBy(ctx context.Context, id string, command, env []string, longest int64) error
	// Relieve tells that all is well. It reports whether the command has run.
	Relieve(ctx context.Context, id string) (ran bool, err error)
	Close() error
}

// notThere reports whether an error says that a file is not there.
func notThere(err error) bool { return errors.Is(err, os.ErrNotExist) }
