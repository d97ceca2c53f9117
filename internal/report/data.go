// Package report shows how clusters are protected to people who do not run the program: one HTML file that
// needs nothing else, its tables as CSV, and charts as pictures.
//
//	data.go      Data: what is shown
//	page.go      HTML: the file; page.html and page.css are its form
//	live.go      Live: pages of a daemon that is at work
//	ribbon.go    which moments can be restored, as a picture
//	chart.go     lines over time
//	picture.go   charts and ribbons as files
//	table.go     CSV
package report

import "time"

// Data is what a report shows. Times that are zero are of things that never were. Durations are in
// seconds, sizes in bytes.
type Data struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
	Host string    `json:"host"`
	Tool string    `json:"tool"`
	Well bool      `json:"well"`
	// Live: it is shown while the daemon is at work, and not kept as a report.
	Live bool `json:"-"`
	// Clusters are those that a policy protects, by name.
	Clusters []*Cluster `json:"clusters"`
	Stores   []*Store   `json:"stores"`
	// Left is what is not protected, and why.
	Left     []Left      `json:"not_protected"`
	Alerts   []Alert     `json:"alerts"`
	Evidence []Statement `json:"evidence"`
	// Key names the key of this installation's evidence; Faults are what is wrong with what is in the stores.
	Key    string   `json:"key,omitempty"`
	Faults []string `json:"evidence_faults,omitempty"`
}

// Cluster is how a cluster is protected by a policy.
type Cluster struct {
	Name   string `json:"name"`
	Policy string `json:"policy"`
	Store  string `json:"store"`
	// Error is why nothing is known of it.
	Error   string    `json:"error,omitempty"`
	Newest  time.Time `json:"newest,omitzero"` // moment that can be restored
	Point   time.Time `json:"point,omitzero"`  // the last one
	Points  int       `json:"points"`
	Records int64     `json:"records"`
	Bytes   int64     `json:"bytes"`
	// Promised is how old the newest moment may be; zero where nothing is promised. Known is for how much of
	// the time it is known whether that was kept, Broken for how long it was not.
	Promised float64   `json:"promised_seconds"`
	Known    float64   `json:"known_seconds"`
	Broken   float64   `json:"broken_seconds"`
	Proof    time.Time `json:"proof,omitzero"`
	// ProofGood: the log led to what the cluster held.
	ProofGood bool   `json:"proof_good"`
	Drill     *Drill `json:"drill,omitempty"`
	// DrillFailed is why the last drill was no success; empty where it was.
	DrillFailed string `json:"drill_failed,omitempty"`
	// Stretches are those in which every moment can be restored; Times are of points.
	Stretches [][2]time.Time `json:"stretches"`
	Times     []time.Time    `json:"points_at"`
	Gaps      []Gap          `json:"gaps,omitempty"`
	Grown     []Sample       `json:"grown"`     // bytes that were added to the store, by day
	Durations []Sample       `json:"durations"` // of snapshots, in seconds
	// Lag is how old the newest moment was when a capture or a snapshot ended, in seconds.
	Lag    []Sample `json:"lag"`
	Kept   []Reason `json:"kept"`
	Alerts int      `json:"alerts"`
}

// Met is the share of the time in which the promise was kept; ok is false where that is not known.
func (c *Cluster) Met() (share float64, ok bool) {
	if c.Promised <= 0 || c.Known <= 0 {
		return 0, false
	}
	return 1 - c.Broken/c.Known, true
}

// Drill is a rehearsed restore that went well.
type Drill struct {
	Time        time.Time `json:"time"`
	FirstAnswer float64   `json:"first_answer_seconds"`
	Recovery    float64   `json:"recovery_seconds"`
	Age         float64   `json:"age_seconds"` // of the newest moment then
}

// Gap is a stretch of which no moment can be restored, and why.
type Gap struct {
	From   time.Time `json:"from"`
	To     time.Time `json:"to"`
	Reason string    `json:"reason"`
}

// Reason is why some points stay.
type Reason struct {
	Text   string `json:"text"`
	Points int    `json:"points"`
}

// Store is how a store is.
type Store struct {
	Name  string    `json:"name"`
	Error string    `json:"error,omitempty"`
	Used  int64     `json:"used_bytes"`
	Free  int64     `json:"free_bytes"`                // -1 where it is not known
	Days  float64   `json:"days_until_full,omitempty"` // zero where it does not grow
	Scrub time.Time `json:"scrub,omitzero"`            // when all of it was last read and found well
}

// Left is something that is not protected.
type Left struct {
	What   string `json:"what"`
	Reason string `json:"reason"`
}

// Alert is something that is amiss.
type Alert struct {
	Since time.Time `json:"since"`
	About string    `json:"about"`
	Text  string    `json:"text"`
	Do    string    `json:"do,omitempty"`
}

// Statement is one of the signed statements of the time.
type Statement struct {
	Number   int64     `json:"number"`
	Store    string    `json:"store"`
	Ended    time.Time `json:"finished"`
	Kind     string    `json:"kind"`
	Cluster  string    `json:"cluster,omitempty"`
	Moment   time.Time `json:"moment,omitzero"`
	Target   string    `json:"target,omitempty"`
	Result   string    `json:"result"`
	Took     float64   `json:"took_seconds"`
	Recovery float64   `json:"recovery_seconds,omitempty"`
}
