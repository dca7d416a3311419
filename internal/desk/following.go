package desk

import (
	"context"
	"maps"
	"slices"
	"sync"

	"kettletarn/internal/core/model"
)

// follower is one line that follows workspaces. What it could not be told yet is put together, so that a slow one costs no more than what
// there is to know.
type follower struct {
	mu      sync.Mutex
	changed map[string]*pending
	notes   []Noticed
	wake    chan struct{}
}

// pending is what a line has to be told of one workspace.
type pending struct {
	head   Standing
	assets map[string]*model.Asset // nil for what is not listed any more
}

// maxNotes is how many notices wait for a line that does not read; older ones go.
const maxNotes = 1000

func newFollower() *follower {
	return &follower{changed: map[string]*pending{}, wake: make(chan struct{}, 1)}
}

func (f *follower) hears(c *Changed) {
	f.mu.Lock()
	defer f.mu.Unlock()
	p := f.changed[c.Workspace]
	if p == nil {
		p = &pending{assets: map[string]*model.Asset{}}
		f.changed[c.Workspace] = p
	}
	p.head = c.Standing
	for i := range c.Assets {
		p.assets[c.Assets[i].Path] = &c.Assets[i]
	}
	for _, path := range c.Away {
		p.assets[path] = nil
	}
	f.stir()
}

func (f *follower) notices(n Noticed) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.notes = append(f.notes, n)
	f.notes = f.notes[max(0, len(f.notes)-maxNotes):]
	f.stir()
}

func (f *follower) stir() {
	select {
	case f.wake <- struct{}{}:
	default:
	}
}

// tell tells what there is to tell, until ctx ends or the line does.
func (f *follower) tell(ctx context.Context, notify func(method string, params any) error) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-f.wake:
		}
		f.mu.Lock()
		changed, notes := f.changed, f.notes
		f.changed, f.notes = map[string]*pending{}, nil
		f.mu.Unlock()
		for _, id := range slices.Sorted(maps.Keys(changed)) {
			p := changed[id]
			c := Changed{Standing: p.head, Away: []string{}}
			c.Assets = []model.Asset{}
			for _, path := range slices.Sorted(maps.Keys(p.assets)) {
				if a := p.assets[path]; a != nil {
					c.Assets = append(c.Assets, *a)
				} else {
					c.Away = append(c.Away, path)
				}
			}
			if notify("changed", c) != nil {
				return
			}
		}
		for _, n := range notes {
			if notify("noticed", n) != nil {
				return
			}
		}
	}
}
