package view

import (
	"cmp"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"dexamen/internal/run"
)

// Progress listens to a piece of work. On a terminal it keeps a line with the numbers of
// the stage at hand; elsewhere it prints stages and warnings as plain lines.
type Progress struct {
	s     *Screen
	mu    sync.Mutex
	bars  *mpb.Progress
	bar   *mpb.Bar
	stage string
	begun time.Time
	last  atomic.Pointer[progressNow] // read by the bar's own goroutine
}

type progressNow struct {
	run.Event
	begun time.Time
}

// NewProgress makes a listener for one piece of work. Done must be called.
func (s *Screen) NewProgress() *Progress { return &Progress{s: s} }

// Event hears what is reported.
func (p *Progress) Event(e run.Event) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.s.JSON {
		if e.Kind != run.Progress && !p.s.Quiet {
			b, _ := json.Marshal(e)
			fmt.Fprintln(p.s.Err, string(b))
		}
		return
	}
	if e.Kind == run.Progress {
		if p.s.Terminal && !p.s.Quiet && !p.s.Calm {
			p.draw(e)
		}
		return
	}
	if (p.s.Quiet || p.s.Calm) && e.Kind != run.Warning {
		return
	}
	p.clear()
	switch e.Kind {
	case run.Step:
		p.stage, p.begun = e.Text, time.Now()
		p.s.Note("%s", p.s.faintErr("- "+e.Text))
	case run.Note:
		p.s.Note("%s", p.s.faintErr("  "+e.Text))
	case run.Warning:
		p.s.Note("! %s", e.Text)
	}
}

func (s *Screen) faintErr(t string) string {
	if !s.Terminal {
		return t
	}
	return s.Faint(t)
}

// draw updates the bar; the lock is held.
func (p *Progress) draw(e run.Event) {
	if p.begun.IsZero() {
		p.begun = time.Now()
	}
	p.last.Store(&progressNow{e, p.begun})
	if p.bar == nil {
		p.bars = mpb.New(mpb.WithOutput(cmp.Or(p.s.bar, p.s.Err)), mpb.WithWidth(28),
			mpb.WithRefreshRate(150*time.Millisecond))
		style := mpb.BarStyle().Lbound("").Rbound("").Filler("━").Tip("━").Padding("┄")
		if !p.s.Unicode {
			style = mpb.BarStyle().Lbound("").Rbound("").Filler("=").Tip("=").Padding(".")
		}
		p.bar = p.bars.New(max(e.Total, e.Records+1), style, mpb.BarRemoveOnComplete(),
			mpb.AppendDecorators(decor.Any(func(decor.Statistics) string { return p.numbers() })))
	}
	p.bar.SetTotal(max(e.Total, e.Records+1), false)
	p.bar.SetCurrent(e.Records)
}

func (p *Progress) numbers() string {
	e := p.last.Load()
	took := time.Since(e.begun)
	parts := []string{" " + Count(e.Records)}
	if e.Total > 0 {
		parts[0] += " of " + Count(e.Total)
	}
	parts[0] += " " + cmp.Or(e.Unit, "records")
	if e.Bytes > 0 {
		parts = append(parts, Bytes(e.Bytes))
	}
	if s := took.Seconds(); s > 0.2 {
		rate := float64(e.Records) / s
		parts = append(parts, Count(int64(rate))+"/s")
		if left := e.Total - e.Records; left > 0 && rate > 0 {
			parts = append(parts, Duration(time.Duration(float64(left)/rate*1e9))+" left")
		}
	}
	return strings.Join(parts, "  ")
}

// clear takes the bar away; the lock is held.
func (p *Progress) clear() {
	if p.bar != nil {
		bar, bars := p.bar, p.bars
		p.bar, p.bars = nil, nil
		bar.Abort(true)
		bars.Wait() // its goroutine needs no lock; nobody draws another one meanwhile
	}
}

// Done ends the view.
func (p *Progress) Done() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.clear()
}
