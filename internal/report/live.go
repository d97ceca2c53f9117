package report

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"time"
)

//go:embed live.html
var liveHTML string

//go:embed live.js
var liveJS string

// CSS and JS are what the live pages load from beside them.
func CSS() string { return pageCSS }

// JS returns the script that renews a live page.
func JS() string { return liveJS }

// Live is a page of a daemon that is at work; one of Data, List, One and Note is set.
type Live struct {
	Title string
	Now   time.Time
	// Part is where what is shown can be had anew.
	Part  string
	Data  *Data
	Going []Going
	Crew  *Crew // nil where no work is shared
	List  *RunList
	One   *OneRun
	Note  string
}

// Going is a run that goes on. Rate is in bytes a second; it, Total and Left are zero where they are not known.
type Going struct {
	Key, Cluster, Kind, Step    string
	Since, Left                 time.Duration
	Records, Total, Bytes, Rate int64
}

// Crew is the processes that share work.
type Crew struct {
	Members []CrewMember
	Jobs    []CrewJob
	Limits  []string
	// Elsewhere is how many clusters other daemons see to.
	Elsewhere int64
	Note      string // why it is not told
}

// Summary says in a line how it is.
func (c *Crew) Summary() string {
	if c.Note != "" {
		return c.Note
	}
	busy, waiting := 0, int64(0)
	for _, m := range c.Members {
		busy += m.Busy
	}
	for _, j := range c.Jobs {
		waiting += j.Waiting
	}
	text := fmt.Sprintf("%d are there; %d tasks are being worked on, %d wait", len(c.Members), busy, waiting)
	if c.Elsewhere > 0 {
		text += fmt.Sprintf("; other daemons see to %d more clusters, each shows its own", c.Elsewhere)
	}
	return text
}

// CrewMember is one of them. Seen is how long ago it said that it is there.
type CrewMember struct {
	Name, Host, Version    string
	Labels                 []string
	Clusters, Done, Failed int64
	Parallel, Busy         int
	Seen                   time.Duration
	Does, Notes, Lacks     []string
}

// What says what it does.
func (m CrewMember) What() string {
	parts := slices.Clone(m.Notes)
	switch n := len(m.Does); {
	case n == 1:
		parts = append(parts, m.Does[0])
	case n > 1:
		parts = append(parts, fmt.Sprintf("%s and %d more", m.Does[0], n-1))
	case len(parts) == 0:
		return "nothing"
	}
	return strings.Join(parts, "; ")
}

// CrewJob is a job that is open, how many tasks of it are done, being worked on, and waiting, and for how long the
// oldest that is not done has been there.
type CrewJob struct {
	Kind, Of, By           string
	Open, Oldest           time.Duration
	Done, Working, Waiting int64
}

// RunList is the runs of a cluster.
type RunList struct {
	Store, Cluster string
	Days           int
	Runs           []ListedRun
}

// ListedRun is a run in a list.
type ListedRun struct {
	ID, Kind, Result, Error, By string
	Began                       time.Time
	Took                        time.Duration
	Stored                      int64
}

// OneRun is one run in full, with what it reported.
type OneRun struct {
	Title  string
	Fields []Field
	Lines  []string
}

// Field is a fact with its name.
type Field struct{ Name, Text string }

var live = template.Must(template.Must(page.Clone()).Funcs(template.FuncMap{
	"span":  func(d time.Duration) string { return span(max(d, 0)) },
	"clock": func(t time.Time) string { return t.Local().Format("15:04:05") },
}).Parse(liveHTML))

// Write writes the page, or of part only what is renewed.
func (l *Live) Write(w io.Writer, part bool) error {
	name := "live"
	if part {
		name = "part"
	}
	return execute(w, live, name, l)
}

// Login writes the page that asks for a token, and says why.
func Login(w io.Writer, why string) error { return execute(w, live, "login", why) }
