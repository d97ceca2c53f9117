// Package engine is the contract between Dexamen and the databases it
// protects.
//
// It is shaped like database/sql/driver: adapters implement a small required
// interface, extras are optional interfaces found by type assertion, and each
// sentinel error says when it is returned. An adapter finds out at connect
// what a server lacks, says so in its Topology, and never assumes.
package engine

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"slices"
	"sort"
	"strings"
	"time"

	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
)

// Errors of adapters, wrapped with the cluster and member concerned.
var (
	// ErrNoLog: the server keeps no log; it can be snapshotted, not captured.
	ErrNoLog = errors.New("the server keeps no log of changes")
	// ErrLogLost: the log no longer holds what comes after the position.
	ErrLogLost = errors.New("the server's log no longer reaches back that far")
	// ErrNoMember: no member of a shard is fit to be read.
	ErrNoMember = errors.New("no member is fit to be read")
	// ErrLogin: the server refused the credentials.
	ErrLogin = errors.New("login refused")
	// ErrUnreachable: no server answered at the address.
	ErrUnreachable = errors.New("no server answers")
	// ErrMoved: a namespace was renamed or dropped while it was being read.
	ErrMoved = errors.New("the namespace was renamed or dropped meanwhile")
	// ErrEnough is returned by a Follow callback to end following.
	ErrEnough = errors.New("enough")
)

// Target is a cluster to connect to.
type Target struct {
	Name    string
	Address string // with the engine's URI scheme, without credentials
	User    string
	Secret  string
	// ByCertificate: the client's certificate is the login (X.509).
	ByCertificate bool
	// AuthSource is the database that holds the user; "admin" when empty.
	AuthSource string
	TLS        TLS
	// Prefer lists members to read from: addresses, or the roles secondary
	// and primary; the first that is fit is taken.
	Prefer []string
	// Settings: users and roles belong to what is protected.
	Settings bool
	// MaxLag is how far behind a member may be to be read (default 1m).
	MaxLag time.Duration
	Log    *slog.Logger
}

// TLS says how to speak TLS.
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

// Shower is a Driver whose servers show certificates.
type Shower interface {
	Driver
	// Certificates asks every server that can be found for its certificate. It
	// sends no credentials.
	Certificates(ctx context.Context, t Target) ([]Certificate, error)
}

// Granter is a Driver that knows the least privileges its work needs.
type Granter interface {
	Driver
	// Grants gives the statements that make the roles and the user, for the
	// servers' own shell: for protecting, and with restore set also for that.
	Grants(t Target, restore bool) string
}

// Checker is a Cluster that can try its privileges one by one.
type Checker interface {
	Cluster
	// Check tries on every member what the work needs, and reports each: err
	// nil where it works. What does not concern a member is not tried there.
	Check(ctx context.Context, report func(what string, err error, note string))
}

// Member is one server of a shard.
type Member struct {
	Address string `json:"address"`
	// Role is "primary", "secondary", "arbiter", "standalone" or what the
	// server calls any other state.
	Role    string        `json:"role"`
	Healthy bool          `json:"healthy"`
	Lag     time.Duration `json:"lag"` // behind the primary
	Version string        `json:"version,omitempty"`
	Note    string        `json:"note,omitempty"` // hidden, delayed, why unhealthy
	// CutOff says that it answers, and reaches no majority of its set: what it
	// takes may be rolled back, and what others do it does not hear of.
	CutOff bool `json:"cutOff,omitempty"`
}

// LogWindow is the stretch of its log that a shard's server still holds.
type LogWindow struct {
	First record.Mark `json:"first"`
	Last  record.Mark `json:"last"`
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

// Lack is something a server cannot do, and what follows from it.
type Lack struct {
	What        string `json:"what"`
	Consequence string `json:"consequence"`
}

// Topology is what discovery finds.
type Topology struct {
	Engine string `json:"engine"`
	Kind   string `json:"kind"` // "replica set", "lone server"
	// Identity is the cluster's own name for itself.
	Identity string  `json:"identity"`
	Version  string  `json:"version"`
	Shards   []Shard `json:"shards"`
	// Routers give applications access to a sharded cluster.
	Routers []Member `json:"routers,omitempty"`
	Lacks   []Lack   `json:"lacks,omitempty"`
	// Settings: users and roles are listed among the namespaces.
	Settings bool `json:"settings,omitempty"`
	// HidesDrops: the log does not tell of drops, renames and index changes.
	HidesDrops bool `json:"hides_drops,omitempty"`
}

// Namespace is what a live cluster says of a namespace.
type Namespace struct {
	record.Namespace
	Shard   string // that holds it; of a sharded namespace each shard has a part
	Records int64  // as the server estimates
	Bytes   int64
	// Skip, where set, is why Dexamen cannot protect it.
	Skip string
}

// Partition is a stretch of a namespace that is scanned by itself. The zero
// Partition is all of it.
type Partition struct {
	From, To any // engine's own key values; nil is open
}

// Choice is the member of a shard that is read, and why it.
type Choice struct {
	Shard  string
	Member Member
	Why    string
}

// Cluster is a connection to a cluster. Methods may be called at the same time
// from several goroutines.
type Cluster interface {
	// Topology asks every member anew.
	Topology(ctx context.Context) (*Topology, error)
	// Choose picks the member of a shard to read, by preference, health and
	// lag; later reads use it until it fails. ErrNoMember says why each was
	// refused.
	Choose(ctx context.Context, shard string) (Choice, error)
	// Namespaces lists what there is, with definitions, in order of names.
	Namespaces(ctx context.Context) ([]Namespace, error)
	// Partitions cuts a namespace into at most n stretches for scanning at
	// the same time, in key order.
	Partitions(ctx context.Context, ns Namespace, n int) ([]Partition, error)
	// Scan reads a partition, calling fn with each record; its bytes are
	// valid until fn returns. When a member fails the scan goes on at another
	// one after the last key, or from the beginning where the server has no
	// order to go by. ErrMoved: the namespace is not what was listed.
	Scan(ctx context.Context, ns Namespace, p Partition, fn func(record.Record) error) error
	// Writer gives access for restoring.
	Writer(ctx context.Context) (Writer, error)
	// Close ends the connection.
	Close() error
}

// Routed is a Cluster whose content is spread over shards.
type Routed interface {
	Cluster
	// Routed gives the cluster as applications see it: each namespace once,
	// wherever its records are. It is closed with the cluster it belongs to,
	// and is the cluster itself where nothing is spread.
	Routed() Cluster
}

// Whole gives a cluster as its applications see it.
func Whole(c Cluster) Cluster {
	if r, ok := c.(Routed); ok {
		return r.Routed()
	}
	return c
}

// Progress is told by Follow after each batch of changes.
type Progress struct {
	// Mark is the last position read and its time. Everything up to it has
	// been given to fn.
	Mark record.Mark
	// AtEnd: there was nothing further to read.
	AtEnd bool
}

// Logged is a Cluster with a log to follow.
type Logged interface {
	Cluster
	// LogEnd gives the newest position of a shard that cannot be rolled back.
	// Whatever was read from the cluster before the call is no newer.
	LogEnd(ctx context.Context, shard string) (record.Mark, error)
	// LogStart gives a position from which to follow a shard's log beside a
	// scan: what a read begun later may lack comes after it.
	LogStart(ctx context.Context, shard string) (record.Mark, error)
	// Follow reads a shard's log from just after a position, calling fn with
	// whole entries' changes, in order, and how far it got; without changes
	// now and then while nothing happens. It goes on until fn returns an
	// error; ErrEnough ends it without one. ErrLogLost: the position is no
	// longer there.
	Follow(ctx context.Context, shard string, after record.Position, fn func([]record.Change, Progress) error) error
	// LogMember gives the member whose log is being read.
	LogMember(shard string) string
}

// Nudger is a Logged that can make an idle shard's log go on.
type Nudger interface {
	// Nudge has a shard write an entry that changes nothing, at a time after
	// all positions that this connection has heard of from any shard. Where
	// that is not allowed or not possible the shard's own rhythm must do.
	Nudge(ctx context.Context, shard string) error
}

// Balanced is a Cluster that moves content between its shards by itself.
type Balanced interface {
	Cluster
	// Balancer tells whether it does so now.
	Balancer(ctx context.Context) (on bool, err error)
	// SetBalancer has it go on, or end with the move it is at.
	SetBalancer(ctx context.Context, on bool) error
}

// Writer puts content into a cluster. Content is written to a stage that no
// application sees, and becomes the namespace in one step.
type Writer interface {
	// Stage makes an empty stage for a namespace of this definition and gives
	// its name. Indexes are not built yet.
	Stage(ctx context.Context, ns record.Namespace) (stage record.Namespace, err error)
	// Write adds records to a stage, in any order. When it returns, they are
	// where they cannot be rolled back and Scan finds them.
	Write(ctx context.Context, stage string, recs []record.Record) error
	// Look gives a namespace as the cluster has it now.
	Look(ctx context.Context, name string) (record.Namespace, error)
	// Index builds what the definition asks for, besides what is there.
	Index(ctx context.Context, stage string, ns record.Namespace) error
	// Publish makes the stage the namespace of this name. Replace allows that
	// one of the name is there, which is then gone; without it that is an
	// error and nothing is changed.
	Publish(ctx context.Context, stage, name string, replace bool) error
	// Discard removes a stage.
	Discard(ctx context.Context, stage string) error
	// Stages lists stages, left behind by restores that were cut short.
	Stages(ctx context.Context) ([]string, error)
	// View makes a namespace that holds no records, in one step.
	View(ctx context.Context, ns record.Namespace, replace bool) error
}

// Did says what became of a setting.
type Did string

// What PutSetting does.
const (
	Made     Did = "made"     // there was none of the name
	Same     Did = "same"     // it was there already
	Kept     Did = "kept"     // another one of the name is there and stays
	Replaced Did = "replaced" // another one of the name was there
)

// SettingsWriter is a Writer that can put back users and roles.
type SettingsWriter interface {
	Writer
	// PutSetting puts one record of a settings namespace back; what else is
	// there stays as it is.
	PutSetting(ctx context.Context, ns record.Namespace, rec record.Record, replace bool) (Did, error)
}

// Driver makes connections and knows what changes and records mean.
type Driver interface {
	// Open connects. The address has one of the schemes the driver was
	// registered for.
	Open(ctx context.Context, t Target) (Cluster, error)
	// Model gives the meaning of changes.
	Model() Model
}

// Model is what an engine knows of its records without a server.
type Model interface {
	fold.Model
	// Kind tells the kind of a namespace by its name, as far as the name tells:
	// "settings" and "layout" are no content.
	Kind(namespace string) string
	// Label names a record for people, from its value (or the value of a
	// Delete change).
	Label(value []byte) string
	// Render gives a record in an open text form of one line.
	Render(value []byte) string
	// Changes says shortly what differs between two values of one record, a
	// field at a time.
	Changes(a, b []byte) []string
	// Describe gives a definition as short lines for people: options, then
	// one line an index.
	Describe(def []byte) []string
	// Portable gives a definition without what differs between clusters
	// though it means the same, for comparing.
	Portable(def []byte) []byte
	// FormatPosition and ParsePosition give positions as people write them.
	FormatPosition(p record.Position) string
	ParsePosition(s string) (record.Position, error)
}

// Spread is a Model of clusters whose namespaces are spread over shards with
// logs of one common clock. Where content is, the namespaces of kind "layout"
// say.
type Spread interface {
	Model
	// Layout reads where content was at a moment. Now gives the values of a
	// layout namespace at the moment, before those it had at any time between
	// the point and the moment.
	Layout(now, before func(namespace string, fn func(value []byte) error) error) (Layout, error)
}

// Layout says where content was at a moment.
type Layout interface {
	// Part judges what one shard has of a namespace.
	Part(shard string, ns record.Namespace) Part
	// Define adds to a namespace's definition how it is spread.
	Define(ns record.Namespace) ([]byte, error)
}

// Part is what a shard holds of a namespace, as far as it is content.
type Part struct {
	// Name is what the namespace is called; a shard may call it otherwise while
	// it is being renamed.
	Name string
	// None: it is a remainder of which nothing counts.
	None bool
	// Keep, where set, says which records count; the others were left by a
	// migration, or come by one that has not ended.
	Keep func(value []byte) (bool, error)
	// Leads: its definition is the namespace's.
	Leads bool
}

var drivers = map[string]struct {
	name string
	d    Driver
}{}

// Register makes a driver known under its name and URI schemes. It is called
// once per driver, before anything is opened.
func Register(name string, d Driver, schemes ...string) {
	for _, s := range schemes {
		drivers[s] = struct {
			name string
			d    Driver
		}{name, d}
	}
}

// ForAddress gives the driver for a connection address.
func ForAddress(address string) (name string, d Driver, err error) {
	scheme, _, ok := strings.Cut(address, "://")
	if e, found := drivers[scheme]; ok && found {
		return e.name, e.d, nil
	}
	var known []string
	for s := range drivers {
		known = append(known, s+"://")
	}
	sort.Strings(known)
	return "", nil, fmt.Errorf("address %q: begins with none of the known schemes: %s", Redact(address), strings.Join(known, ", "))
}

// ForName gives the driver of a name, as points keep it.
func ForName(name string) (Driver, error) {
	for _, e := range drivers {
		if e.name == name {
			return e.d, nil
		}
	}
	return nil, fmt.Errorf("this version of dexamen has no engine %q", name)
}

// Redact takes a password out of an address.
func Redact(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		scheme, rest, _ := strings.Cut(address, "://")
		if i := strings.LastIndexByte(rest, '@'); i >= 0 {
			rest = rest[i+1:]
		}
		return scheme + "://" + rest
	}
	return u.Redacted()
}

// Nearest gives the names most like one that does not exist, the likeliest
// first: at most n.
func Nearest(name string, all []string, n int) []string {
	type scored struct {
		name string
		d    int
	}
	var s []scored
	for _, a := range all {
		d := editDistance(strings.ToLower(name), strings.ToLower(a))
		if _, base, ok := strings.Cut(a, "."); ok {
			d = min(d, editDistance(strings.ToLower(name), strings.ToLower(base))+1)
		}
		if strings.Contains(strings.ToLower(a), strings.ToLower(name)) || strings.Contains(strings.ToLower(name), strings.ToLower(a)) {
			d = min(d, 2)
		}
		if d <= max(2, len(name)/4) {
			s = append(s, scored{a, d})
		}
	}
	slices.SortStableFunc(s, func(a, b scored) int {
		if a.d != b.d {
			return a.d - b.d
		}
		return strings.Compare(a.name, b.name)
	})
	var out []string
	for _, x := range s[:min(n, len(s))] {
		out = append(out, x.name)
	}
	return out
}

func editDistance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diag := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := diag
			if a[i-1] != b[j-1] {
				cost = 1 + min(diag, row[j], row[j-1])
			}
			diag, row[j] = row[j], cost
		}
	}
	return row[len(b)]
}
