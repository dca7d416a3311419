// Command tarn is the client.
package main

import (
	"context"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"

	"kettletarn/internal/cli"
)

// memory is what the client stays below where it can, however large a file: batches on their way come and go faster than they are
// collected otherwise. GOMEMLIMIT says otherwise.
const memory = 128 << 20

func main() {
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memory)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	// A second Ctrl-C ends it at once.
	context.AfterFunc(ctx, stop)
	os.Exit(cli.Main(ctx, os.Args, os.Stdin, os.Stdout, os.Stderr))
}
