// Command tarnd is the service.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"kettletarn/internal/daemon"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM, os.Interrupt)
	defer stop()
	os.Exit(daemon.Main(ctx, os.Args, os.Stdin, os.Stdout, os.Stderr))
}
