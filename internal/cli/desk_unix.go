//go:build !windows

package cli

import (
	"os/exec"
	"syscall"
)

// apartFromTerminal makes a program go on when the terminal that it was started from is closed.
func apartFromTerminal(c *exec.Cmd) { c.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }
