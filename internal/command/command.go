// Package command runs the commands of a configuration, and bounds what they may cost: their time, that of
// what they start, and what they print.
package command

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"strings"
	"time"
)

// Command returns a command that ends, with all that it started, when the context does. Its output is
// waited for no longer than 5 s after its own end: what it left behind may hold it open for ever.
func Command(ctx context.Context, args []string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, args[0], args[1:]...)
	cmd.WaitDelay = 5 * time.Second
	ownGroup(cmd)
	return cmd
}

// everyday are the variables without which programs do not find their way.
var everyday = []string{"PATH", "HOME", "USER", "LOGNAME", "SHELL", "LANG", "TZ", "TMPDIR"}

// Environment returns of this process's variables those that any program needs, those of the
// locale, and those that are named.
func Environment(named []string) (out []string) {
	names := append(append([]string{}, everyday...), named...)
	for _, kv := range os.Environ() {
		name, _, _ := strings.Cut(kv, "=")
		for _, n := range names {
			if name == n {
				out = append(out, kv)
				break
			}
		}
		if strings.HasPrefix(name, "LC_") {
			out = append(out, kv)
		}
	}
	return out
}

// ErrTooMuch is returned when a command or a file gives more than it may.
var ErrTooMuch = errors.New("it gives more than it may")

// Bounded is a writer that keeps so many bytes, and fails beyond.
type Bounded struct {
	Limit int
	Over  bool // more was written
	buf   []byte
}

// Write implements [io.Writer].
func (b *Bounded) Write(p []byte) (int, error) {
	if len(b.buf)+len(p) > b.Limit {
		b.Over = true
		return 0, ErrTooMuch
	}
	b.buf = append(b.buf, p...)
	return len(p), nil
}

// String returns what was written.
func (b *Bounded) String() string { return string(b.buf) }

// Tail is a writer that keeps the last of what is written to it.
type Tail struct{ b []byte }

// maxTail bounds what a Tail returns, in bytes.
const maxTail = 4 << 10

// Write implements [io.Writer].
func (t *Tail) Write(p []byte) (int, error) {
	t.b = append(t.b, p[max(0, len(p)-2*maxTail):]...)
	if len(t.b) > 2*maxTail {
		t.b = append(t.b[:0], t.b[len(t.b)-maxTail:]...)
	}
	return len(p), nil
}

// String returns the last of what was written, without what is no UTF-8.
func (t *Tail) String() string {
	return string(bytes.ToValidUTF8(t.b[max(0, len(t.b)-maxTail):], nil))
}

// Line returns the last line of it, of at most 300 bytes.
func (t *Tail) Line() string {
	s := strings.TrimSpace(t.String())
	s = s[strings.LastIndexByte(s, '\n')+1:]
	return s[:min(len(s), 300)]
}
