// Package engine is the contract between Dexamen and the databases it
// protects.
//
// It is shaped like database/sql/driver: adapters implement a small required
// interface, extras are optional interfaces found by type assertion, and each
// sentinel error says when it is returned. An adapter finds out at connect
// what a server lacks, says so in its Topology, and never assumes.
package engine

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"dexamen/internal/core/record"
)

// Errors of adapters, wrapped with the cluster and member concerned.
var (
	// ErrNoLog is returned when the server keeps no log: it can be snapshotted, not
	// captured.
	ErrNoLog = errors.New("the server keeps no log of changes")
	// ErrLogLost is returned when the log no longer holds what comes after the
	// position.
	ErrLogLost = errors.New("the server's log no longer reaches back that far")
	// ErrLogEnds is returned when what comes next in the log, which is there, cannot be carried
	// out; it can be taken up again at a new point.
	ErrLogEnds error = lostFor("the log cannot be carried out any further")
	// ErrOtherHistory is returned when the log is none that goes on from what was read: the
	// servers were put back from older copies, or made anew.
	ErrOtherHistory error = lostFor("the servers have another history than the one that was read")
	// ErrMoving is returned when content is being moved between shards, and may be read on both or
	// on neither.
	ErrMoving = errors.New("content is being moved between shards")
	// ErrNoMember is returned when no member of a shard is fit to be read.
	ErrNoMember = errors.New("no member is fit to be read")
	// ErrLogin is returned when the server refused the credentials.
	ErrLogin = errors.New("login refused")
	// ErrNotExclusive is returned when a scratch server cannot be locked for exclusive
	// use.
	ErrNotExclusive = errors.New("it cannot be used")
	// ErrInUse is returned when another process uses it now.
	ErrInUse = fmt.Errorf("%w now", ErrNotExclusive)
	// ErrOpen is returned when what is to be replaced is being used.
	ErrOpen = errors.New("a process has files of it open")
	// ErrUnreachable is returned when no server answered at the address.
	ErrUnreachable = errors.New("no server answers")
	// ErrMoved is returned when a namespace was renamed or dropped while it was read.
	ErrMoved = errors.New("the namespace was renamed or dropped meanwhile")
	// ErrStateGone is returned when the server no longer keeps the state that was
	// being read.
	ErrStateGone = errors.New("the server no longer keeps the state that was being read")
	// ErrReadAgain is returned when a member has failed, and what was read of a
	// namespace so far does not go with what another one would give.
	ErrReadAgain = errors.New("it must be read again from the start")
	// ErrNotContinued is returned when it cannot be told what has changed in a namespace
	// since it was read.
	ErrNotContinued = errors.New("what has changed since cannot be told")
	// ErrOutsideNamespaces is returned when a logged command reaches beyond the namespaces it is to be
	// carried out on.
	ErrOutsideNamespaces = errors.New("a command of the log reaches beyond what is being restored")
	// ErrNotReplaceable is returned when servers cannot put a namespace in the place
	// of another one in one step.
	ErrNotReplaceable = errors.New("it is there, and servers cannot replace it in one step")
	// ErrTooOld is returned by a server that is older than what Dexamen can work with.
	ErrTooOld = errors.New("the server is too old")
	// ErrSameKey is returned when a server holds that two records to be written have one key.
	ErrSameKey = errors.New("the server lets no two records have one key")
	// ErrNoRename is returned when a server refuses to give a stage the name it
	// is to have.
	ErrNoRename = errors.New("the server refuses to rename to it")
	// ErrStopFollowing is returned by a Follow callback to end following.
	ErrStopFollowing = errors.New("enough")
)

// Target is a cluster to connect to.
type Target struct {
	Name    string
	Address string // with the engine's URI scheme, without credentials
	User    string
	Secret  string
	// ByCertificate: the client's certificate is the login (X.509).
	ByCertificate bool
	// AuthDatabase is the database that holds the user; "admin" when empty.
	AuthDatabase string
	TLS          TLS
	// Prefer lists members to read from: addresses, or the roles secondary
	// and primary; the first that is fit is taken.
	Prefer []string
	// Settings: users and roles belong to what is protected.
	Settings bool
	// Options are what only clusters of this engine can be told, as the driver's
	// [OptionLister] lists them.
	Options map[string]any
	// Quiesce, where set, is how what writes to it is held still while it is copied.
	Quiesce *Quiesce
	// Proved, where set, returns what trials have shown of a cluster with servers of a version: whether what each
	// assumes holds, by its ID. What was not tried is not in it.
	Proved func(identity, version string) map[string]bool `json:"-"`
	// MaxLag is how far behind a member may be to be read (default 1m).
	MaxLag time.Duration
	Log    *slog.Logger `json:"-"`
}

// TLS describes how to speak TLS.
type TLS struct {
	On                bool
	CAFile            string
	ClientCertificate string // PEM file with certificate and key
	// Pins are fingerprints as Fingerprint gives them: where there are any,
	// certificates of these are taken, and no others.
	Pins []string
}

// Fingerprint names a certificate: sha256: and the hash of its DER form.
func Fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	return "sha256:" + hex.EncodeToString(sum[:])
}

// Certificate is what a server shows of itself.
type Certificate struct {
	Address     string    `json:"address"`
	Fingerprint string    `json:"fingerprint"`
	Subject     string    `json:"subject"`
	Issuer      string    `json:"issuer"`
	From        time.Time `json:"from"`
	Until       time.Time `json:"until"`
	Names       []string  `json:"names"`
}

// Member is one server of a shard.
type Member struct {
	Address string `json:"address"`
	// Role is "primary", "secondary", "arbiter", "standalone", or what the
	// servers call it.
	Role    string        `json:"role"`
	Healthy bool          `json:"healthy"`
	Lag     time.Duration `json:"-"` // behind the primary
	Version string        `json:"version,omitempty"`
	Note    string        `json:"note,omitempty"` // hidden, delayed, why unhealthy
	// CutOff says that it answers, and reaches no majority of its set: what it
	// takes may be rolled back, and what others do it does not hear of.
	CutOff bool `json:"cut_off,omitempty"`
}

// LogWindow is the stretch of its log that a shard's server still holds.
type LogWindow struct {
	First record.Mark `json:"first"`
	Last  record.Mark `json:"last"`
	// Marked: the log can be taken up only at positions that were read from it
	// or are those of points, not wherever it begins.
	Marked bool `json:"-"`
	// Size and Max are in bytes; zero when not known.
	Size int64 `json:"size"`
	Max  int64 `json:"max"`
}

// Shard is a part of a cluster with a log of its own.
type Shard struct {
	Name    string     `json:"name"`
	Members []Member   `json:"members"`
	Log     *LogWindow `json:"log,omitempty"` // nil when there is none
	// Layout: it holds no content, but where content is, and settings.
	Layout bool `json:"layout,omitempty"`
}

// Limitation is something a server cannot do, and what follows from it.
type Limitation struct {
	What        string `json:"what"`
	Consequence string `json:"consequence"`
}

// Topology is what discovery finds.
type Topology struct {
	Engine string `json:"engine"`
	Kind   string `json:"kind"` // "replica set", "lone server"
	// Identity is the cluster's own name for itself.
	Identity string `json:"identity"`
	// ID is what the cluster was given when it was made, and no other has; empty
	// where it is not told.
	ID      string `json:"id,omitempty"`
	Version string `json:"version"`
	// Health is what the cluster says of itself as a whole; empty where it does not.
	Health string  `json:"health,omitempty"`
	Shards []Shard `json:"shards"`
	// Routers give applications access to a sharded cluster.
	Routers     []Member     `json:"routers,omitempty"`
	Limitations []Limitation `json:"limitations,omitempty"`
	// Settings: users and roles are listed among the namespaces.
	Settings bool `json:"settings,omitempty"`
	// Exact: it is read as of one position, so that nothing done meanwhile is
	// in it.
	Exact bool `json:"exact,omitempty"`
	// HidesDrops: the log does not tell of drops, renames and index changes.
	HidesDrops bool `json:"hides_drops,omitempty"`
}

// lostFor is a kind of [ErrLogLost] that says otherwise.
type lostFor string

func (l lostFor) Error() string { return string(l) }

func (lostFor) Unwrap() error { return ErrLogLost }

// MarshalJSON implements [json.Marshaler].
func (m Member) MarshalJSON() ([]byte, error) {
	type plain Member
	return json.Marshal(struct {
		plain
		Lag record.Seconds `json:"lag_seconds"`
	}{plain(m), record.Seconds(m.Lag)})
}
