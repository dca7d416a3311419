package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"kettletarn/demo/scene"
	"kettletarn/internal/postbox"
	"kettletarn/internal/rig"
)

func passphrase(handle string) string { return "lantern-and-" + handle }

// stage plays the scenario. Every step is a command of the real client, run as one of the six, on a machine of their own.
type stage struct {
	ctx    context.Context
	bin    string
	folder string
	daemon *rig.Daemon
	box    *postbox.Box
	clock  func(ago time.Duration) error

	// Of one act: how long ago its steps are, what passes after a handoff, and what waits for its turn.
	ago, gap time.Duration
	wait     func(ago time.Duration) bool
}

// player is one of the six in one of their workspaces.
type player struct {
	*stage
	handle, project string
}

func (s *stage) as(handle, project string) player { return player{s, handle, project} }

func (p player) home() string { return filepath.Join(p.folder, "people", p.handle) }
func (p player) dir() string  { return filepath.Join(p.home(), p.project) }

// failure ends the play; see play.
type failure struct{ error }

func check(err error) {
	if err != nil {
		panic(failure{err})
	}
}

// run runs a command of tarn, and returns its exit status and what it printed.
func (p player) run(dir, input string, args ...string) (int, string) {
	r, err := rig.Machine{Bin: p.bin, Home: p.home(), Handle: p.handle}.Run(p.ctx, dir, input, args...)
	check(err)
	return r.Status, r.Out + r.Errs
}

// tarn runs a command that has to work.
func (p player) tarn(args ...string) {
	if status, out := p.run(p.dir(), "", args...); status != 0 {
		panic(failure{fmt.Errorf("%s: tarn %s ended with %d:\n%s", p.handle, strings.Join(args, " "), status, out)})
	}
}

// refused runs a command that has to be refused, for a reason that mentions says.
func (p player) refused(says string, args ...string) {
	if status, out := p.run(p.dir(), "", args...); status != 1 || !strings.Contains(out, says) {
		panic(failure{fmt.Errorf("%s: tarn %s should be refused, and ended with %d:\n%s", p.handle, strings.Join(args, " "), status, out)})
	}
}

// newest is the number of the newest handoff.
func (p player) newest() int {
	status, out := p.run(p.dir(), "", "history", "--limit", "1", "--json")
	var list struct{ Handoffs []struct{ Number int } }
	if err := json.Unmarshal([]byte(out), &list); status != 0 || err != nil || len(list.Handoffs) == 0 {
		panic(failure{fmt.Errorf("%s: tarn history ended with %d:\n%s", p.handle, status, out)})
	}
	return list.Handoffs[0].Number
}

func (p player) write(path string, data []byte) {
	full := filepath.Join(p.dir(), filepath.FromSlash(path))
	check(os.MkdirAll(filepath.Dir(full), 0o755))
	check(os.WriteFile(full, data, 0o644))
}

// handoff is a piece of work: begin what is there, change it, send it.
type handoff struct {
	note, task, stage string
	old, fresh        map[string][]byte
}

func (p player) hand(h handoff) {
	fmt.Printf("  %-8s %s\n", p.handle, h.note)
	p.tarn("update")
	if len(h.old) > 0 {
		args := []string{"begin", "--no-open"}
		for path := range h.old {
			args = append(args, path)
		}
		p.tarn(args...)
	}
	args := []string{"send", "-m", h.note}
	if h.task != "" {
		args = append(args, "--task", h.task)
	}
	if h.stage != "" {
		args = append(args, "--stage", h.stage)
	}
	for _, files := range []map[string][]byte{h.old, h.fresh} {
		for path, data := range files {
			p.write(path, data)
			args = append(args, path)
		}
	}
	p.tarn(args...)
	p.goOn()
}

// play makes the six and plays what happened. A step that does not do what it should ends it.
func (s *stage) play() (err error) {
	defer func() {
		if v := recover(); v != nil {
			f, ok := v.(failure)
			if !ok {
				panic(v)
			}
			err = f.error
		}
	}()
	check(s.clock(43 * day))
	for _, handle := range handles {
		var flags []string
		if handle == "odile" {
			flags = append(flags, "--steward")
		}
		check(s.daemon.AddPerson(s.ctx, handle, passphrase(handle), flags...))
		p := s.as(handle, "")
		check(os.MkdirAll(p.home(), 0o755))
		if status, out := p.run(p.home(), passphrase(handle)+"\n", "sign-in", s.daemon.URL, "--as", handle); status != 0 {
			return fmt.Errorf("%s can't sign in: %s", handle, out)
		}
		address := handle + "@saltpan.example"
		if status, out := p.run(p.home(), "", "news", "--address", address); status != 0 {
			return fmt.Errorf("%s can't choose how to hear of things: %s", handle, out)
		}
		if status, out := p.run(p.home(), "", "news", "--code", s.box.Code(address)); status != 0 {
			return fmt.Errorf("%s can't show that the address is theirs: %s", handle, out)
		}
	}
	s.acts((*stage).brinelight, (*stage).tidepad, (*stage).undertow, (*stage).lampParts)
	s.house()
	s.lantern()
	return nil
}

// house is what who runs it sees to: how much a project may take, and who is invited.
func (s *stage) house() {
	odile := s.as("odile", "brinelight")
	odile.tarn("project", "limit", "brinelight", "48MB")
	odile.tarn("invite", "add", "--role", "artist", "--uses", "2", "--expires", "2w")
}

// lantern is the folder of the five minutes in the README: files that are no project yet.
func (s *stage) lantern() {
	for name, data := range (files{
		"textures/rust-albedo.png": scene.Albedo("rust", 512, 1), "textures/rust-normal.png": scene.Normal("rust", 512, 1),
		"textures/rust-roughness.png": scene.Roughness("rust", 512, 1),
		"textures/rust-height.png":    scene.Height("rust", 512, 1), "models/lamp.glb": scene.Model("lamp", 0),
		"models/buoy.glb": scene.Model("buoy", 0), "fog-horn.wav": scene.Sound("fog-horn", 1),
		"dialogue-keeper.txt": scene.Dialogue("keeper", 1), "cache/bake.tmp": []byte("made again at any time"),
	}) {
		full := filepath.Join(s.folder, "lantern", filepath.FromSlash(name))
		check(os.MkdirAll(filepath.Dir(full), 0o755))
		check(os.WriteFile(full, data, 0o644))
	}
}

type files = map[string][]byte

func maps(material string, edge, pass int) files {
	return files{
		"textures/" + material + "-albedo.png":    scene.Albedo(material, edge, pass),
		"textures/" + material + "-normal.png":    scene.Normal(material, edge, pass),
		"textures/" + material + "-roughness.png": scene.Roughness(material, edge, pass),
	}
}

// begin makes the project in one person's folder and brings it to the others.
func (s *stage) found(owner, project string, baseline files, others map[string]string) {
	fmt.Printf("  %-8s starts %s\n", owner, project)
	o := s.as(owner, project)
	for path, data := range baseline {
		o.write(path, data)
	}
	o.tarn("start", project, "--yes", "-m", "Baseline: everything as it stands on the shared drive")
	for handle, role := range others {
		o.tarn("member", "add", handle, "--role", role)
		p := s.as(handle, project)
		check(os.MkdirAll(p.dir(), 0o755))
		p.tarn("join", project, ".")
	}
}

const brinelightRules = `# What brinelight tracks. The last rule that matches decides; tarn rules test PATH says which one that is.
presets = ["game", "sound"]

# The code lies beside the assets, in git.
otherwise = "code"

# Where the ids of tasks lead.
[[task]]
match = "BRL-*"
link = "https://tasks.saltpan.example/{task}"

# Texts are merged by hand: anyone may send them.
[[rule]]
match = ["/text/", "/levels/**/*.json"]
kind = "asset"
lock = "free"

# Two people wanted the harbour at the same time, once too often.
[[rule]]
match = "/levels/**/*.glb"
lock = "on-edit"

# The maps of one material go together.
[[set]]
match = "/textures/"
by = "stem"

# What the other projects use, too.
[[kit]]
name = "lamp-parts"
match = ["/models/lamp.glb", "/models/winch.glb", "/textures/glass-*.png"]

# The second chapter comes in when somebody has looked at it.
[[branch]]
match = "main"
yes = 1
`

const tidepadRules = `# What tidepad tracks.
presets = ["board", "enclosure"]

# Where the ids of tasks lead.
[[task]]
match = "TID-*"
link = "https://tasks.saltpan.example/{task}"

# Parts to fit the box around.
[[rule]]
match = "/mechanical/"
kind = "asset"

# Schematic, board and what is made of them for the factory go together.
[[set]]
match = "/board/"
by = "stem"
`

func (s *stage) brinelight() {
	const key = "brinelight"
	baseline := files{
		"tarn.toml":                  []byte(brinelightRules),
		"levels/harbour/harbour.glb": scene.Level("harbour", 0), "levels/kelp-forest/kelp-forest.glb": scene.Level("kelp-forest", 0),
		"levels/lamp-room/lamp-room.glb": scene.Level("lamp-room", 0),
		"models/lamp.glb":                scene.Model("lamp", 0), "models/buoy.glb": scene.Model("buoy", 0),
		"models/rowing-boat.glb": scene.Model("rowing-boat", 0), "models/winch.glb": scene.Model("winch", 0),
		"sounds/fog-horn.wav": scene.Sound("fog-horn", 0), "sounds/oar-stroke.wav": scene.Sound("oar-stroke", 0),
		"sounds/hull-creak.wav":    scene.Sound("hull-creak", 0),
		"text/dialogue-keeper.txt": scene.Dialogue("keeper", 0), "text/dialogue-ferryman.txt": scene.Dialogue("ferryman", 0),
		"text/tuning-boat.csv": scene.Tuning("boat", 0), "text/tuning-light.csv": scene.Tuning("light", 0),
		"levels/harbour/placements.csv": scene.Tuning("placements", 0), "levels/harbour/things.json": scene.Things(0),
	}
	for path, data := range maps("rust", 768, 0) {
		baseline[path] = data
	}
	for path, data := range maps("brine", 512, 0) {
		baseline[path] = data
	}
	baseline["interface/title.png"], baseline["textures/brine-height.png"] = scene.Sky(256, 0), scene.Height("brine", 512, 0)
	s.at(42*day, 23*hour+40*minute)
	s.found("odile", key, baseline, map[string]string{"tamsin": "artist", "rurik": "artist", "imani": "artist", "keiko": "artist",
		"bastien": "viewer"})
	odile, tamsin, rurik, imani, keiko := s.as("odile", key), s.as("tamsin", key), s.as("rurik", key), s.as("imani", key), s.as("keiko", key)
	keiko.code()
	s.goOn()

	rurik.hand(handoff{note: "Kelp, first pass: blades only, no veins yet", task: "BRL-104", stage: "rough", fresh: maps("kelp", 512, 0)})
	imani.hand(handoff{note: "Gull, bell and surf, so that the harbour is not silent any more", task: "BRL-107", fresh: files{
		"sounds/gull-call.wav": scene.Sound("gull-call", 0), "sounds/buoy-bell.wav": scene.Sound("buoy-bell", 0),
		"sounds/surf-loop.wav": scene.Sound("surf", 0)}})
	tamsin.hand(handoff{note: "Harbour: quay dug out for the ferry, two more posts", task: "BRL-112",
		old: files{"levels/harbour/harbour.glb": scene.Level("harbour", 1), "levels/harbour/placements.csv": scene.Tuning("placements", 1),
			"levels/harbour/things.json": scene.Things(1)}})
	rurik.hand(handoff{note: "Lens glass with the soot ring that Odile asked for", task: "BRL-109", stage: "rough",
		fresh: maps("glass", 512, 0)})
	rurik.hand(handoff{note: "Fog bank, tiling; roughness is flat on purpose", task: "BRL-110", fresh: maps("fog", 512, 0)})
	keiko.hand(handoff{note: "Boat handles heavier against the tide: drag and turn rate", task: "BRL-115",
		old: files{"text/tuning-boat.csv": scene.Tuning("boat", 1)}})
	keiko.pin("Rowing: drag grows with the square of the speed", "boat.go", rowing(1))
	rurik.hand(handoff{note: "Rust: the plates bite deeper along the seams", task: "BRL-117", stage: "polish", old: maps("rust", 768, 1)})
	tamsin.hand(handoff{note: "Sky for the harbour evening, and the dials for oil and heading", task: "BRL-118", fresh: files{
		"skies/harbour-evening.png": scene.Sky(512, 0), "interface/oil-gauge.png": scene.Dial(512, 24, 0.6, 0),
		"interface/compass.png":    scene.Dial(512, 32, -1.2, 1),
		"interface/tide-clock.png": scene.Dial(512, 12, 2.1, 0), "skies/kelp-forest-noon.png": scene.Sky(512, 1)}})
	imani.hand(handoff{note: "Fog horn a third lower; it fought with the gulls", task: "BRL-121",
		old: files{"sounds/fog-horn.wav": scene.Sound("fog-horn", 1)}})
	odile.hand(handoff{note: "Lighthouse block-out for scale, with its planks", task: "BRL-122",
		fresh: files{"models/lighthouse.glb": scene.Model("lighthouse", 0),
			"textures/plank-albedo.png": scene.Albedo("plank", 512, 0), "textures/plank-normal.png": scene.Normal("plank", 512, 0),
			"textures/plank-roughness.png": scene.Roughness("plank", 512, 0), "sounds/crank-click.wav": scene.Sound("oar-stroke", 1),
			"text/dialogue-diver.txt": scene.Dialogue("ferryman", 1)}})

	s.at(31*day, 2*day)
	odile.tarn("milestone", "add", "quay-walk", "-m", "One walks the quay from end to end, and nothing falls through it")
	tamsin.hand(handoff{note: "Lamp: taller hood and a handle to carry it by", task: "BRL-123", stage: "rough",
		old: files{"models/lamp.glb": scene.Model("lamp", 1)}})

	keiko.pin("Lamp: the light is drawn from the oil that is left", "lamp.go", lamp(0))
	s.at(27*day + 5*hour)
	fmt.Println("  rurik    wants the harbour while tamsin has it; keiko too: both wait, rurik asks")
	tamsin.tarn("update")
	tamsin.tarn("begin", "--no-open", "--note", "Breakwater", "levels/harbour/harbour.glb")
	s.at(27*day + 3*hour)
	rurik.tarn("update")
	rurik.refused("tamsin holds it", "lock", "levels/harbour/harbour.glb")
	rurik.tarn("ask", "-m", "Two posts stand where the ferry light falls", "levels/harbour/harbour.glb")
	s.at(27*day + 2*hour)
	keiko.tarn("update")
	keiko.tarn("lock", "--wait", "--note", "Collision of the quay", "levels/harbour/harbour.glb")
	tamsin.tarn("answer", "--not-yet", "-m", "The breakwater is half built", "--until", "2h", "levels/harbour/harbour.glb")
	s.at(27 * day)
	tamsin.hand(handoff{note: "Harbour: breakwater, and the current bends round it", task: "BRL-124", stage: "polish",
		old: files{"levels/harbour/harbour.glb": scene.Level("harbour", 2)}})
	s.at(27*day - hour)
	rurik.tarn("begin", "--no-open", "--note", "The two posts", "levels/harbour/harbour.glb")
	keiko.tarn("ask", "-m", "Only the collision, ten minutes", "levels/harbour/harbour.glb")
	fmt.Println("  rurik    gives it to keiko before he has begun")
	s.at(27*day - 2*hour)
	rurik.tarn("answer", "--give", "levels/harbour/harbour.glb")
	keiko.tarn("begin", "--no-open", "levels/harbour/harbour.glb")
	s.at(27*day - 3*hour)
	keiko.tarn("unlock", "levels/harbour/harbour.glb")

	fmt.Println("  imani    forgets a lock over the weekend; odile takes it away; imani comes back, and sends hers as a copy")
	s.at(20 * day)
	imani.tarn("lock", "--note", "Quick trim before I leave", "sounds/hull-creak.wav")
	imani.write("sounds/hull-creak.wav", scene.Sound("hull-creak", 2))
	s.at(16 * day)
	odile.tarn("update")
	odile.tarn("unlock", "--override", "--reason", "Imani is away until Tuesday and the build needs the creak today", "sounds/hull-creak.wav")
	odile.hand(handoff{note: "Hull creak shortened for the build", task: "BRL-126",
		old: files{"sounds/hull-creak.wav": scene.Sound("hull-creak", 1)}})
	s.at(15 * day)
	imani.refused("version 2 is newer", "send", "-m", "Trimmed", "sounds/hull-creak.wav")
	imani.refused("tarn settle sounds/hull-creak.wav", "update")
	imani.tarn("settle", "--use", "copy", "sounds/hull-creak.wav")
	imani.tarn("send", "-m", "My trim of the creak from Friday, beside Odile's: take the better one", "--task", "BRL-126",
		"sounds/hull-creak-imani.wav")

	s.at(14*day, 20*hour)
	rurik.hand(handoff{note: "Kelp: veins and the yellow tips", task: "BRL-104", stage: "polish", old: maps("kelp", 512, 1)})
	rurik.hand(handoff{note: "Rust: rivets catch the lamp now. Height map for the close-ups", task: "BRL-117", stage: "final",
		old: maps("rust", 768, 2), fresh: files{"textures/rust-height.png": scene.Height("rust", 768, 2)}})
	tamsin.hand(handoff{note: "Rowing boat gets a third bench, the buoy a ring to tie up to", task: "BRL-128", stage: "polish",
		old: files{"models/rowing-boat.glb": scene.Model("rowing-boat", 1), "models/buoy.glb": scene.Model("buoy", 1)}})
	imani.hand(handoff{note: "Bell lower and longer; the gull calls from further off", task: "BRL-129", stage: "polish",
		old: files{"sounds/buoy-bell.wav": scene.Sound("buoy-bell", 1), "sounds/gull-call.wav": scene.Sound("gull-call", 1)}})
	odile.hand(handoff{note: "Lighthouse: a gallery round the lantern, one can stand on it", task: "BRL-122", stage: "polish",
		old: files{"models/lighthouse.glb": scene.Model("lighthouse", 1)}})
	rurik.hand(handoff{note: "Glass: the soot ring is thinner, the fog bank warmer at its edge", task: "BRL-109", stage: "polish",
		old: files{"textures/glass-albedo.png": scene.Albedo("glass", 512, 1), "textures/glass-normal.png": scene.Normal("glass", 512, 1),
			"textures/fog-albedo.png": scene.Albedo("fog", 512, 1)}})
	tamsin.hand(handoff{note: "Kelp forest and lamp room: paths widened after the playtest", task: "BRL-130",
		old: files{"levels/kelp-forest/kelp-forest.glb": scene.Level("kelp-forest", 1),
			"levels/lamp-room/lamp-room.glb": scene.Level("lamp-room", 1)}})
	keiko.pin("Breakwater: the current bends round what stands in it", "boat.go", rowing(2))
	odile.hand(handoff{note: "Keeper's lines for the first lighthouse, read aloud and cut by half", task: "BRL-131",
		old: files{"text/dialogue-keeper.txt": scene.Dialogue("keeper", 1)}})
	keiko.hand(handoff{note: "Light range follows the oil left", task: "BRL-133",
		old: files{"text/tuning-light.csv": scene.Tuning("light", 1)}})
	tamsin.hand(handoff{note: "Sky: three lamps lit, as at the end of the first chapter", task: "BRL-134", stage: "final",
		old: files{"skies/harbour-evening.png": scene.Sky(512, 1)}})
	s.at(5*day, 3*hour)
	odile.tarn("update")
	odile.tarn("milestone", "add", "first-light", "-m", "The first chapter from the jetty to the third lamp")
	tamsin.hand(handoff{note: "Compass: tried an arrow instead of the needle", task: "BRL-135", stage: "rough",
		old: files{"interface/compass.png": scene.Dial(512, 32, 0.4, 0)}})
	fmt.Println("  odile    undoes that handoff: the needle was better")
	odile.tarn("update")
	odile.tarn("rollback", "--without", fmt.Sprintf("h%d", odile.newest()), "-m", "BRL-135: the needle was easier to read from the boat")
	s.goOn()
	fmt.Println("  tamsin   moves the noon sky aside")
	tamsin.tarn("move", "skies/kelp-forest-noon.png", "skies/kept/kelp-forest-noon.png")
	tamsin.tarn("lock", "skies/kept/kelp-forest-noon.png")
	tamsin.tarn("send", "-m", "Noon sky kept aside: the first chapter is all evening", "--task", "BRL-134")

	keiko.pin("First chapter from the jetty to the third lamp", "lamp.go", lamp(1))
	s.apart()
	s.at(5 * hour)
	fmt.Println("  The day goes on: three locks are held, and rurik has work that he has not sent")
	tamsin.tarn("update")
	tamsin.tarn("begin", "--no-open", "--note", "Ferry steps for BRL-136", "levels/harbour/harbour.glb", "levels/harbour/placements.csv")
	s.at(4 * hour)
	imani.tarn("update")
	imani.tarn("begin", "--no-open", "--note", "New take of the stroke", "sounds/oar-stroke.wav")
	rurik.tarn("update")
	rurik.tarn("begin", "--no-open", "--note", "Wet version", "textures/plank-albedo.png")
	rurik.write("textures/plank-albedo.png", scene.Albedo("plank", 512, 1))
	rurik.write("textures/plank-wet-mask.png", scene.Roughness("brine", 512, 1))
	rurik.write("cache/fog-painted.png", scene.Albedo("fog", 256, 1))
	rurik.tarn("rules", "include", "-m", "Painted by hand for the title, the bake does not make it", "cache/fog-painted.png")
	rurik.tarn("status", "--fetch")
	odile.write("text/dialogue-diver.txt", append(scene.Dialogue("ferryman", 1), "\n\nDIVER: Hold the rope.\n"...))
	odile.tarn("status", "--fetch")
	odile.tarn("update")
	s.at(2 * hour)
	fmt.Println("  It is a busy afternoon: people wait, ask, and are offered what they waited for")
	keiko.tarn("update")
	keiko.tarn("lock", "--wait", "--note", "Ferry timetable", "levels/harbour/placements.csv")
	s.at(90 * minute)
	keiko.tarn("ask", "-m", "The collision once more, before the build", "levels/harbour/harbour.glb")
	rurik.tarn("lock", "--wait", "--note", "Steps want the wet planks", "levels/harbour/harbour.glb")
	s.at(50 * minute)
	tamsin.tarn("answer", "--not-yet", "-m", "The steps are half in", "--until", "3h", "levels/harbour/harbour.glb")
	odile.tarn("begin", "--no-open", "--note", "Lantern glass for the lighthouse", "models/lighthouse.glb")
	tamsin.tarn("ask", "-m", "The door has to match the steps, one minute", "models/lighthouse.glb")
	s.at(25 * minute)
	imani.tarn("lock", "--note", "Surf a little slower", "sounds/surf-loop.wav")
	odile.tarn("lock", "--wait", "--note", "Loop point clicks in the trailer", "sounds/surf-loop.wav")
	s.at(6 * minute)
	imani.tarn("unlock", "sounds/surf-loop.wav")
	rurik.tarn("lock", "--reserve", "--note", "Wet planks, when the mask is done", "textures/plank-wet-albedo.png")
}

func (s *stage) tidepad() {
	const key = "tidepad"
	board := func(pass int) files {
		return files{"board/tidepad.kicad_sch": scene.Schematic(pass), "board/tidepad.kicad_pcb": scene.Board(pass),
			"parts.csv": scene.PartsList(pass)}
	}
	fabrication := func(pass int) files {
		f := files{"fabrication/drill.drl": scene.Drill(pass)}
		for _, layer := range []string{"copper-top", "copper-bottom", "silk-top", "mask-top", "mask-bottom", "edge"} {
			f["fabrication/"+layer+".gbr"] = scene.Gerber(layer, pass)
		}
		return f
	}
	baseline := files{"tarn.toml": []byte(tidepadRules), "enclosure/top.stl": scene.Enclosure("top", 0),
		"enclosure/bottom.stl": scene.Enclosure("bottom", 0), "enclosure/enclosure.step": scene.Step(0), "data-sheet.pdf": scene.DataSheet(0)}
	for path, data := range board(0) {
		baseline[path] = data
	}
	s.at(38*day, 4*day-hour)
	s.found("bastien", key, baseline, map[string]string{"odile": "owner", "keiko": "artist"})
	bastien, keiko := s.as("bastien", key), s.as("keiko", key)
	bastien.hand(handoff{note: "Fabrication files of revision A, as sent out", task: "TID-20", stage: "fabrication", fresh: fabrication(0)})
	bastien.hand(handoff{note: "Revision B: lower regulator, more capacitance, dimmer LED", task: "TID-31", old: board(1)})
	bastien.hand(handoff{note: "Box 2 mm higher for the crank's bearing", task: "TID-33",
		old: files{"enclosure/top.stl": scene.Enclosure("top", 1), "enclosure/bottom.stl": scene.Enclosure("bottom", 1),
			"enclosure/enclosure.step": scene.Step(1)}})
	fmt.Println("  keiko    rolls the schematic back: the lower regulator browns out")
	s.at(24*day, 4*day)
	keiko.tarn("update")
	keiko.tarn("rollback", "board/tidepad.kicad_sch", "--to", "v1", "-m",
		"TID-35: back to the regulator of revision A, the new one browns out on the crank's peak")
	bastien.hand(handoff{note: "Revision B as it is built: data lines protected, lamp on another pin, reset needs no resistor", task: "TID-37",
		stage: "layout", old: board(2)})
	bastien.hand(handoff{note: "Fabrication files of revision B; screws M2.5 instead of M3", task: "TID-38", stage: "fabrication",
		old: fabrication(2)})
	bastien.hand(handoff{note: "Data sheet for revision B", task: "TID-36", old: files{"data-sheet.pdf": scene.DataSheet(2)}})
	s.at(11 * day)
	bastien.tarn("milestone", "add", "tidepad-rev-b", "-m", "As sent to the factory")
	bastien.tarn("update")
	s.revisionC()
	s.at(7 * hour)
	bastien.tarn("begin", "--no-open", "--note", "Silk screen for the switch", "board/tidepad.kicad_pcb")
}
