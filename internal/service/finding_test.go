package service_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"kettletarn/demo/scene"
	"kettletarn/internal/core/model"
	"kettletarn/internal/service/handoffs"
)

// TestFinding: by names, parts of names, notes, people, tasks, milestones, and what was read of the files; also after a move and a
// deletion.
func TestFinding(t *testing.T) {
	m := newTeam(t, nil)
	ctx := t.Context()
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "textures/rust-albedo.png", 0, 0, string(scene.Albedo("rust", 96, 0))),
		m.change(m.tamsin, "textures/rust-normal.png", 0, 0, "x"), m.change(m.tamsin, "board/tide.kicad_sch", 0, 0, string(scene.Schematic(0))),
		m.change(m.tamsin, "sounds/fog-horn.wav", 0, 0, string(scene.Sound("fog-horn", 0)))))
	ok(t)(m.Send(ctx, m.rurik, key, handoffs.Send{Key: "00000000-0000-4000-8000-000000000001", Workspace: m.space["rurik"],
		About: model.About{Note: "Kelp sways with the tide", Tasks: []string{"BRL-17"}, Stage: "polish"}, TakeFree: true,
		Changes: []handoffs.Change{m.change(m.rurik, "levels/kelp.json", 0, 0, "{}")}}, nil))
	ok(t)(m.AddMilestone(ctx, m.odile, key, model.MilestoneRequest{Name: "first-light", At: "h2", Note: "the pier"}))
	ok(t)(m.AddBranch(ctx, m.odile, key, model.BranchRequest{Name: "second-chapter"}))
	find := func(text string) string {
		t.Helper()
		out, err := m.Find(ctx, m.viewer, key, text, 10)
		if err != nil {
			t.Fatal(text, err)
		}
		var list []string
		for _, a := range out.Assets {
			if list = append(list, a.Path); a.Why != "" {
				list = append(list, "("+a.Why+")")
			}
		}
		for _, h := range out.Handoffs {
			list = append(list, fmt.Sprint("h", h.Number))
		}
		for _, s := range out.Milestones {
			list = append(list, s.Name)
		}
		return strings.Join(append(append(list, out.People...), out.Branches...), " ")
	}
	finds := func(text, want string) {
		t.Helper()
		got := find(text)
		for end := time.Now().Add(20 * time.Second); got != want && time.Now().Before(end); got = find(text) {
			time.Sleep(50 * time.Millisecond) // words are gathered behind what people wait for
		}
		if got != want {
			t.Errorf("%q finds %q, want %q", text, got, want)
		}
	}
	for _, path := range []string{"textures/rust-albedo.png", "board/tide.kicad_sch", "sounds/fog-horn.wav"} {
		ok(t)(m.Look(ctx, m.viewer, key, path, 0)) // in a while they would be looked at by the service itself
	}
	finds("rust", "textures/rust-albedo.png textures/rust-normal.png")
	finds("albedo RUST", "textures/rust-albedo.png")
	finds("board tide", "board/tide.kicad_sch")
	finds("bedo", "textures/rust-albedo.png") // the middle of a word
	finds("96 pixels", "textures/rust-albedo.png (pixels 96 x 96)")
	finds("part r4", "board/tide.kicad_sch (parts 14, R4)")
	finds("u2", "board/tide.kicad_sch (U2)")
	finds("sound 44k", "sounds/fog-horn.wav (rate 44,100 Hz)")
	finds("kelp", "levels/kelp.json h2")
	finds("brl-17", "levels/kelp.json h2")
	finds("rurik", "levels/kelp.json h2 rurik")
	finds("first", "first-light")
	finds("second", "second-chapter")
	for _, text := range []string{"", " ", "'", "' | 'xyz", "% _ \\", "no such thing", "\x00", strings.Repeat("word ", 200)} {
		if got := find(text); got != "" {
			t.Errorf("%q finds %s", text, got)
		}
	}
	// What goes is not found any more, and what moves is found where it is.
	// The name that the words are comes before those that only have them.
	ok(t)(m.send(m.tamsin, m.change(m.tamsin, "a/my-salt-pan.txt", 0, 0, "1"), m.change(m.tamsin, "z/much/longer/salt.txt", 0, 0, "2"),
		m.change(m.tamsin, "pan/salt-2.txt", 0, 0, "3"), m.change(m.tamsin, "pan/x.txt", 0, 0, "4"),
		m.change(m.tamsin, "reef/rock.txt", 0, 0, "5"), m.change(m.tamsin, "rocks/of/the/north/reef.txt", 0, 0, "6")))
	finds("salt", "z/much/longer/salt.txt pan/salt-2.txt a/my-salt-pan.txt")
	finds("reef rock", "rocks/of/the/north/reef.txt reef/rock.txt")
	finds("salt pan", "pan/salt-2.txt a/my-salt-pan.txt")
	fence := m.lock(m.tamsin, "textures/rust-normal.png", 1)
	gone := m.lock(m.tamsin, "textures/rust-albedo.png", 1)
	c := m.change(m.tamsin, "textures/old/normal.png", 1, fence, "x")
	c.MovedFrom = "textures/rust-normal.png"
	ok(t)(m.send(m.tamsin, c, handoffs.Change{Path: "textures/rust-albedo.png", Base: 1, Fence: gone, Gone: true}))
	finds("rust", "")
	finds("old normal", "textures/old/normal.png")
}
