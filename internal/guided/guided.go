// Package guided leads through a restore at a terminal: which cluster, which moment, what of it,
// how. Every step shows the command that does the same.
//
//	guided.go   Run, and what it asks of a Source
//	model.go    the steps, and what keys do
//	moment.go   the step of choosing a moment on the ribbon
//	draw.go     what is seen
package guided

import (
	"context"
	"io"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"dexamen/internal/view"
)

// Cluster is a cluster of which something can be restored.
type Cluster struct {
	Name, Store, Engine string
	// Configured: it is there to be restored onto.
	Configured bool
	// Points are the names of the points at Band.Points.
	Points []string
	Latest time.Time
	// Band has the moments that can be restored, the points and the gaps.
	Band view.Band
}

// Event is something that happened, which somebody may regret.
type Event struct {
	At        time.Time
	Namespace string
	What      string
	Loss      bool
	// When is the moment just before it, as an address has it; empty where that cannot be had,
	// which Cannot explains.
	When, Cannot string
}

// Row is a namespace at a moment, beside what bears its name now.
type Row struct {
	Name string
	// Then is how many records the point before the moment has of it, Now how many there are as
	// the server estimates; -1 where it was not, or is not, there.
	Then, Now int64
	// About: the log has changes between that point and the moment.
	About bool
	// Since counts what was written to it after the moment; -1 where no log tells.
	Since int64
}

// Changed reports whether a namespace is not now as it was, as far as is known.
func (r Row) Changed() bool { return r.Then >= 0 && (r.Now == -1 || r.Since > 0 || r.Now != r.Then) }

// Source answers what the steps need to know.
type Source interface {
	// Clusters lists what can be restored of.
	Clusters(ctx context.Context) ([]Cluster, error)
	// Events finds what happened to a cluster, in order of time.
	Events(ctx context.Context, c Cluster) ([]Event, error)
	// Rows lists the namespaces of a moment and of now, in order of names. A moment that cannot
	// be had is an error; note says why what is there now is not known, where it is not.
	Rows(ctx context.Context, c Cluster, when string) (rows []Row, note string, err error)
	// Moment returns what a person types as a moment of an address.
	Moment(text string) (when string, at time.Time, err error)
	// Targets lists the other clusters that take what is of an engine.
	Targets(engine string) []string
}

// Choice is where somebody was when they left: what is to be run, and from where to go on if
// that is not what they wanted.
type Choice struct {
	// Args is the command without the program's name; nil when nothing was chosen.
	Args  []string
	Store string
	model *model
}

// Run leads through the steps, from the first or from where an earlier choice was left.
func Run(ctx context.Context, s *view.Screen, src Source, cluster string, again *Choice, in io.Reader,
	out io.Writer) (*Choice, error) {
	m := newModel(ctx, s, src, cluster)
	if again != nil {
		m = again.model
		m.done = false
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	m.ctx = ctx
	end, err := tea.NewProgram(m, tea.WithContext(ctx), tea.WithInput(in), tea.WithOutput(out)).Run()
	if err != nil {
		return nil, err
	}
	m = end.(*model)
	if m.failed != nil {
		return nil, m.failed
	}
	c := &Choice{model: m}
	if m.done {
		c.Args, c.Store = m.restoreArgs(), m.cluster().Store
	}
	return c, nil
}

// plain are the characters that mean themselves to every shell.
const plain = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789@/._-+:=,%"

// CommandLine returns a command as it is typed in a shell.
func CommandLine(args []string) string {
	var b strings.Builder
	b.WriteString("dexamen")
	for _, a := range args {
		b.WriteByte(' ')
		if a != "" && strings.Trim(a, plain) == "" {
			b.WriteString(a)
		} else {
			b.WriteString("'" + strings.ReplaceAll(a, "'", `'\''`) + "'")
		}
	}
	return b.String()
}
