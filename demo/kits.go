package main

import (
	"fmt"

	"kettletarn/demo/scene"
)

// lampParts is what the projects share: brinelight makes it, tidepad uses it with a crank of its own, and undertow is behind by one.
func (s *stage) lampParts() {
	odile, bastien, keiko := s.as("odile", "brinelight"), s.as("bastien", "tidepad"), s.as("keiko", "undertow")
	s.at(28 * day)
	fmt.Println("  odile    releases the kit lamp-parts, for the other projects")
	odile.tarn("kit", "release", "lamp-parts", "-m", "Lamp with the tall hood, the winch, and the lens glass to go with them")
	s.at(20 * day)
	bastien.tarn("update")
	bastien.tarn("kit", "use", "brinelight/lamp-parts", "--in", "mechanical/lamp", "-m", "The lamp of the game, to fit the box around it")
	s.at(19 * day)
	bastien.hand(handoff{note: "Crank with a flat for the knob: the game's has none", task: "TID-39",
		old: files{"mechanical/lamp/models/winch.glb": scene.Model("winch", 3)}})
	s.at(8 * day)
	keiko.tarn("update")
	keiko.tarn("kit", "use", "brinelight/lamp-parts", "--in", "parts/lamp", "-m", "A lamp for the boat")
	s.at(5 * day)
	odile.tarn("kit", "release", "lamp-parts", "-m", "Lens glass: the soot ring is thinner")
	s.at(4*day - hour)
	bastien.tarn("kit", "update", "mechanical/lamp", "-m", "The glass that the game has now")
}
