package cli

import "os/exec"

// The URL handler opens a file in its program without a shell reading its name.
func openCommand(path string) *exec.Cmd {
	return exec.Command("rundll32", "url.dll,FileProtocolHandler", path)
}
