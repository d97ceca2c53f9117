//go:build unix

package job

import (
	"os/exec"
	"syscall"
)

// own gives a hook a process group of its own, so that what it started ends
// with it.
func own(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
}
