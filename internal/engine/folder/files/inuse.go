//go:build linux

package files

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// openIn returns a file of a folder that a process has open, or its working folder; empty
// where it has none, or may not be looked at.
func openIn(pid int, root string) (path string, seen bool) {
	in := func(link string) string {
		to, err := os.Readlink(link)
		if err == nil && (to == root || strings.HasPrefix(to, root+"/")) {
			return to
		}
		return ""
	}
	dir := fmt.Sprintf("/proc/%d/fd", pid)
	fds, err := readNames(dir)
	for _, fd := range fds {
		if p := in(filepath.Join(dir, fd)); p != "" {
			return p, true
		}
	}
	return in(fmt.Sprintf("/proc/%d/cwd", pid)), err == nil || notThere(err)
}

func commandOf(pid int) string {
	b, _ := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
	return strings.TrimSpace(string(b))
}

// lockedIn returns the files of a folder, at its top, that are locked, or name a process
// in their content that goes on: a server's lock file. Processes known are left out.
func lockedIn(root string, known []Usage) []Usage {
	locks := lockedFiles()
	names, _ := readNames(root)
	slices.Sort(names)
	var out []Usage
	for _, n := range names {
		path := filepath.Join(root, n)
		e, err := lstat(root, n)
		if err != nil || e.Kind != Regular {
			continue
		}
		pid, locked := locks[fmt.Sprintf("%02x:%02x:%d", unix.Major(e.Dev), unix.Minor(e.Dev), e.Ino)]
		if !locked && (strings.HasSuffix(n, ".lock") || strings.HasSuffix(n, ".pid")) && e.Size < 64 {
			b, _ := os.ReadFile(path)
			if pid, err = strconv.Atoi(strings.TrimSpace(string(b))); err == nil && pid > 1 {
				locked = unix.Kill(pid, 0) == nil || commandOf(pid) != ""
			}
		}
		if locked && pid != os.Getpid() && !slices.ContainsFunc(known, func(u Usage) bool { return u.PID == pid }) {
			out = append(out, Usage{PID: pid, Command: commandOf(pid), Path: path, Locked: true})
		}
	}
	return out
}

// lockedFiles returns by device and inode which process has locked a file.
func lockedFiles() map[string]int {
	out := map[string]int{}
	b, _ := os.ReadFile("/proc/locks")
	for line := range strings.Lines(string(b)) {
		f := strings.Fields(line)
		if i := slices.IndexFunc(f, func(s string) bool { return strings.Count(s, ":") == 2 }); i > 0 {
			pid, _ := strconv.Atoi(f[i-1])
			out[f[i]] = pid
		}
	}
	return out
}
