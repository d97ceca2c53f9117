package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"runtime/pprof"
	"syscall"
	"time"

	"dexamen/internal/view"
)

// The files of a trace.
const (
	processorProfile  = "processor.pprof"
	allocationProfile = "allocations.pprof"
)

// trace is where a command spends the processor's time and memory, written into a folder.
type trace struct {
	dir              string
	cpu, allocations *os.File
	begun            time.Time
}

// startTrace begins to write down what the processor does. Profiles that are there are not written over.
func startTrace(dir string) (*trace, error) {
	if err := os.MkdirAll(dir, 0o750); err != nil {
		return nil, fmt.Errorf("--trace-to: %w", err)
	}
	t := &trace{dir: dir, begun: time.Now()}
	// Both now: that one cannot be made is no error of a command that is done.
	for name, f := range map[string]**os.File{processorProfile: &t.cpu, allocationProfile: &t.allocations} {
		var err error
		if *f, err = os.OpenFile(filepath.Join(dir, name), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o640); err != nil {
			return nil, usage("--trace-to: %v: name a folder without profiles", err)
		}
	}
	return t, pprof.StartCPUProfile(t.cpu)
}

// end writes the profiles, and says what the command has cost.
func (t *trace) end(s *view.Screen) error {
	pprof.StopCPUProfile()
	took := time.Since(t.begun)
	runtime.GC() // what is in use is known as of the last collection
	err := errors.Join(t.cpu.Close(), pprof.Lookup("allocs").WriteTo(t.allocations, 0), t.allocations.Close())
	var use syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_SELF, &use) == nil {
		s.Note("took %s, and of the processor %.2f s in the program and %.2f s in the system, at most %s of memory; "+
			"look at it with: go tool pprof -top %s", view.Duration(took), seconds(use.Utime), seconds(use.Stime),
			view.Bytes(use.Maxrss<<10), filepath.Join(t.dir, processorProfile))
	}
	if err != nil {
		return fmt.Errorf("--trace-to: %w", err)
	}
	return nil
}

func seconds(t syscall.Timeval) float64 { return float64(t.Sec) + float64(t.Usec)/1e6 }
