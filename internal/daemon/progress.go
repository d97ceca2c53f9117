package daemon

import (
	"sync"
	"sync/atomic"
	"time"

	"dexamen/internal/run"
)

// lastLines is how many lines of what a run reports are kept while it goes on.
const lastLines = 200

// progress is what a run that goes on has reported.
type progress struct {
	mu    sync.Mutex
	step  string
	spans map[string]run.Event // the last numbers of each namespace
	lines []run.Event
	count atomic.Uint64 // of events
}

// hear takes an event up; it may be called from several goroutines.
func (p *progress) hear(e run.Event) {
	p.count.Add(1)
	p.mu.Lock()
	defer p.mu.Unlock()
	if e.Kind == run.Progress {
		if p.spans == nil {
			p.spans = map[string]run.Event{}
		}
		p.spans[e.Namespace] = e
		return
	}
	if e.Kind == run.Step {
		p.step = e.Text
	}
	if p.lines = append(p.lines, e); len(p.lines) > lastLines {
		p.lines = p.lines[len(p.lines)-lastLines:]
	}
}

// sum returns what was done up to now, of how much where that is known.
func (p *progress) sum() (step string, records, total, bytes int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	known := true
	for _, e := range p.spans {
		records, total, bytes = records+e.Records, total+e.Total, bytes+e.Bytes
		known = known && e.Total > 0
	}
	if !known {
		total = 0
	}
	return p.step, records, total, bytes
}

// text returns the last lines.
func (p *progress) text() []run.Event {
	p.mu.Lock()
	defer p.mu.Unlock()
	return append([]run.Event(nil), p.lines...)
}

// left is for how long a run will go on as it went up to now; zero where that cannot be told.
func left(begun, now time.Time, records, total int64) time.Duration {
	if records <= 0 || total <= records {
		return 0
	}
	return time.Duration(float64(now.Sub(begun)) * float64(total-records) / float64(records))
}
