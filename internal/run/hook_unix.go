//go:build unix

package run

import (
	"os/exec"
	"syscall"
)

// ownProcessGroup returns a hook a process group of its own, so that what it started ends
// with it.
func ownProcessGroup(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
}
