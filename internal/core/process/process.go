// Package process tells whether a process that left a mark somewhere still runs.
package process

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Identity names one process on one machine. A process number that comes again
// has another Started.
type Identity struct {
	Host string `json:"host"`
	PID  int    `json:"process"`
	// Machine is one start of one machine, or a container on it; Started is when
	// the process began, as the system counts. Both are empty where the system
	// does not tell.
	Machine string `json:"machine,omitempty"`
	Started string `json:"process_started,omitempty"`
}

// Self returns the identity of this process.
func Self() Identity {
	host, _ := os.Hostname()
	return Identity{Host: host, PID: os.Getpid(), Machine: Machine(), Started: Started(os.Getpid())}
}

// Gone reports whether the process is known to have ended: it ran on this
// machine, and does not any more. False means running or not known.
func (i Identity) Gone() bool {
	if i.Machine == "" || i.Machine != Machine() || i.Started == "" {
		return false
	}
	now := Started(i.PID)
	if now != "" {
		return now != i.Started
	}
	// Other users' processes may be hidden, or this one is a zombie.
	return errors.Is(syscall.Kill(i.PID, 0), syscall.ESRCH) || zombie(i.PID)
}

// String names the process for people.
func (i Identity) String() string { return fmt.Sprintf("process %d on %s", i.PID, i.Host) }

// Machine names what process numbers are of.
var Machine = sync.OnceValue(func() string {
	boot, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return ""
	}
	space, err := os.Readlink("/proc/self/ns/pid")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(boot)) + " " + space
})

// Started returns when a process began. It is empty where there is no such
// process, where it has ended and waits for its parent, and where the system
// does not show it.
func Started(pid int) string {
	fields := stat(pid)
	if len(fields) < 20 || fields[0] == "Z" || fields[0] == "X" {
		return ""
	}
	return fields[19]
}

func zombie(pid int) bool {
	fields := stat(pid)
	return len(fields) > 0 && (fields[0] == "Z" || fields[0] == "X")
}

// stat returns the fields of proc_pid_stat(5) from the third on.
func stat(pid int) []string {
	b, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	if err != nil {
		return nil
	}
	// The name, in parentheses, may hold anything.
	return strings.Fields(string(b[bytes.LastIndexByte(b, ')')+1:]))
}

// Claim is what a process holds while it does something, until a time that it prolongs.
type Claim struct {
	ID string `json:"id"` // a random name of the holder
	Identity
	Since time.Time `json:"since"`
	Until time.Time `json:"until,omitzero"` // the zero time: it has ended
}

// Tolerance is how far clocks of machines may be apart before one takes another
// one's claim for ended.
const Tolerance = 5 * time.Minute

// Held reports whether the claim counts at a time.
func (c Claim) Held(now time.Time) bool {
	return !c.Until.IsZero() && !c.Gone() && now.Before(c.Until.Add(Tolerance))
}
