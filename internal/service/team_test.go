package service_test

import (
	"context"
	"fmt"
	"reflect"
	"testing"

	"github.com/google/uuid"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/locks"
	"kettletarn/internal/store"
	"kettletarn/internal/testbed"
)

func TestMain(m *testing.M) { testbed.Main(m) }

const key = "brinelight"

// team is a project with an owner, two artists and a viewer, each with a workspace.
type team struct {
	*testing.T
	*testbed.Service
	odile, tamsin, rurik, viewer ground.Actor
	space                        map[string]string
}

func newTeam(t *testing.T, packs store.Store) *team {
	t.Helper()
	s := testbed.NewService(t, packs)
	m := &team{T: t, Service: s, space: map[string]string{}}
	m.odile, _ = s.Person(t, "odile")
	m.tamsin, _ = s.Person(t, "tamsin")
	m.rurik, _ = s.Person(t, "rurik")
	m.viewer, _ = s.Person(t, "keiko")
	ok(t)(s.StartProject(t.Context(), m.odile, key))
	for actor, role := range map[ground.Actor]string{m.tamsin: model.Artist, m.rurik: model.Artist, m.viewer: model.Viewer} {
		ok(t)(s.SetMember(t.Context(), m.odile, key, actor.Handle, role))
	}
	for _, actor := range []ground.Actor{m.odile, m.tamsin, m.rurik, m.viewer} {
		w, err := s.AddWorkspace(t.Context(), actor, key, actor.Handle+"-pc")
		if err != nil {
			t.Fatal(err)
		}
		m.space[actor.Handle] = w.ID
	}
	return m
}

// ok fails the test where a call fails: ok(t)(f()).
func ok(t testing.TB) func(any, error) {
	return func(_ any, err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
}

// content brings a content.
func (m *team) content(actor ground.Actor, data []byte) testbed.Material {
	m.Helper()
	c := testbed.Cut(m, data)
	ok(m)(m.StoreChunks(m.Context(), actor, key, testbed.From(c.Records)))
	return c
}

// tryChange is change for a store that may fail.
func (m *team) tryChange(path, data string) (handoffs.Change, error) {
	c := testbed.Cut(m, []byte(data))
	_, err := m.StoreChunks(m.Context(), m.tamsin, key, testbed.From(c.Records))
	return handoffs.Change{Path: path, Content: c.Content, Size: c.Size}, err
}

// change makes a change of one asset to a content.
func (m *team) change(actor ground.Actor, path string, base int, fence int64, data string) handoffs.Change {
	c := m.content(actor, []byte(data))
	return handoffs.Change{Path: path, Base: base, Fence: fence, Content: c.Content, Size: c.Size}
}

// send sends, and looks whether the answer is what the records tell of the handoff.
func (m *team) send(actor ground.Actor, changes ...handoffs.Change) (handoffs.Receipt, error) {
	m.Helper()
	r, err := m.Send(m.Context(), actor, key, handoffs.Send{Key: uuid.NewString(), Workspace: m.space[actor.Handle],
		About:   model.About{Note: "a pass"},
		Changes: changes}, nil)
	if err == nil {
		kept, err := m.Handoff(m.Context(), actor, key, fmt.Sprint("h", r.Handoff.Number))
		for i := range kept.Assets {
			kept.Assets[i].Now = ""                            // it may have been moved since
			r.Handoff.Assets[i].Digest = kept.Assets[i].Digest // it may have been sealed since
		}
		kept.At = kept.At.UTC()
		if err != nil || !reflect.DeepEqual(r.Handoff, kept) {
			m.Errorf("a send was answered with\n%+v\nand is kept as\n%+v, %v", r.Handoff, kept, err)
		}
	}
	return r, err
}

func (m *team) lock(actor ground.Actor, path string, version int) int64 {
	m.Helper()
	locks, err := m.TakeLocks(m.Context(), actor, key,
		locks.Wish{Workspace: m.space[actor.Handle], Wants: []locks.Want{{Path: path, Version: version}}})
	if err != nil {
		m.Fatal(err)
	}
	return locks.Locks[0].Fence
}

func reason(t *testing.T, err error, want string) {
	t.Helper()
	refusals := testbed.Refused(t, err)
	for _, r := range refusals {
		if r.Reason == want {
			if r.Message == "" || r.Remedy == "" {
				t.Errorf("the refusal %s says too little: %+v", want, r)
			}
			return
		}
	}
	t.Errorf("refused for %+v, want %s", refusals, want)
}

// lockAtConsole locks one asset for the person's seat at the console.
func (m *team) lockAtConsole(ctx context.Context, actor ground.Actor, path string, version int) ([]model.Lock, error) {
	locks, err := m.TakeLocks(ctx, actor, key, locks.Wish{Workspace: model.KindConsole,
		Wants: []locks.Want{{Path: path, Version: version}}})
	return locks.Locks, err
}
