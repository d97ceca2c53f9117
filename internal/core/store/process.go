package store

import (
	"bytes"
	"os"
	"strconv"
	"strings"
	"sync"
)

// machine names what process numbers are of: one start of one machine, or a
// container on it. Empty where the system does not tell.
var machine = sync.OnceValue(func() string {
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

// born says when a process began, as the system counts: a number that comes
// again has another one. Empty where there is no such process.
func born(pid int) string {
	stat, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	if err != nil {
		return ""
	}
	// The name, in parentheses, may hold anything; the time of birth is the
	// 22nd field (proc_pid_stat(5)), and a zombie is gone.
	fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))
	if len(fields) < 20 || fields[0] == "Z" || fields[0] == "X" {
		return ""
	}
	return fields[19]
}

// gone tells whether the process that made an entry is known to have ended: it
// ran on this machine, and does not any more.
func (e *leaseEntry) gone() bool {
	return e.Machine != "" && e.Machine == machine() && e.Alive != "" && born(e.Process) != e.Alive
}
