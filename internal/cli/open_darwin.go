package cli

import "os/exec"

func openCommand(path string) *exec.Cmd { return exec.Command("open", path) }
