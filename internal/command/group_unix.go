//go:build unix

package command

import (
	"os/exec"
	"syscall"
)

// ownGroup gives a command a process group of its own, which ends as a whole.
func ownGroup(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
}
