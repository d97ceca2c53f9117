// Package guard has a process of its own stand by while something of a cluster is held
// still, which lets it go on should the process that holds it be killed, or stand still for
// longer than may be.
//
// The guard is this program again, in a session of its own. What it needs it is told
// through its standard input, credentials too; when that ends without a word that all
// is well, it resumes.
package guard

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"dexamen/internal/core/wait"
	"dexamen/internal/engine"
)

// Argument is the one with which the program is a guard.
const Argument = "stand-by-to-resume"

const (
	relieved  = "relieved"
	well      = "all is well"
	resumeOne = "let go"
	// tryFor is how long a guard tries to let go on what was held still.
	tryFor = 15 * time.Minute
	// grace is for how much longer than may be a guard waits for the process that holds.
	grace = 2 * time.Second
)

type order struct {
	Target engine.Target `json:"target"`
	Hold   engine.Hold   `json:"hold"`
}

// Start has a guard stand by for what is held still of a cluster, before it is.
// Relieve ends it; it must be called when all goes on again, and returns
// [engine.ErrHoldLost] where the guard has let it go on before.
func Start(_ context.Context, t engine.Target, h engine.Hold) (relieve func() error, err error) {
	t.Log = nil
	what, err := json.Marshal(order{t, h})
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(self(), Argument)
	detach(cmd)
	cmd.Stderr = os.Stderr
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	ended := func() { _ = in.Close(); _ = cmd.Wait() }
	answers := bufio.NewReader(out)
	if _, err = in.Write(append(what, '\n')); err == nil {
		_, err = answers.ReadString('\n')
	}
	if err != nil {
		ended()
		return nil, fmt.Errorf("the process that was to stand by did not come up: %w", err)
	}
	return func() error {
		defer ended()
		_, _ = in.Write([]byte(relieved + "\n"))
		if word, _ := answers.ReadString('\n'); strings.TrimSpace(word) != well {
			return fmt.Errorf("%w: the process that stood by has let it go on before", engine.ErrHoldLost)
		}
		return nil
	}, nil
}

func self() string {
	const exe = "/proc/self/exe" // also when the file was replaced meanwhile
	if _, err := os.Stat(exe); err == nil {
		return exe
	}
	path, err := os.Executable()
	if err != nil {
		return os.Args[0]
	}
	return path
}

// Run is what the guard does. It returns its exit code.
func Run(in io.Reader, out, messages io.Writer) int {
	r := bufio.NewReader(in)
	line, err := r.ReadBytes('\n')
	var o order
	if err == nil {
		err = json.Unmarshal(line, &o)
	}
	if err != nil {
		fmt.Fprintf(messages, "dexamen: standing by: %v\n", err)
		return 1
	}
	wholeNumbers(&o.Target)
	if q := o.Target.Quiesce; q != nil && q.Of != nil {
		wholeNumbers(q.Of)
	}
	fmt.Fprintln(out, "ready")
	why := "was killed"
	words := make(chan string, 1)
	go func() {
		word, _ := r.ReadString('\n')
		words <- strings.TrimSpace(word)
	}()
	var late <-chan time.Time
	if o.Hold.Longest > 0 {
		late = time.After(o.Hold.Longest + grace)
	}
	select {
	case word := <-words:
		if word == relieved {
			fmt.Fprintln(out, well)
			return 0
		}
	case <-late:
		why = "did not start them again in time"
		fmt.Fprintln(out, resumeOne)
	}
	ctx, cancel := context.WithTimeout(context.Background(), tryFor)
	defer cancel()
	for pause := 100 * time.Millisecond; ; pause = min(2*pause, 10*time.Second) {
		if err = resume(ctx, o); err == nil || errors.Is(err, engine.ErrHoldLost) {
			resumed(o.Hold)
			fmt.Fprintf(messages, "dexamen: the process that had stopped %s of %s %s; they are started again\n",
				o.Hold.What, o.Target.Name, why)
			return 0
		}
		if wait.For(ctx, pause) != nil {
			break
		}
	}
	fmt.Fprintf(messages, "dexamen: the process that had stopped %s of %s %s, and they could not be started "+
		"again: %v; the next run will try\n", o.Hold.What, o.Target.Name, why, err)
	return 1
}

// note is the file by which later runs on this machine know that a guard has let go on.
func note(h engine.Hold) string { return filepath.Join(os.TempDir(), "dexamen-resumed-"+h.ID) }

func resumed(h engine.Hold) {
	if f, err := os.OpenFile(note(h), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600); err == nil {
		_ = f.Close()
	}
}

// HasResumed reports whether a guard on this machine has let go on what is held still.
func HasResumed(h engine.Hold) bool {
	st, err := os.Lstat(note(h))
	return h.ID != "" && err == nil && st.Mode().IsRegular()
}

// Forget removes what HasResumed goes by.
func Forget(h engine.Hold) { _ = os.Remove(note(h)) }

// wholeNumbers makes options that JSON has as fractions what YAML had them as.
func wholeNumbers(t *engine.Target) {
	for k, v := range t.Options {
		if f, ok := v.(float64); ok && f == float64(int(f)) {
			t.Options[k] = int(f)
		}
	}
}

func resume(ctx context.Context, o order) error {
	_, d, err := engine.ForAddress(o.Target.Address)
	if err != nil {
		return err
	}
	c, err := d.Open(ctx, o.Target)
	if err != nil {
		return err
	}
	defer c.Close()
	q, ok := c.(engine.Quiescer)
	if !ok {
		return fmt.Errorf("nothing can be held still on clusters of engine %s", c.Engine())
	}
	return q.Resume(ctx, o.Hold)
}
