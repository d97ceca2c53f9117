package engine

import (
	"context"
	"time"

	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
)

// Driver makes connections and knows what changes and records mean.
type Driver interface {
	// Open connects. The address has one of the schemes the driver was
	// registered for.
	Open(ctx context.Context, t Target) (Cluster, error)
	// Model returns the meaning of changes.
	Model() Model
}

// Model is what an engine knows of its records without a server.
type Model interface {
	fold.Model
	// Traits returns what is peculiar to the engine's logs and namespaces.
	Traits() Traits
	// CheckChange returns an error when a change has a form that cannot be applied
	// to any record. It is called when the change is captured, so that a log that
	// cannot be carried out is not found out when it is needed.
	CheckChange(c *record.Change) error
	// Kind returns the kind of a namespace by its name, as far as the name tells:
	// "settings", "layout" and "support" are no content.
	Kind(namespace string) record.Kind
	// Staged reports whether a name is that of a stage, in which a restore gathers
	// content before it takes its own name.
	Staged(name string) bool
	// CheckName returns an error when a namespace cannot have this name.
	CheckName(name string) error
	// Label names a record for people, from its value (or the value of a
	// Delete change).
	Label(value []byte) string
	// Render returns a record in an open text form of one line.
	Render(value []byte) string
	// Changes returns what differs between two values of one record, a short line
	// a field.
	Changes(a, b []byte) []string
	// Describe returns a definition as short lines for people: options, then
	// one line an index.
	Describe(def []byte) []string
	// Portable returns a definition without what differs between clusters
	// though it means the same, for comparing.
	Portable(def []byte) []byte
	// FormatPosition returns a position as people write it; ParsePosition reads one.
	FormatPosition(p record.Position) string
	ParsePosition(s string) (record.Position, error)
}

// Traits are what is peculiar to an engine's logs and namespaces.
type Traits struct {
	// Commands is set when the log holds commands ([record.Command]), which only a
	// server can carry out: moments after a point are made by replaying them.
	Commands bool
	// ShardClocks is set when positions of different shards cannot be compared: a
	// moment of all shards is a time then.
	ShardClocks bool
	// DropsEmpty is set when a namespace without records does not exist.
	DropsEmpty bool
	// Incremental is set when pinned views of the clusters are [Incremental].
	Incremental bool
	// SettingsFirst is set when content may need what is set for the whole cluster: it
	// is put back first.
	SettingsFirst bool
	// Grouped is set when differences are told by groups ([Grouper]): of a file, say, and
	// not of its pieces. The first record of a group is there as long as it is.
	Grouped bool
	// Unlogged are the kinds of namespaces whose changes are not in the log: they are
	// known only as of points that were read from the cluster.
	Unlogged []record.Kind
	// ServedAs is the address, with %s for HOST:PORT, by which the driver reads a moment that is
	// served over the cluster's own protocol; empty where it needs more than what is answered.
	ServedAs string
}

// Expiring is a Model of records that servers drop by themselves.
type Expiring interface {
	Model
	// Expires returns when a record expires; does is false when it does not. A zero
	// time means that it is not known beforehand.
	Expires(value []byte) (at time.Time, does bool)
}

// Deferring is a Model of records that must not expire while a log is carried
// out on them.
type Deferring interface {
	Expiring
	// Defer returns the value with its expiry moved to a time far away;
	// Replayer.RestoreExpiries undoes that on a server, and Resume on a value.
	Defer(value []byte) []byte
	// Resume returns the value as it was before Defer.
	Resume(value []byte) []byte
	// StripNondeterministic returns a value without the fields that may differ
	// between replicas of one server: replaying a log does not reproduce them.
	StripNondeterministic(value []byte) []byte
	// NondeterminismReason returns why replaying a log of servers of this version may
	// give other expiries than they had; empty when it gives the same.
	NondeterminismReason(version string) string
}

// RestoreRewriter is a Model of records that a restore may have to write otherwise
// than they were, as its driver's [RestoreChooser] offers.
type RestoreRewriter interface {
	Model
	// RewriteForRestore returns what is written for a record's value; keep false
	// leaves the record out. Where it is changed or left out, note says so for
	// people, after a count of records ("bound to a lease, restored without it").
	// It returns the value as it is where nothing was chosen.
	RewriteForRestore(chosen map[string]string, value []byte) (out []byte, keep bool, note string)
}

// Grouper is a Model in which one thing of the database (a large list, say) may be
// kept as several records.
type Grouper interface {
	Model
	// GroupPrefix returns the beginning of a record's key that all records of one thing
	// share, and no others.
	GroupPrefix(key []byte) []byte
}

// CrossNamespace is a Model of logs of which some entries concern more than a namespace.
type CrossNamespace interface {
	Model
	// CrossesNamespaces reports whether entries logged under this name may concern
	// other namespaces.
	CrossesNamespaces(namespace string) bool
	// Concerned returns the namespaces of the records that such an entry names, cut as the
	// known ones are; none where it names no record.
	Concerned(c *record.Change, known []string) []string
}

// ShardedModel is a Model of clusters whose namespaces are spread over shards. Where
// content is, the namespaces of kind "layout" say, if there are any.
type ShardedModel interface {
	Model
	// Layout reads where content was at a moment. Now gives the values of a
	// layout namespace at the moment, before those it had at any time between
	// the point and the moment.
	Layout(now, before func(namespace string, fn func(value []byte) error) error) (Layout, error)
}

// Layout describes where content was at a moment.
type Layout interface {
	// Part returns which records of a shard's namespace are content.
	Part(shard string, ns record.Namespace) Part
	// Define adds to a namespace's definition how it is spread.
	Define(ns record.Namespace) ([]byte, error)
}

// Part is what a shard holds of a namespace, as far as it is content.
type Part struct {
	// Name is what the namespace is called; a shard may call it otherwise while
	// it is being renamed.
	Name string
	// None is set when nothing of it is content: it was left by a migration.
	None bool
	// Keep, where set, says which records count; the others were left by a
	// migration, or come by one that has not ended.
	Keep func(value []byte) (bool, error)
	// Leads is set when its definition is the namespace's.
	Leads bool
}

// CertificateLister is a Driver whose servers show certificates.
type CertificateLister interface {
	Driver
	// Certificates asks every server that can be found for its certificate. It
	// sends no credentials.
	Certificates(ctx context.Context, t Target) ([]Certificate, error)
}

// HostKeyLister is a CertificateLister whose machines show host keys, with or without TLS.
type HostKeyLister interface {
	CertificateLister
	// HasHostKeys reports whether a target's machines show any.
	HasHostKeys(t Target) bool
}

// Granter is a Driver that knows the least privileges its work needs.
type Granter interface {
	Driver
	// Grants returns the statements that make the roles and the user, for the
	// servers' own shell: for protecting, and with restore set also for that.
	Grants(t Target, restore bool) string
}

// SecretLogin is a Driver of servers that may ask for a secret without asking whose it is.
type SecretLogin interface {
	Driver
	// LogsInBySecret reports whether a login may be a secret alone.
	LogsInBySecret() bool
}

// LogsInBySecret reports whether a login to servers of this kind may be a secret alone.
func LogsInBySecret(d Driver) bool {
	s, ok := d.(SecretLogin)
	return ok && s.LogsInBySecret()
}
