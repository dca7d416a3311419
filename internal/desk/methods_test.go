//go:build linux

package desk

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creachadair/jrpc2"
	"github.com/creachadair/jrpc2/channel"
	"github.com/creachadair/jrpc2/handler"

	"kettletarn/internal/core/model"
	"kettletarn/internal/signins"
	"kettletarn/internal/testbed"
	"kettletarn/internal/workspace"
)

const key = testbed.Project

// team is a project with two people: rurik, whose machine this is, with a desk, and odile elsewhere.
type team struct {
	t     *testing.T
	rurik *workspace.Workspace
	odile *workspace.Workspace
	id    string
	calls *jrpc2.Client

	mu       sync.Mutex
	followed map[string]model.Asset
	notices  []Noticed
	progress []Progress
}

func newTeam(t *testing.T, files map[string]string) *team {
	t.Helper()
	testbed.Home(t)
	url, odile, rurik := testbed.NewService(t, nil).Team(t)
	join := func(token string) *workspace.Workspace {
		w, err := workspace.Join(t.Context(), filepath.Join(t.TempDir(), key), key, false, testbed.Client(t, url, token), nil)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = w.Close() })
		return w
	}
	g := &team{t: t, odile: join(odile), followed: map[string]model.Asset{}}
	for name, text := range files {
		g.write(g.odile, name, text)
	}
	g.send(g.odile)
	// The other one's folder is on another machine.
	state := os.Getenv("XDG_STATE_HOME")
	if err := os.Rename(filepath.Join(state, "kettle-tarn", "workspaces", g.odile.Marker.Workspace, "place.json"),
		filepath.Join(state, "elsewhere.json")); err != nil {
		t.Fatal(err)
	}
	g.rurik = join(rurik)
	if _, err := g.rurik.Update(t.Context(), workspace.UpdateOptions{}); err != nil {
		t.Fatal(err)
	}
	kept := signins.Kept{Current: url, Services: map[string]signins.SignIn{url: {Handle: "rurik", Token: rurik}}}
	if err := kept.Write(); err != nil {
		t.Fatal(err)
	}
	at, _ := run(t)
	line, err := at.Dial(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	g.id = g.rurik.Marker.Workspace
	g.calls = jrpc2.NewClient(line, &jrpc2.ClientOptions{OnNotify: g.hear})
	t.Cleanup(func() { _ = g.calls.Close() })
	testbed.Eventually(t, "the desk knows the workspace", func() bool {
		var all Workspaces
		g.call("workspaces", Nothing{}, &all)
		return len(all.Workspaces) == 1 && all.Workspaces[0].Known && all.Workspaces[0].Online
	})
	return g
}

func (g *team) hear(r *jrpc2.Request) {
	g.mu.Lock()
	defer g.mu.Unlock()
	switch r.Method() {
	case "changed":
		var c Changed
		if err := r.UnmarshalParams(&c); err != nil {
			g.t.Error(err)
		}
		for _, a := range c.Assets {
			g.followed[a.Path] = a
		}
		for _, p := range c.Away {
			delete(g.followed, p)
		}
	case "noticed":
		var n Noticed
		if err := r.UnmarshalParams(&n); err != nil {
			g.t.Error(err)
		}
		g.notices = append(g.notices, n)
	case "progress":
		var p Progress
		if err := r.UnmarshalParams(&p); err != nil {
			g.t.Error(err)
		}
		g.progress = append(g.progress, p)
	}
}

func (g *team) call(method string, q, out any) {
	g.t.Helper()
	if err := g.calls.CallResult(g.t.Context(), method, q, out); err != nil {
		g.t.Fatalf("%s: %v", method, err)
	}
}

// refused calls what is to be refused, for a reason.
func (g *team) refused(method string, q any, reason string) {
	g.t.Helper()
	_, err := g.calls.Call(g.t.Context(), method, q)
	e, ok := err.(*jrpc2.Error)
	var data Refusals
	if !ok || json.Unmarshal(e.Data, &data) != nil || len(data.Refusals) == 0 || data.Refusals[0].Reason != reason {
		g.t.Errorf("%s: %v, %+v; want %s", method, err, data, reason)
	}
}

func (g *team) write(w *workspace.Workspace, path, text string) {
	g.t.Helper()
	testbed.Write(g.t, w.Root, path, text)
}

func (g *team) send(w *workspace.Workspace) {
	g.t.Helper()
	if _, err := w.Send(g.t.Context(), workspace.SendOptions{About: model.About{Note: "a pass"}}); err != nil {
		g.t.Fatal(err)
	}
}

func (g *team) of(paths ...string) Of { return Of{In: In{g.id}, Paths: paths} }

// follows waits until what was told of the workspace is how it stands.
func (g *team) follows(what string) {
	g.t.Helper()
	var want, got map[string]model.Asset
	said := ""
	for range 200 {
		s, err := g.rurik.Status(g.t.Context(), workspace.Question{})
		if err != nil {
			g.t.Fatal(err)
		}
		want = map[string]model.Asset{}
		for _, a := range g.rurik.Standing(s).Assets {
			want[a.Path] = a
		}
		g.mu.Lock()
		got = map[string]model.Asset{}
		for p, a := range g.followed {
			got[p] = a
		}
		g.mu.Unlock()
		if said = apartFrom(want, got); said == "" {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	g.t.Fatalf("%s: %s", what, said)
}

// apartFrom says what is other in two lists, "" for nothing. Both go over the wire, so that times are compared as they are there.
func apartFrom(want, got map[string]model.Asset) string {
	a, _ := json.Marshal(want)
	b, _ := json.Marshal(got)
	if reflect.DeepEqual(a, b) {
		return ""
	}
	return fmt.Sprintf("the workspace stands so:\n%s\nand was told so:\n%s", a, b)
}

func TestADayOverTheLine(t *testing.T) {
	g := newTeam(t, map[string]string{"textures/rust.png": "one", "textures/kelp.png": "one", "levels/a.glb": "one", "models/lamp.glb": "one"})
	var about About
	g.call("about", Nothing{}, &about)
	if about.Handle != "rurik" || about.Version != "test" || about.Edition != Edition {
		t.Errorf("%+v", about)
	}
	var now Standing
	g.call("follow", Follow{In: In{g.id}}, &now)
	if now.Project != key || now.Same != 4 || len(now.Assets) != 0 {
		t.Errorf("%+v", now)
	}

	// Begin brings what is newer, takes the lock, and opens the file.
	if _, err := g.odile.Lock(t.Context(), []string{"textures/rust.png"}, workspace.LockOptions{}); err != nil {
		t.Fatal(err)
	}
	g.refused("begin", Begin{Of: g.of("textures/rust.png"), Open: true}, "held")
	var locked Locked
	g.call("lock", TakeLocks{Of: g.of("textures/rust.png"), Wait: true}, &locked)
	if len(locked.Waiting) != 1 || locked.Waiting[0].Holder != "odile" {
		t.Errorf("%+v", locked)
	}
	g.write(g.odile, "textures/rust.png", "two")
	g.send(g.odile)
	testbed.Eventually(t, "it is rurik's turn, and the newest version is here", func() bool {
		text, _ := os.ReadFile(filepath.Join(g.rurik.Root, "textures/rust.png"))
		return string(text) == "two"
	})
	var begun Begun
	g.call("begin", Begin{Of: g.of("textures/kelp.png"), Open: true, Note: "greener"}, &begun)
	if len(begun.Locks) != 1 || !slices.Equal(begun.Opened, []string{"textures/kelp.png"}) {
		t.Errorf("%+v", begun)
	}

	// What is changed is told, compared, and sent in the background.
	g.write(g.rurik, "textures/kelp.png", "two")
	g.write(g.rurik, "textures/new.png", "new")
	g.follows("two changes")
	g.refused("unlock", Unlock{Of: g.of("textures/kelp.png")}, "unsent")
	var sending Sending
	g.refused("send", Send{Of: g.of(), About: model.About{Note: " "}}, model.BadRequest)
	g.call("send", Send{Of: g.of("textures/kelp.png"), About: model.About{Note: "Kelp, greener", Tasks: []string{"BRL-1"}}, Long: Long{"w"}},
		&sending)
	if sending.Job == nil || len(sending.Job.Paths) != 1 {
		t.Errorf("%+v", sending)
	}
	testbed.Eventually(t, "it is sent", func() bool {
		g.mu.Lock()
		defer g.mu.Unlock()
		return slices.ContainsFunc(g.notices, func(n Noticed) bool { return n.Kind == "sent" && n.Workspace == g.id })
	})
	g.follows("one is left")
	var history model.AssetHistory
	g.call("history", One{In: In{g.id}, Path: "textures/kelp.png"}, &history)
	if len(history.Versions) != 2 || history.Versions[0].Note != "Kelp, greener" {
		t.Errorf("%+v", history)
	}
	g.mu.Lock()
	if len(g.progress) == 0 || g.progress[0].Work != "w" {
		t.Errorf("no progress was told: %+v", g.progress)
	}
	g.mu.Unlock()

	// Put away, and back.
	var discarded workspace.Discarded
	g.call("discard", g.of("textures/new.png"), &discarded)
	var kept Kept
	g.call("put_away", In{g.id}, &kept)
	if len(kept.PutAway) != 1 || g.rurik.Has("textures/new.png") {
		t.Errorf("%+v", kept)
	}
	var back Restored
	g.call("restore", Restore{In: In{g.id}, Names: []string{kept.PutAway[0].ID}}, &back)
	if len(back.Restored) != 1 || !g.rurik.Has("textures/new.png") {
		t.Errorf("%+v", back)
	}

	// A clash, and its end.
	g.write(g.rurik, "levels/a.glb", "rurik's")
	if _, err := g.odile.Update(t.Context(), workspace.UpdateOptions{}); err != nil {
		t.Fatal(err)
	}
	if _, err := g.odile.Lock(t.Context(), []string{"levels/a.glb"}, workspace.LockOptions{}); err != nil {
		t.Fatal(err)
	}
	g.write(g.odile, "levels/a.glb", "odile's")
	g.send(g.odile)
	g.follows("a clash")
	var updated workspace.Updated
	g.call("update", Update{Of: g.of()}, &updated)
	var settled workspace.Settled
	g.call("settle", Settle{In: In{g.id}, Path: "levels/a.glb", Use: "theirs"}, &settled)
	if settled.PutAway == nil {
		t.Errorf("%+v", settled)
	}
	g.follows("no clash")

	// Scope, and what there is not.
	g.call("set_scope", SetScope{In: In{g.id}, Remove: []string{"levels"}}, &updated)
	var scope Scope
	g.call("scope", In{g.id}, &scope)
	if len(scope.Scope) != 1 || g.rurik.Has("levels/a.glb") {
		t.Errorf("%+v", scope)
	}
	g.refused("status", Of{In: In{"no-such"}}, model.NotFound)
	g.refused("begin", Begin{Of: g.of()}, model.BadRequest)
	g.refused("begin", Begin{Of: g.of("../../etc/passwd")}, model.BadRequest)
	g.refused("open", Open{One: One{In: In{g.id}, Path: "textures/none.png"}}, model.NotFound)
	g.write(g.rurik, "run.exe", "MZ")
	g.refused("open", Open{One: One{In: In{g.id}, Path: "run.exe"}}, "unknown-kind")
	g.call("open", Open{One: One{In: In{g.id}, Path: "run.exe"}, Anyway: true}, &Nothing{})
	if _, err := g.calls.Call(t.Context(), "no_such", Nothing{}); jrpc2.ErrorCode(err) != jrpc2.MethodNotFound {
		t.Errorf("%v", err)
	}
}

// TestWhatIsFollowedIsHowItStands: whatever is done in a folder and elsewhere, at random, is told. With SOAK=1 for longer.
func TestWhatIsFollowedIsHowItStands(t *testing.T) {
	files := map[string]string{}
	for i := range 30 {
		files[fmt.Sprintf("d%d/f%02d.png", i%4, i)] = "one"
	}
	g := newTeam(t, files)
	g.call("follow", Follow{In: In{g.id}}, &Standing{})
	steps, seed := 60, uint64(time.Now().UnixNano())
	if os.Getenv("SOAK") != "" {
		steps = 1500
	}
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	names := func() []string {
		var list []string
		_ = filepath.WalkDir(g.rurik.Root, func(full string, d os.DirEntry, _ error) error {
			if rel, err := filepath.Rel(g.rurik.Root, full); err == nil && d != nil && d.Type().IsRegular() && !strings.HasPrefix(rel, ".") {
				list = append(list, filepath.ToSlash(rel))
			}
			return nil
		})
		return list
	}
	for step := range steps {
		list := names()
		name := fmt.Sprintf("d%d/n%d.png", r.IntN(4), step)
		if len(list) > 0 && r.IntN(4) > 0 {
			name = list[r.IntN(len(list))]
		}
		what := ""
		switch r.IntN(9) {
		case 0, 1, 2:
			what = "write " + name
			g.write(g.rurik, name, fmt.Sprint("step ", step))
		case 3:
			what = "remove " + name
			_ = os.Remove(filepath.Join(g.rurik.Root, name))
		case 4:
			what = "move " + name
			_ = os.Rename(filepath.Join(g.rurik.Root, name), filepath.Join(g.rurik.Root, fmt.Sprintf("d%d/m%d.png", r.IntN(4), step)))
		case 5:
			what = "odile locks " + name
			_, _ = g.odile.Lock(t.Context(), []string{name}, workspace.LockOptions{})
		case 6:
			what = "odile sends " + name
			if _, err := g.odile.Update(t.Context(), workspace.UpdateOptions{}); err != nil {
				t.Fatal(err)
			}
			if _, err := g.odile.Lock(t.Context(), []string{name}, workspace.LockOptions{}); err == nil && g.odile.Has(name) {
				g.write(g.odile, name, fmt.Sprint("odile ", step))
				_, _ = g.odile.Send(t.Context(), workspace.SendOptions{About: model.About{Note: "a pass"}, Paths: []string{name}})
			}
		case 7:
			what = "update"
			_, _ = g.calls.Call(t.Context(), "update", Update{Of: g.of()})
		case 8:
			what = "begin " + name
			_, _ = g.calls.Call(t.Context(), "begin", Begin{Of: g.of(name)})
		}
		if r.IntN(3) == 0 || step == steps-1 {
			g.follows(fmt.Sprintf("step %d: %s", step, what))
		}
	}
}

// FuzzTheLine: whatever comes over a line, every request is answered, and nothing breaks.
func FuzzTheLine(f *testing.F) {
	for _, m := range Methods() {
		f.Add([]byte(fmt.Sprintf(`{"jsonrpc": "2.0", "id": 1, "method": %q, "params": {"workspace": "x", "paths": ["a/../../b", "c"]}}`, m.Name)))
	}
	f.Add([]byte(`[{"jsonrpc": "2.0", "id": 1, "method": "about"}, {"jsonrpc": "2.0", "method": "workspaces"}]`))
	f.Add([]byte(`{"jsonrpc": "2.0", "method": "rpc.cancel", "params": ["1"]}`))
	f.Add([]byte(`{"jsonrpc": "1.0"`))
	f.Fuzz(func(t *testing.T, message []byte) {
		s := &speaker{desk: &Desk{watched: map[string]*watched{}, changed: make(chan struct{}, 1)}, follower: newFollower(),
			follows: map[*watched]bool{}, notify: func(string, any) error { return nil }}
		methods := handler.Map{}
		for _, m := range s.methods() {
			if m.Name != "sign_in" && m.Name != "sign_out" { // which talk to whoever is named
				methods[m.Name] = m.handle
			}
		}
		client, server := channel.Direct()
		srv := jrpc2.NewServer(methods, &jrpc2.ServerOptions{AllowPush: true}).Start(server)
		answered := make(chan bool, 1)
		go func() {
			defer close(answered)
			for {
				answer, err := client.Recv()
				if err != nil {
					return
				}
				if strings.Contains(string(answer), `"the last"`) {
					answered <- true
				}
			}
		}()
		if err := client.Send(message); err != nil {
			t.Fatal(err)
		}
		if err := client.Send([]byte(`{"jsonrpc": "2.0", "id": "the last", "method": "workspaces"}`)); err != nil {
			t.Fatal(err)
		}
		if !<-answered {
			t.Errorf("the line broke over %q", message)
		}
		_ = client.Close()
		_ = srv.Wait()
	})
}

func FuzzParseLink(f *testing.F) {
	f.Add("tarn:open?service=https%3A%2F%2Ftarn.example&page=%2Fp%2Fbrinelight")
	f.Add("tarn://open?page=//x")
	f.Fuzz(func(t *testing.T, link string) {
		if _, page, err := ParseLink(link); err == nil && (!strings.HasPrefix(page, "/") || strings.HasPrefix(page, "//") ||
			strings.ContainsAny(page, "\\\r\n")) {
			t.Errorf("%q leads to %q", link, page)
		}
	})
}

// give brings a file into the folder as the page does.
func (g *team) give(path, text, over string) (status int, answer map[string]any) {
	g.t.Helper()
	at, err := Find(g.t.Context())
	if err != nil {
		g.t.Fatal(err)
	}
	r, err := http.NewRequestWithContext(g.t.Context(), http.MethodPut, at.At+"/desk/file?"+url.Values{"workspace": {g.id}, "path": {path},
		"over": {over}}.Encode(), strings.NewReader(text))
	if err != nil {
		g.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+at.Key)
	got, err := http.DefaultClient.Do(r)
	if err != nil {
		g.t.Fatal(err)
	}
	defer got.Body.Close()
	if err := json.NewDecoder(got.Body).Decode(&answer); err != nil {
		g.t.Fatal(err)
	}
	return got.StatusCode, answer
}

// TestAFileThatIsGiven: it is put into the folder, and nothing that stands there is lost by that.
func TestAFileThatIsGiven(t *testing.T) {
	g := newTeam(t, map[string]string{"textures/rust.png": "one", "textures/kelp.png": "one",
		"tarn.toml": "[[rule]]\nmatch = \"cache/\"\nkind = \"ignored\"\n"})
	has := func(path, want string) {
		t.Helper()
		if text, err := os.ReadFile(filepath.Join(g.rurik.Root, path)); err != nil || string(text) != want {
			t.Errorf("%s has %q, %v; want %q", path, text, err, want)
		}
	}
	put := func(path, text, over, kind string) {
		t.Helper()
		if status, answer := g.give(path, text, over); status != http.StatusOK || answer["kind"] != kind {
			t.Errorf("%s: %d %v, want %s", path, status, answer, kind)
		}
	}
	refused := func(path, over, reason string) {
		t.Helper()
		if status, answer := g.give(path, "never", over); status == http.StatusOK || answer["type"] != "urn:kettletarn:"+reason {
			t.Errorf("%s: %d %v, want %s", path, status, answer, reason)
		}
	}
	put("new/deep/a.png", "a", "", "asset")
	has("new/deep/a.png", "a")
	put("TEXTURES/b.png", "b", "", "asset")
	has("textures/b.png", "b") // in the folder that is there
	refused("textures/rust.png", "", workspace.There)
	has("textures/rust.png", "one")
	put("textures/rust.png", "two", "1", "asset")
	has("textures/rust.png", "two")
	if list, err := g.rurik.Kept(); err != nil || len(list) != 0 {
		t.Errorf("what the service has was put away: %v, %v", list, err)
	}
	// A change that was not sent is put away, not lost.
	put("Textures/RUST.png", "three", "1", "asset")
	has("textures/rust.png", "three")
	if list, err := g.rurik.Kept(); err != nil || len(list) != 1 || list[0].Path != "textures/rust.png" {
		t.Errorf("%v, %v", list, err)
	}
	put("cache/c.png", "c", "", "ignored")
	refused("cache/c.png", "1", "in-the-way")
	has("cache/c.png", "c")
	refused("textures", "1", "in-the-way")
	for _, path := range []string{"../out.png", "/etc/passwd", ".git/config", ".tarn-incoming/x", "a/CON.png", "a\x00b", ""} {
		if status, _ := g.give(path, "never", "1"); status == http.StatusOK {
			t.Errorf("%q was taken", path)
		}
	}
	testbed.Eventually(t, "it is told", func() bool {
		var now Standing
		g.call("status", g.of(), &now)
		states := map[string]string{}
		for _, a := range now.Assets {
			states[a.Path] = a.State
		}
		return states["textures/rust.png"] == "edited" && states["new/deep/a.png"] == "new" && now.Left == 1
	})

	// Why something is left out, and how it is asked for.
	var left LeftOutList
	g.call("left_out", g.of(), &left)
	if len(left.LeftOut) != 1 || left.LeftOut[0].Path != "cache/" || left.LeftOut[0].By.Line != 2 || left.LeftOut[0].By.In != "tarn.toml" {
		t.Errorf("%+v", left)
	}
	var included workspace.Included
	g.call("include", Include{Of: g.of("cache/c.png"), Reason: "painted by hand"}, &included)
	if !slices.Equal(included.Asked, []string{"cache/c.png"}) {
		t.Errorf("%+v", included)
	}
	g.refused("include", Include{Of: g.of("cache/none.png")}, "unknown")
	if entries, err := os.ReadDir(filepath.Join(g.rurik.Root, ".tarn-incoming")); err == nil {
		t.Errorf("left behind: %v", entries)
	}
}
