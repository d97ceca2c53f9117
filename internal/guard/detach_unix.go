//go:build unix

package guard

import (
	"os/exec"
	"syscall"
)

// detach keeps signals that a terminal sends to its processes from the guard.
func detach(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }
