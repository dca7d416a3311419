// Command tarn is the client.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"kettletarn/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	// A second Ctrl-C ends it at once.
	context.AfterFunc(ctx, stop)
	os.Exit(cli.Main(ctx, os.Args, os.Stdin, os.Stdout, os.Stderr))
}
