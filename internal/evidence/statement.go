// Package evidence keeps what restores, drills, verifications and scrubs found as signed
// statements, each of which names the one before: a byte that was changed, or a statement that
// was taken away, is found without the store and without trusting whoever kept the file.
//
//	statement.go  Statement: what is said of a run
//	token.go      a statement as a line: a JSON Web Signature (RFC 7515) with Ed25519 (RFC 8037)
//	check.go      Check: a file of lines is unbroken and unchanged
//	book.go       Book: the statements of one installation in a store
//	key.go        the key of an installation
//
// docs/reference/evidence.md describes the form, with test vectors.
package evidence

import (
	"time"

	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/core/tree"
)

// Format is the version of the form of statements.
const Format = 1

// KindEnd is the kind of the last line of a file: it says how many statements each chain has.
const KindEnd = "end"

// Kinds are the kinds of runs that leave a statement.
var Kinds = []string{store.RunDrill, store.RunRestore, store.RunUndo, store.RunVerify, store.RunScrub}

// Statement is what an installation says of one run. Roots are BLAKE3 tree roots as
// docs/reference/format.md describes them; durations are in seconds, sizes in bytes.
type Statement struct {
	Format int `json:"format"`
	// Store and Number name the statement: each installation counts from 1 in each store.
	// Previous is the SHA-256 of the line before, in hexadecimal; empty of the first.
	Store    string    `json:"store"`
	Number   int64     `json:"number,omitempty"`
	Previous string    `json:"previous,omitempty"`
	Written  time.Time `json:"written"`

	Kind     string    `json:"kind"`
	Run      string    `json:"run,omitempty"`
	Cluster  string    `json:"cluster,omitempty"`
	Policy   string    `json:"policy,omitempty"`
	Started  time.Time `json:"started,omitzero"`
	Finished time.Time `json:"finished,omitzero"`
	Result   string    `json:"result,omitempty"`
	Error    string    `json:"error,omitempty"`
	// Point and Moment are what was restored or looked at, Target the cluster it was put on.
	Point      string             `json:"point,omitempty"`
	Moment     time.Time          `json:"moment,omitzero"`
	Target     string             `json:"target,omitempty"`
	Namespaces []Namespace        `json:"namespaces,omitempty"`
	Records    int64              `json:"records,omitempty"`
	Bytes      int64              `json:"bytes,omitempty"`
	Verdicts   []store.RunVerdict `json:"verdicts,omitempty"`
	Drill      *store.Rehearsal   `json:"drill,omitempty"`

	Tool string `json:"tool,omitempty"`
	Host string `json:"host,omitempty"`
	User string `json:"user,omitempty"`

	// Key is the thumbprint of the key that signed it; it is read from the signature and not part of what
	// is signed.
	Key string `json:"key,omitempty"`

	// Chains are, in the last line of a file, what each chain in it holds.
	Chains []ChainEnd `json:"chains,omitempty"`
}

// Namespace is what was put back of one namespace. Root is of the content that was read back from
// the target, and found equal to what was there at the moment; zero where it was not.
type Namespace struct {
	From    string    `json:"from"`
	To      string    `json:"to"`
	Records int64     `json:"records"`
	Bytes   int64     `json:"bytes"`
	Root    tree.Hash `json:"root,omitzero"`
}

// ChainEnd says how far a chain goes: so that nothing is missing at its end.
type ChainEnd struct {
	Key    string `json:"key"` // that signed it
	Store  string `json:"store"`
	Number int64  `json:"number"` // of the last statement
	Last   string `json:"last"`   // the SHA-256 of its line
}

// Of returns what is to be said of a run that has ended.
func Of(r *store.Run) Statement {
	s := Statement{Kind: r.Kind, Run: r.ID, Cluster: r.Cluster, Policy: r.Policy, Started: r.Started,
		Finished: r.Finished, Result: r.Result, Error: r.Error, Point: r.Point, Moment: r.To, Target: r.Target,
		Records: r.Records, Bytes: r.Bytes, Verdicts: r.Verdicts, Drill: r.Drill, Tool: r.Tool, Host: r.Host,
		User: r.User}
	for _, n := range r.Restored {
		s.Namespaces = append(s.Namespaces, Namespace{From: n.From, To: n.To, Records: n.Records, Bytes: n.Bytes,
			Root: n.Root})
	}
	return s
}

// Took is how long the run lasted.
func (s *Statement) Took() record.Seconds { return record.Seconds(s.Finished.Sub(s.Started)) }
