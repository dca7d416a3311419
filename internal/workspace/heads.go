package workspace

import (
	"bytes"
	"context"
	"encoding/json"
	"time"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/workspace/index"
)

// unsent is what the service is told of a workspace: which assets have changes that were not sent. New files are nobody's yet.
func (s *Status) unsent() []model.UnsentChange {
	list := []model.UnsentChange{}
	for _, a := range s.Assets {
		if !Changed(a) || a.State == model.New {
			continue
		}
		source := a.Path
		if a.MovedFrom != "" {
			source = a.MovedFrom
		}
		c := model.UnsentChange{Path: source, State: a.State, Size: a.Size, Since: now().Truncate(time.Second)}
		if a.Changed != nil {
			c.Since = a.Changed.Truncate(time.Second)
		}
		list = append(list, c)
	}
	return list
}

// report tells the service of unsent changes, where they are others than it was told last. It is a favour to the others: a failure
// stops nothing. The function given back waits for its end.
func (w *Workspace) report(ctx context.Context, s *Status) (wait func()) {
	list := s.unsent()
	plain := make([][2]string, len(list)) // what makes a difference worth a request
	for i, c := range list {
		plain[i] = [2]string{c.Path, c.State}
	}
	text, err := json.Marshal(plain)
	if err != nil {
		return func() {}
	}
	digest := chunk.Sum(text)
	var told []byte
	if err := w.look(func(t index.Tx) error {
		told = t.Told(aboutHeadsUps)
		return nil
	}); err != nil || bytes.Equal(told, digest[:]) || told == nil && len(list) == 0 {
		return func() {}
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		ctx, stop := context.WithTimeout(ctx, 10*time.Second)
		defer stop()
		if w.Client.TellHeadsUps(ctx, w.Marker.Project, w.Marker.Workspace, model.UnsentChanges{Changes: list}) != nil {
			return
		}
		_ = w.update(func(t index.Tx) error { return t.SetTold(aboutHeadsUps, digest[:]) })
	}()
	return func() { <-done }
}

// Report tells the service of the unsent changes of a whole workspace, where they are others than it was told last.
func (w *Workspace) Report(ctx context.Context, s *Status) { w.report(ctx, s)() }

// Tell tells the service of the unsent changes of a workspace that was looked at as a whole.
func (w *Workspace) Tell(ctx context.Context, s *Status) {
	if s.scan == nil || len(s.scan.Within) == 0 {
		w.Report(ctx, s)
	}
}
