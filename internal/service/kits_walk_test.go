package service_test

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/history"
	"kettletarn/internal/testbed"
)

// kitThing is an asset as the model knows it: which one, counted by the model in the project that made it, what is in it, and its version.
type kitThing struct {
	asset, version int
	text           string
}

// kitProject is what the model knows of a project.
type kitProject struct {
	key      string
	files    map[string]kitThing
	releases []map[string]kitThing // by path; those of the kit "parts", which is everything in parts/
	uses     map[string]*kitUseModel
	gone     map[string]int // which asset was there last: it comes back at its place
}

// kitUseModel is a use: said is what came, by path below its folder.
type kitUseModel struct {
	maker   *kitProject
	release int
	stay    bool
	said    map[string]kitThing
}

// kitWalk is a service beside a model of it.
type kitWalk struct {
	*team
	r        *rand.Rand
	projects map[string]*kitProject
	assets   int
	log      []string
}

func (w *kitWalk) fail(format string, args ...any) {
	w.Helper()
	w.Fatalf("%s\nafter\n%s", fmt.Sprintf(format, args...), strings.Join(w.log, "\n"))
}

func (w *kitWalk) say(format string, args ...any) {
	w.log = append(w.log, fmt.Sprintf(format, args...))
}

// send hands changes off, by path: a text, or nil for what goes; from says where one was.
func (w *kitWalk) send(p *kitProject, changes map[string]*string, from map[string]string) {
	w.Helper()
	send := handoffs.Send{Key: uuid.NewString(), Workspace: model.KindConsole, TakeFree: true, Older: true, About: model.About{Note: "a pass"}}
	for path, text := range changes {
		old := p.files[path]
		c := handoffs.Change{Path: path, Base: old.version, Gone: text == nil}
		if was := from[path]; was != "" {
			c.MovedFrom, c.Base = was, p.files[was].version
		}
		if text != nil {
			cut := testbed.Cut(w, []byte(*text))
			ok(w)(w.StoreChunks(w.Context(), w.odile, p.key, testbed.From(cut.Records)))
			c.Content, c.Size = cut.Content, cut.Size
		}
		send.Changes = append(send.Changes, c)
	}
	r, err := w.Send(w.Context(), w.odile, p.key, send, nil)
	if err != nil {
		w.fail("%s: %v", p.key, err)
	}
	for _, a := range r.Handoff.Assets {
		if a.Change == "gone" {
			p.gone[a.Path] = p.files[a.Path].asset
			delete(p.files, a.Path)
			continue
		}
		t := p.files[a.Path]
		if was := from[a.Path]; was != "" {
			t = p.files[was]
			delete(p.files, was)
		}
		if t.asset == 0 {
			if t.asset = p.gone[a.Path]; t.asset == 0 {
				w.assets++
				t.asset = w.assets
			}
		}
		delete(p.gone, a.Path)
		t.version, t.text = a.Version, *changes[a.Path]
		p.files[a.Path] = t
	}
}

func (w *kitWalk) pick(list []string) string { return list[w.r.IntN(len(list))] }

func inFolder(files map[string]kitThing, dir string) (list []string) {
	for path := range files {
		if strings.HasPrefix(path, dir+"/") && !strings.HasSuffix(path, "/tarn.kit") {
			list = append(list, path)
		}
	}
	slices.Sort(list)
	return list
}

// work changes, adds, moves or removes something in a folder.
func (w *kitWalk) work(p *kitProject, dir string, moving bool) {
	list := inFolder(p.files, dir)
	fresh := fmt.Sprintf("%s/%c.glb", dir, 'a'+rune(w.r.IntN(7)))
	text := fmt.Sprintf("text %d", w.r.IntN(20))
	_, taken := p.files[fresh]
	switch n := w.r.IntN(10); {
	case len(list) == 0 || n < 3 && !taken:
		w.say("%s: new %s: %s", p.key, fresh, text)
		w.send(p, map[string]*string{fresh: &text}, nil)
	case n < 7 || taken || !moving:
		path := w.pick(list)
		if p.files[path].text == text {
			text += " more"
		}
		if w.r.IntN(4) == 0 {
			w.say("%s: gone %s", p.key, path)
			w.send(p, map[string]*string{path: nil}, nil)
			return
		}
		w.say("%s: %s: %s", p.key, path, text)
		w.send(p, map[string]*string{path: &text}, nil)
	default:
		path := w.pick(list)
		same := p.files[path].text
		w.say("%s: %s to %s", p.key, path, fresh)
		w.send(p, map[string]*string{fresh: &same}, map[string]string{fresh: path})
	}
}

// bring is what a use becomes, by the model: the folder's files, and whether a file of the team is in the way.
func bring(p *kitProject, dir string, before *kitUseModel, now map[string]kitThing) (files map[string]string, blocked bool) {
	here := map[string]string{}
	for _, path := range inFolder(p.files, dir) {
		here[strings.TrimPrefix(path, dir+"/")] = p.files[path].text
	}
	moved, left := map[string]string{}, map[string]bool{}
	for path, a := range now {
		for was, b := range before.said {
			if a.asset == b.asset && was != path {
				_, there := here[was]
				moved[path], left[was] = was, there
			}
		}
	}
	for again := true; again; {
		again = false
		for to, from := range moved {
			_, taken := here[to]
			_, stays := now[from]
			if _, follows := moved[from]; taken && !left[to] || stays && !follows {
				delete(moved, to)
				left[from] = false
				again = true
			}
		}
	}
	files = maps.Clone(here)
	for path, b := range before.said {
		if _, stays := now[path]; left[path] || !stays && here[path] == b.text {
			delete(files, path)
		}
	}
	for path, a := range now {
		from := path
		if moved[path] != "" {
			from = moved[path]
		}
		text, there := here[from]
		old, came := before.said[from]
		switch {
		case came && !there: // taken away here
		case came && text != old.text:
			files[path] = text
		case there && !came && text != a.text:
			blocked = true
		default:
			files[path] = a.text
		}
	}
	return files, blocked
}

// change uses a kit, or brings a use to another release.
func (w *kitWalk) change(p *kitProject, dir string, maker *kitProject, to int, stay bool) {
	q := model.KitRequest{Dir: dir, To: to, Stay: stay, Workspace: model.KindConsole}
	before := p.uses[dir]
	if before == nil {
		q.Kit, before = maker.key+"/parts", &kitUseModel{maker: maker}
	}
	if to == 0 {
		to = len(maker.releases)
	}
	want, blocked := bring(p, dir, before, maker.releases[to-1])
	w.say("%s: %s becomes %s@%d (stay %v)", p.key, dir, maker.key, to, stay)
	answer, err := w.ChangeKit(w.Context(), w.odile, p.key, q, uuid.NewString())
	var refused *model.Refused
	var problem *model.Problem
	switch {
	case blocked && errors.As(err, &refused):
		w.say("  in the way")
		return
	case errors.As(err, &problem) && problem.Remedy == "there is nothing to do" || err != nil && strings.Contains(err.Error(), "already"):
		w.say("  nothing to do")
		return
	case err != nil || blocked:
		w.fail("%v (blocked: %v)", err, blocked)
	}
	for _, a := range answer.Handoff.Assets {
		delete(p.files, a.Path)
		if a.MovedFrom != "" {
			delete(p.files, a.MovedFrom)
		}
	}
	for _, path := range inFolder(p.files, dir) {
		if _, stays := want[strings.TrimPrefix(path, dir+"/")]; !stays {
			w.fail("%s is there yet", path)
		}
	}
	p.uses[dir] = &kitUseModel{maker, to, stay, maps.Clone(maker.releases[to-1])}
	w.learn(p)
	for path, text := range want {
		if got := p.files[dir+"/"+path].text; got != text {
			w.fail("%s/%s is %q, want %q", dir, path, got, text)
		}
	}
	if got := inFolder(p.files, dir); len(got) != len(want) {
		w.fail("%s has %v, want %v", dir, got, want)
	}
}

// learn reads what a project has.
func (w *kitWalk) learn(p *kitProject) {
	page, err := w.Changes(w.Context(), w.odile, p.key, history.Changes{Limit: 5000, WithLocks: true})
	if err != nil {
		w.fail("%v", err)
	}
	files := map[string]kitThing{}
	for _, a := range page.Assets {
		if a.Gone {
			continue
		}
		t := kitThing{asset: p.files[a.Path].asset, version: a.Newest, text: p.files[a.Path].text}
		if t.text == "" || p.files[a.Path].version != a.Newest {
			t.text = w.read(p.key, a.Path)
		}
		files[a.Path] = t
	}
	p.files = files
}

func (w *kitWalk) read(key, path string) string {
	_, content, err := w.OpenVersion(w.Context(), w.odile, key, path, 0)
	if err != nil {
		w.fail("%s: %v", path, err)
	}
	defer content.Close()
	data, err := io.ReadAll(content)
	if err != nil {
		w.fail("%s: %v", path, err)
	}
	return string(data)
}

// look holds every use to the model, as it is listed and as status says it.
func (w *kitWalk) look() {
	for _, p := range w.projects {
		got, err := w.Kits(w.Context(), w.odile, p.key, "")
		if err != nil || len(got.Uses) != len(p.uses) {
			w.fail("%s has the uses %+v, %v; want %d", p.key, got.Uses, err, len(p.uses))
		}
		behind := 0
		for _, u := range got.Uses {
			want := p.uses[u.Dir]
			changed := []string{}
			for path, a := range want.said {
				if p.files[u.Dir+"/"+path].text != a.text {
					changed = append(changed, path)
				}
			}
			slices.Sort(changed)
			if u.Kit != want.maker.key+"/parts" || u.Release != want.release || u.Stay != want.stay || u.Newest != len(want.maker.releases) ||
				!slices.Equal(u.Changed, changed) {
				w.fail("%s: %+v; want %s@%d of %d, changed %v", p.key, u, want.maker.key, want.release, len(want.maker.releases), changed)
			}
			if !u.Stay && u.Newest > u.Release {
				behind++
			}
		}
		page, err := w.Changes(w.Context(), w.odile, p.key, history.Changes{Limit: 5000, WithLocks: true})
		if err != nil || len(page.KitsBehind) != behind {
			w.fail("%s is behind with %+v, %v; want %d", p.key, page.KitsBehind, err, behind)
		}
	}
	for _, maker := range w.projects {
		users, err := w.KitUsers(w.Context(), w.odile, maker.key, "parts")
		want := 0
		for _, p := range w.projects {
			for _, u := range p.uses {
				if u.maker == maker {
					want++
				}
			}
		}
		if err != nil || len(users.Uses) != want {
			w.fail("%s is used as %+v, %v; want %d", maker.key, users.Uses, err, want)
		}
	}
}

// TestKitsByAModel walks at random through two projects that make kits and three that use them; those that make one use each other's,
// too. SOAK=1 walks far.
func TestKitsByAModel(t *testing.T) {
	for seed := range uint64(testbed.Steps(2, 6)) {
		w := &kitWalk{team: newTeam(t, nil), r: rand.New(rand.NewPCG(seed, 21)), projects: map[string]*kitProject{}}
		rules := "otherwise = \"code\"\n[[rule]]\nmatch = \"*.glb\"\nkind = \"asset\"\n[[kit]]\nname = \"parts\"\nmatch = \"parts/*.glb\"\n"
		makers, users := []string{"maker-a", "maker-b"}, []string{"user-a", "user-b", "user-c", "maker-a", "maker-b"}
		for _, name := range []string{"maker-a", "maker-b", "user-a", "user-b", "user-c"} {
			ok(t)(w.StartProject(t.Context(), w.odile, name))
			p := &kitProject{key: name, files: map[string]kitThing{}, uses: map[string]*kitUseModel{}, gone: map[string]int{}}
			w.projects[name] = p
			w.send(p, map[string]*string{"tarn.toml": &rules}, nil)
		}
		dirs := []string{"kits/one", "kits/two"}
		for range testbed.Steps(60, 300) {
			maker := w.projects[w.pick(makers)]
			p, dir := w.projects[w.pick(users)], w.pick(dirs)
			use := p.uses[dir]
			switch n := w.r.IntN(20); {
			case n < 7:
				w.work(maker, "parts", true)
			case n < 10:
				if len(inFolder(maker.files, "parts")) == 0 {
					continue
				}
				r, err := w.ReleaseKit(t.Context(), w.odile, maker.key, model.KitReleaseRequest{Kit: "parts", Note: "another"})
				if err != nil || r.Number != len(maker.releases)+1 {
					w.fail("%+v, %v", r, err)
				}
				state := map[string]kitThing{}
				for _, path := range inFolder(maker.files, "parts") {
					state[path] = maker.files[path]
				}
				w.say("%s@%d is released", maker.key, r.Number)
				maker.releases = append(maker.releases, state)
			case n < 12 && use == nil && len(maker.releases) > 0 && maker != p:
				w.change(p, dir, maker, 0, false)
			case n < 15 && use != nil:
				to := w.r.IntN(len(use.maker.releases) + 1)
				w.change(p, dir, use.maker, to, to > 0)
			case n < 18 && use != nil:
				w.work(p, dir+"/parts", false)
			case n == 18 && use != nil:
				w.say("%s: %s is detached", p.key, dir)
				ok(t)(w.ChangeKit(t.Context(), w.odile, p.key, model.KitRequest{Dir: dir, Detach: true, Workspace: model.KindConsole},
					uuid.NewString()))
				delete(p.uses, dir)
				delete(p.files, dir+"/tarn.kit")
			}
			w.look()
		}
	}
}
