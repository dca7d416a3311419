package main

import (
	"fmt"

	"kettletarn/demo/scene"
)

// The drowned bell's lines, which the second chapter needs of the keeper; on main he is cut shorter at the same time.
const (
	keeperOfTheBell = "KEEPER: The third lamp went out when the ferry stopped.\n\n" +
		"KEEPER: Oil, a dry wick, somebody who waits. And listen for the bell.\n\nKEEPER: Mind the kelp.\n"
	keeperCutShort = "KEEPER: The third lamp went out when the ferry stopped.\n\n" +
		"KEEPER: Oil, a dry wick, somebody who waits.\n\nKEEPER: Mind the kelp.\n"
)

// apart is what brinelight tries beside what works: a branch given up, one that came in by itself, and the second chapter, which three
// things have to be decided for, and which people are asked to look at.
func (s *stage) apart() {
	const key = "brinelight"
	odile, tamsin, rurik, imani, keiko := s.as("odile", key), s.as("tamsin", key), s.as("rurik", key), s.as("imani", key), s.as("keiko", key)

	s.at(3*day + 18*hour)
	fmt.Println("  rurik    tries a foam that is everywhere, on a branch of its own, and gives it up")
	rurik.tarn("update")
	rurik.tarn("branch", "add", "white-water", "-m", "Would foam on every wave read better from the boat?", "--switch")
	rurik.hand(handoff{note: "Brine: foam on every crest",
		old: files{"textures/brine-albedo.png": scene.Albedo("brine", 512, 4), "textures/brine-roughness.png": scene.Roughness("brine", 512, 4)}})
	s.at(3*day + 2*hour)
	rurik.tarn("switch", "main")
	rurik.tarn("branch", "close", "white-water")

	s.at(3 * day)
	fmt.Println("  imani    tries longer sounds of the gear, and brings them in once odile has listened: all of it by itself")
	imani.tarn("update")
	imani.tarn("branch", "add", "heavy-gear", "-m", "The crank should sound as heavy as it is", "--switch")
	imani.hand(handoff{note: "Crank with a long tail; a winch to go with it", task: "BRL-137",
		old:   files{"sounds/crank-click.wav": scene.Sound("crank-click", 2)},
		fresh: files{"sounds/winch-turn.wav": scene.Sound("crank-click", 3)}})
	imani.tarn("branch", "done", "heavy-gear")
	imani.refused("review", "merge", "heavy-gear", "--into", "main")
	imani.tarn("review", "open", "heavy-gear", "--ask", "odile", "-m", "Heavier, and still a crank?")
	s.at(2*day + 20*hour)
	odile.tarn("review", "answer", "r1", "--yes", "-m", "Yes, that has weight")
	imani.tarn("merge", "heavy-gear", "--into", "main", "-m", "The gear sounds as heavy as it is")
	imani.tarn("review", "close", "r1")
	imani.tarn("switch", "main")
	imani.tarn("branch", "close", "heavy-gear")

	s.at(2*day+18*hour, 20*hour)
	fmt.Println("  tamsin   begins the second chapter on a branch; people are asked to look at it")
	tamsin.tarn("update")
	tamsin.tarn("branch", "add", "second-chapter", "-m", "The drowned bell: what lies below the harbour", "--switch")
	tamsin.hand(handoff{note: "The bell hangs below the buoy; the winch gets the crank that raises it", task: "BRL-140", stage: "rough",
		old:   files{"models/winch.glb": scene.Model("winch", 1), "text/dialogue-keeper.txt": []byte(keeperOfTheBell)},
		fresh: files{"models/drowned-bell.glb": scene.Model("buoy", 2), "skies/below-the-harbour.png": scene.Sky(512, 2)}})
	tamsin.hand(handoff{note: "Below the harbour: the kelp is darker, gulls are gone, the lamps burn longer", task: "BRL-141",
		old: files{"levels/harbour/things.json": scene.Things(2), "textures/kelp-albedo.png": scene.Albedo("kelp", 512, 2)}})
	imani.tarn("switch", "second-chapter")
	imani.hand(handoff{note: "The drowned bell, first take", task: "BRL-142", stage: "rough",
		fresh: files{"sounds/drowned-bell.wav": scene.Sound("buoy-bell", 2)}})
	s.at(9 * hour)
	imani.tarn("switch", "main")
	tamsin.tarn("branch", "done", "second-chapter")
	tamsin.tarn("review", "open", "second-chapter", "--ask", "odile", "--ask", "rurik", "--ask", "keiko", "-m",
		"Does the bell read from the boat, and is the kelp dark enough?")
	s.at(8 * hour)
	rurik.tarn("review", "say", "r2", "textures/kelp-albedo.png", "--where", "32%,46%", "-m", "Too dark in this corner: the veins are gone")
	rurik.tarn("review", "say", "r2", "models/drowned-bell.glb", "--where", "0,1.2,0", "-m", "The ring cuts through the hull here")
	imani.tarn("review", "say", "r2", "sounds/drowned-bell.wav", "--where", "0:01.2", "-m", "It beats against the surf from here on")
	s.at(7 * hour)
	tamsin.tarn("review", "say", "r2", "--to", "1", "-m", "Lighter by a third in the next pass")
	keiko.tarn("review", "answer", "r2", "--yes", "-m", "It reads well from the boat, and nothing of it touches the code")
	rurik.tarn("review", "answer", "r2", "--not-yet", "-m", "Once the ring is clear of the hull")
	tamsin.tarn("switch", "main")

	s.at(6*hour+40*minute, 20*minute)
	fmt.Println("  On main the same three things go on: two that need no lock, and one that odile locks knowingly")
	odile.hand(handoff{note: "The keeper says one line less", task: "BRL-131",
		fresh: files{"text/dialogue-keeper.txt": []byte(keeperCutShort)}})
	keiko.hand(handoff{note: "Lamps of the harbour start with less oil", task: "BRL-133",
		fresh: files{"levels/harbour/things.json": scene.Things(3)}})
	odile.tarn("lock", "--diverge", "--note", "Trailer is today; the second chapter's crank comes later", "models/winch.glb")
	odile.write("models/winch.glb", scene.Model("winch", 2))
	odile.tarn("send", "-m", "Winch with a longer arm, for the trailer", "--task", "BRL-138", "models/winch.glb")
}

// revisionC is what tidepad tries after revision B.
func (s *stage) revisionC() {
	const key = "tidepad"
	bastien, keiko := s.as("bastien", key), s.as("keiko", key)
	s.at(6 * day)
	fmt.Println("  bastien  tries revision C on a branch, and asks keiko to look")
	bastien.tarn("branch", "add", "rev-c", "-m", "Revision C: back to the low regulator, with a larger capacitor", "--switch")
	bastien.tarn("rollback", "board/tidepad.kicad_sch", "--to", "v2", "-m", "TID-41: the lower regulator once more")
	bastien.tarn("review", "open", "rev-c", "--ask", "keiko", "-m", "Does the regulator hold the crank's peak now?")
	s.at(4 * day)
	keiko.tarn("review", "say", "r1", "board/tidepad.kicad_sch", "--where", "part U2", "-m", "Which one is this? The parts list says another")
	bastien.tarn("switch", "main")
}
