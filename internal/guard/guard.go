// Package guard has a process of its own stand by while something of a cluster is held
// still, which lets it go on should the process that holds it be killed.
//
// The guard is this program again, in a session of its own. What it needs it is told
// through its standard input, credentials too; when that ends without a word that all
// is well, it resumes.
package guard

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"time"

	"dexamen/internal/core/wait"
	"dexamen/internal/engine"
)

// Argument is the one with which the program is a guard.
const Argument = "stand-by-to-resume"

const (
	relieved = "relieved"
	// tryFor is how long a guard tries to let go on what was held still.
	tryFor = 15 * time.Minute
)

type order struct {
	Target engine.Target `json:"target"`
	Hold   engine.Hold   `json:"hold"`
}

// Start has a guard stand by for what is held still of a cluster, before it is.
// Relieve ends it; it must be called when all goes on again.
func Start(_ context.Context, t engine.Target, h engine.Hold) (relieve func(), err error) {
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
	if _, err = in.Write(append(what, '\n')); err == nil {
		_, err = bufio.NewReader(out).ReadString('\n')
	}
	if err != nil {
		ended()
		return nil, fmt.Errorf("the process that was to stand by did not come up: %w", err)
	}
	return func() { _, _ = in.Write([]byte(relieved + "\n")); ended() }, nil
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
	for k, v := range o.Target.Options {
		if f, ok := v.(float64); ok && f == float64(int(f)) {
			o.Target.Options[k] = int(f)
		}
	}
	fmt.Fprintln(out, "ready")
	word, _ := r.ReadString('\n')
	if strings.TrimSpace(word) == relieved {
		return 0
	}
	ctx, cancel := context.WithTimeout(context.Background(), tryFor)
	defer cancel()
	for pause := 100 * time.Millisecond; ; pause = min(2*pause, 10*time.Second) {
		if err = resume(ctx, o); err == nil {
			fmt.Fprintf(messages, "dexamen: the process that had stopped %s of %s was killed; they are started again\n",
				o.Hold.What, o.Target.Name)
			return 0
		}
		if wait.For(ctx, pause) != nil {
			break
		}
	}
	fmt.Fprintf(messages, "dexamen: the process that had stopped %s of %s was killed, and they could not be started "+
		"again: %v; the next run will try\n", o.Hold.What, o.Target.Name, err)
	return 1
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
