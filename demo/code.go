package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"kettletarn/demo/scene"
)

// git runs git in the player's folder, in the name of somebody, at a time, or now.
func (p player) git(who string, at time.Time, args ...string) {
	cmd := exec.CommandContext(p.ctx, "git", append([]string{"-c", "init.defaultBranch=main"}, args...)...)
	cmd.Dir = p.dir()
	name, mail, found := strings.Cut(who, "|")
	if !found {
		mail = who + "@saltpan.example"
	}
	cmd.Env = []string{"PATH=" + p.bin + ":" + os.Getenv("PATH"), "HOME=" + p.home(), "XDG_CONFIG_HOME=" + p.home() + "/.config",
		"XDG_STATE_HOME=" + p.home() + "/.state", "TARN_MACHINE=" + p.handle + "-pc",
		"GIT_CONFIG_NOSYSTEM=1", "GIT_AUTHOR_NAME=" + name, "GIT_AUTHOR_EMAIL=" + mail, "GIT_COMMITTER_NAME=keiko",
		"GIT_COMMITTER_EMAIL=keiko@saltpan.example"}
	if at.IsZero() {
		at = p.now()
	}
	cmd.Env = append(cmd.Env, "GIT_AUTHOR_DATE="+at.Format(time.RFC3339), "GIT_COMMITTER_DATE="+at.Format(time.RFC3339))
	if out, err := cmd.CombinedOutput(); err != nil {
		panic(failure{fmt.Errorf("%s: git %s: %w\n%s", p.handle, strings.Join(args, " "), err, out)})
	}
}

// code makes the git repository beside the assets.
func (p player) code() {
	fmt.Println("  keiko    has the code beside the assets, in git, and pins them")
	p.git("keiko", time.Time{}, "init", "-q")
	p.write("boat.go", []byte(rowing(0)))
	p.tarn("pin", "--hook")
	p.tarn("pin")
	p.git("keiko", time.Time{}, "add", ".")
	p.git("keiko", time.Time{}, "commit", "-q", "-m", "A boat that can be rowed")
}

// pin commits a change of the code together with the assets that it goes with.
func (p player) pin(message, file, text string) {
	p.tarn("update")
	p.write(file, []byte(text))
	p.tarn("pin")
	p.git("keiko", time.Time{}, "add", file)
	p.git("keiko", time.Time{}, "commit", "-q", "-a", "-m", message)
}

func rowing(pass int) string {
	drag := []string{"0.4", "0.4 * speed", "0.4 * speed * bend(course)"}[pass]
	return "package brinelight\n\n// Row is what a stroke of the oars does.\nfunc Row(speed, course float64) float64 { return speed - " +
		drag + " }\n"
}

func lamp(pass int) string {
	return fmt.Sprintf("package brinelight\n\n// Lamps is how many are lit by the end of the chapter.\nconst Lamps = %d\n", 1+2*pass)
}

// undertow is a prototype whose assets were in git from the first day; keiko brings it over with its past.
func (s *stage) undertow() {
	const key = "undertow"
	s.at(9 * day)
	fmt.Println("  keiko    brings the prototype undertow over from git, with its past")
	p := s.as("keiko", key)
	check(os.MkdirAll(p.dir(), 0o755))
	p.git("keiko", time.Time{}, "init", "-q")
	then := time.Now().AddDate(0, 0, -41)
	commit := func(who, message string, files files) {
		for path, data := range files {
			p.write(path, data)
		}
		p.git(who, then, "add", "-A")
		p.git(who, then, "commit", "-q", "-m", message)
		then = then.Add(58*time.Hour + 13*time.Minute)
	}
	commit("keiko", "A boat on a flat sea", files{"boat.go": []byte(rowing(0)), "textures/water-albedo.png": scene.Albedo("brine", 384, 0),
		"models/boat.glb": scene.Model("rowing-boat", 0)})
	commit("rurik", "Water: normals, so that it moves\n\nThe albedo is darker to make room for them.",
		files{"textures/water-albedo.png": scene.Albedo("brine", 384, 1), "textures/water-normal.png": scene.Normal("brine", 384, 0)})
	commit("Ada Brine|ada@driftwood.example", "Creaks from my grandfather's boat",
		files{"sounds/creak 1.wav": scene.Sound("hull-creak", 0), "sounds/creak 2.wav": scene.Sound("hull-creak", 1)})
	commit("keiko", "Row against the tide", files{"boat.go": []byte(rowing(1))})
	commit("tamsin", "A first shore to land on", files{"levels/shore.glb": scene.Level("harbour", 0),
		"textures/rust-albedo.png": scene.Albedo("rust", 384, 0)})
	commit("rurik", "Kelp below the boat", files{"textures/kelp-albedo.png": scene.Albedo("kelp", 384, 0),
		"textures/kelp-normal.png": scene.Normal("kelp", 384, 0)})
	p.git("tamsin", then, "mv", "textures/rust-albedo.png", "textures/hull-albedo.png")
	commit("tamsin", "The rust is the hull's", files{"levels/shore.glb": scene.Level("harbour", 1)})
	commit("Ada Brine|ada@driftwood.example", "Horn, as heard from the pier", files{"sounds/horn.wav": scene.Sound("fog-horn", 0)})
	commit("rurik", "Kelp: veins", files{"textures/kelp-albedo.png": scene.Albedo("kelp", 384, 1)})
	check(os.Remove(filepath.Join(p.dir(), "sounds", "creak 2.wav")))
	commit("keiko", "One creak is enough", nil)
	commit("tamsin", "Shore: the landing is wider", files{"levels/shore.glb": scene.Level("harbour", 2)})
	p.tarn("adopt", key, "--history", "--yes")
	p.git("keiko", time.Time{}, "commit", "-q", "-m", "The assets live in Kettle Tarn")
	for _, who := range []string{"odile", "tamsin", "rurik"} {
		p.tarn("member", "add", who, "--role", "artist")
	}
}
