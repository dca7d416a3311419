package cli

import (
	"os/exec"
	"syscall"

	"golang.org/x/sys/windows"
)

// apartFromTerminal makes a program go on when the terminal that it was started from is closed.
func apartFromTerminal(c *exec.Cmd) {
	c.SysProcAttr = &syscall.SysProcAttr{CreationFlags: windows.DETACHED_PROCESS | windows.CREATE_NEW_PROCESS_GROUP}
}
