// Package transfer carries content between the folder of a workspace and the service: chunks and manifest nodes, several requests at once,
// taken from this disk where they are on it. It decides nothing about assets: what comes is left built for [placing] to move in, what goes
// is named by who calls.
package transfer

import (
	"errors"

	"kettletarn/internal/client"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/placing"
)

// Way is between the folder of a workspace and the service.
type Way struct {
	Client   *client.Client
	Project  string // its key
	Folder   *placing.Folder
	Progress Progress
}

// Progress is told how long work goes on. Sizes are bytes. Add is called from several goroutines.
type Progress interface {
	// Start begins a phase. total is 0 where it is not known.
	Start(what string, total int64)
	// Add says that n more bytes are done.
	Add(n int64)
	// Done ends the phase.
	Done()
}

// Bounds of a transfer: bytes and chunks in one request, and requests in flight. Together they bound what is held in memory; at 80 ms
// to the service they allow 400 MiB a second.
const (
	BatchBytes  = 8 << 20
	batchChunks = 4096
	inFlight    = 4
	// pageFiles is how many files' manifests are asked for at once, and jobFiles how many small files are built by one goroutine.
	pageFiles = 2048
	jobFiles  = 256
)

// lost reports whether an error is about content that the service has no more.
func lost(err error) bool {
	var problem *model.Problem
	return errors.As(err, &problem) && (problem.Type == model.Damaged || problem.Type == model.ChunksMissing)
}
