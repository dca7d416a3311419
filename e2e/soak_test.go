package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"kettletarn/internal/core/model"
)

const (
	// killsHere is how many kills a run of all tests makes; make soak sets KILLS.
	killsHere = 24
	// seasonKills is how many of them one service and its people live through before others begin.
	seasonKills = 250
	deepEvery   = 50
)

// TestKillsLoseNothing kills the client and the service at random moments of a working day of two people, one of whom works on a branch
// that is brought in again and again. After every kill the service is verified, every handoff that somebody was ever told of is compared
// with the one that is there, and what was cut off is seen whole or not at all. The same command then goes on, and in the end each has
// become one handoff, and both have every byte.
func TestKillsLoseNothing(t *testing.T) {
	kills := killsHere
	if text := os.Getenv("KILLS"); text != "" {
		var err error
		if kills, err = strconv.Atoi(text); err != nil || kills < 1 {
			t.Fatalf("KILLS=%q is no number", text)
		}
	}
	seed := uint64(1)
	if text := os.Getenv("SEED"); text != "" {
		seed, _ = strconv.ParseUint(text, 10, 64)
	}
	total, begun := tally{}, time.Now()
	for season := uint64(0); total.kills() < kills; season++ {
		left := min(kills-total.kills(), seasonKills)
		if !t.Run(fmt.Sprint("season ", season), func(t *testing.T) { total.add(aSeason(t, seed+season, left)) }) {
			t.Fatalf("seed %d fails", seed+season)
		}
		fmt.Fprintf(os.Stderr, "%s  %s\n", time.Since(begun).Round(time.Second), total)
	}
}

type tally struct{ client, service, both, cut, arrived, verified, deep, compared, handoffs, services int }

func (n tally) kills() int { return n.client + n.service + 2*n.both }
func (n *tally) add(m tally) {
	n.client, n.service, n.both, n.cut, n.arrived = n.client+m.client, n.service+m.service, n.both+m.both, n.cut+m.cut, n.arrived+m.arrived
	n.verified, n.deep, n.compared, n.handoffs, n.services = n.verified+m.verified, n.deep+m.deep, n.compared+m.compared,
		n.handoffs+m.handoffs, n.services+m.services
}

func (n tally) String() string {
	return fmt.Sprintf("%d kills on %d services (%d of the client, %d of the service, %d of both at once): %d commands cut off, %d of their "+
		"handoffs "+
		"arrived nevertheless; verified %d times, %d of them every byte; %d handoffs acknowledged, compared %d times",
		n.kills(), n.services, n.client, n.service, n.both, n.cut, n.arrived, n.verified, n.deep, n.handoffs, n.compared)
}

// season is one service with two people who work.
type season struct {
	*tally
	t           *testing.T
	d           *daemon
	random      *rand.Rand
	odile       *person
	rurik       *person
	told        map[int]string    // the digest of each handoff that a command acknowledged, by its number
	want        map[string]string // what everybody has in the end, by path
	next        int
	met         int                      // merges that became a handoff
	longest     map[string]time.Duration // how long each command takes when left alone
	lastArrived int
}

func aSeason(t *testing.T, seed uint64, kills int) tally {
	s := &season{tally: &tally{services: 1}, t: t, d: serve(t), random: rand.New(rand.NewPCG(seed, 15)), told: map[int]string{},
		want: map[string]string{"a.png": "a"}, longest: map[string]time.Duration{}}
	s.odile, s.rurik = s.d.person("odile"), s.d.person("rurik")
	s.odile.start(map[string]string{"a.png": "a"})
	s.rurik.join(s.odile, "artist")
	s.told[1] = s.list()[0].Digest
	s.rurik.tarn(0, "branch", "add", "beside", "--switch")
	for s.kills() < kills && !t.Failed() {
		if s.random.IntN(4) == 0 {
			s.through(s.rurik, "update")
			continue
		}
		if s.random.IntN(4) == 0 {
			s.beside()
			continue
		}
		s.through(s.odile, "lock", ".")
		before := s.change()
		note := fmt.Sprint("round ", s.next)
		s.through(s.odile, "send", "--with-gone", "-m", note)
		s.whole(note, before)
	}
	s.through(s.rurik, "switch", "main")
	s.rurik.tarn(0, "update")
	for _, p := range []*person{s.odile, s.rurik} {
		for path, text := range s.want {
			p.has(path, text)
		}
		says(t, p.tarn(0, "status"), "Nothing has changed here")
		if left, _ := filepath.Glob(filepath.Join(p.dir, ".tarn-incoming*")); len(left) != 0 {
			t.Errorf("%s has leftovers: %v", p.handle, left)
		}
		for _, path := range files(t, p.dir) {
			if _, ok := s.want[path]; !ok {
				t.Errorf("%s has %s too", p.handle, path)
			}
		}
	}
	if got := len(s.list()); got != len(s.told) || got != s.next+s.met+1 {
		t.Errorf("%d handoffs are there, %d were acknowledged, %d were made: none lost, none twice", got, len(s.told), s.next+s.met+1)
	}
	says(t, s.d.tarnd(0, "verify", "--deep"), "Everything is there and sound")
	s.deep, s.handoffs = s.deep+1, len(s.told)
	return *s.tally
}

// beside is a round on the branch: what main has comes in, something is changed and sent, and it is brought into main.
func (s *season) beside() {
	s.t.Helper()
	s.through(s.odile, "unlock", ".") // what somebody else holds does not come onto a branch
	s.meet("main", "beside")
	s.through(s.rurik, "update")
	s.next++
	before := maps.Clone(s.want)
	paths := slices.Sorted(maps.Keys(s.want))
	edited := paths[s.random.IntN(len(paths))]
	s.through(s.rurik, "lock", edited)
	s.want[edited] = fmt.Sprint("beside ", s.next) + s.want[edited]
	s.rurik.write(map[string]string{edited: s.want[edited]})
	maps.Copy(s.want, s.rurik.noise(fmt.Sprintf("beside%d", s.next), 1, 1000+s.random.IntN(200_000), uint64(s.next)))
	note := fmt.Sprint("round ", s.next)
	s.through(s.rurik, "send", "-m", note)
	s.whole(note, before)
	s.meet("beside", "main")
	s.through(s.odile, "update")
}

// meet brings one branch into the other one, where there is something to bring.
func (s *season) meet(from, into string) {
	s.t.Helper()
	was := len(s.list())
	s.through(s.rurik, "merge", from, "--into", into)
	switch list := s.list(); len(list) - was {
	case 1:
		if len(list[0].Parents) != 2 || list[0].Branch != into {
			s.t.Fatalf("the newest handoff is no merge: %+v", list[0])
		}
		s.met++
		s.told[list[0].Number] = list[0].Digest
	case 0:
		if into == "main" {
			s.t.Fatalf("%s was not brought into main", from)
		}
	default:
		s.t.Fatalf("one merge became %d handoffs", len(list)-was)
	}
}

// nothingLeft is for a merge that has nothing to bring, and locks that are free, or were before the command was cut off.
func nothingLeft(args []string, text string) bool {
	return args[0] == "merge" && strings.Contains(text, "has all that") ||
		args[0] == "unlock" && strings.Contains(text, "nothing is locked there")
}

// change edits, moves, removes and adds files in odile's workspace, and returns what was there before.
func (s *season) change() map[string]string {
	s.next++
	before := maps.Clone(s.want)
	paths := slices.Sorted(maps.Keys(s.want))
	for range 1 + s.random.IntN(3) {
		path := paths[s.random.IntN(len(paths))]
		text, there := s.want[path]
		full := filepath.Join(s.odile.dir, path)
		switch what := s.random.IntN(8); {
		case !there || what == 0 && path == "a.png":
		case what == 0:
			s.must(os.Remove(full))
			delete(s.want, path)
		case what == 1:
			to := fmt.Sprintf("moved%d/%d.bin", s.next, len(s.want))
			s.must(os.MkdirAll(filepath.Join(s.odile.dir, filepath.Dir(to)), 0o755), os.Rename(full, filepath.Join(s.odile.dir, to)))
			delete(s.want, path)
			s.want[to] = text
		default:
			at := s.random.IntN(len(text) + 1)
			s.want[path] = text[:at] + fmt.Sprint("edit ", s.next) + text[at:]
			s.odile.write(map[string]string{path: s.want[path]})
		}
	}
	for path, text := range s.odile.noise(fmt.Sprintf("round%d", s.next), 1+s.random.IntN(3), 1000+s.random.IntN(400_000), uint64(s.next)) {
		s.want[path] = text
	}
	return before
}

func (s *season) must(errs ...error) {
	s.t.Helper()
	for _, err := range errs {
		if err != nil {
			s.t.Fatal(err)
		}
	}
}

// through runs a command until it has ended by itself, with a kill at a random moment now and then, and takes down what it acknowledges.
func (s *season) through(p *person, args ...string) {
	s.t.Helper()
	for range 1 + s.random.IntN(2) {
		if s.cutOff(p, args...) {
			return
		}
	}
	start := time.Now()
	r := p.runIn(p.dir, "", append(args, "--json")...)
	s.longest[args[0]] = max(s.longest[args[0]], time.Since(start))
	if nothingLeft(args, r.Out+r.Errs) {
		return
	}
	if r.Status != 0 {
		s.t.Fatalf("tarn %s ends with %d:\n%s%s", strings.Join(args, " "), r.Status, r.Out, r.Errs)
	}
	s.hear(args, []byte(r.Out))
}

// cutOff starts a command, kills it, the service or both, starts the service again where it was, and looks at everything.
// True is for a command that ended well nevertheless.
func (s *season) cutOff(p *person, args ...string) bool {
	s.t.Helper()
	var out, errs bytes.Buffer
	cmd := p.command(p.dir, append(args, "--json")...)
	cmd.Stdout, cmd.Stderr = &out, &errs
	s.must(cmd.Start())
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	long := max(s.longest[args[0]], 60*time.Millisecond)
	running := true
	select {
	case err := <-ended:
		ended <- err
		running = false
	case <-time.After(time.Duration(s.random.Int64N(int64(long)))):
	}
	who := s.random.IntN(20)
	killed := running && (who < 11 || who >= 17) && cmd.Process.Signal(syscall.SIGKILL) == nil
	if who >= 11 {
		s.d.Kill()
		s.d.start()
	}
	switch {
	case killed && who >= 11:
		s.both++
	case killed:
		s.client++
	case who >= 11:
		s.service++
	}
	err := <-ended
	switch {
	case nothingLeft(args, out.String()+errs.String()):
		err = nil
	case err == nil:
		s.hear(args, out.Bytes())
	case cmd.ProcessState.ExitCode() >= 0 && cmd.ProcessState.ExitCode() != 3:
		s.t.Fatalf("tarn %s, with the service gone for a moment, ends with %d:\n%s%s", strings.Join(args, " "), cmd.ProcessState.ExitCode(),
			out.Bytes(), errs.Bytes())
	default:
		s.cut++
	}
	if strings.Contains(errs.String(), "panic:") {
		s.t.Errorf("a stack trace: %s", errs.Bytes())
	}
	s.look()
	return err == nil
}

// hear takes down the handoffs that a send or a merge acknowledged.
func (s *season) hear(args []string, answer []byte) {
	s.t.Helper()
	if args[0] != "send" && args[0] != "merge" {
		return
	}
	var sent struct{ Handoff, Earlier *model.Handoff }
	if err := json.Unmarshal(answer, &sent); err != nil {
		s.t.Fatalf("%s answers %q: %v", args[0], answer, err)
	}
	for _, h := range []*model.Handoff{sent.Handoff, sent.Earlier} {
		if h != nil {
			s.told[h.Number] = h.Digest
		}
	}
}

// look verifies the service, and compares every acknowledged handoff.
func (s *season) look() {
	s.t.Helper()
	args := []string{"verify"}
	if s.verified++; s.verified%deepEvery == 0 {
		args, s.deep = append(args, "--deep"), s.deep+1
	}
	says(s.t, s.d.tarnd(0, args...), "Everything is there and sound")
	list := s.list()
	for number, digest := range s.told {
		if s.compared++; number > len(list) || list[len(list)-number].Digest != digest {
			s.t.Fatalf("handoff %d was acknowledged as %s, and isn't there any more", number, digest)
		}
	}
	if more := len(list) - len(s.told); more > 1 {
		s.t.Fatalf("%d handoffs are there that nobody was told of", more)
	} else if more == 1 && len(list) > s.lastArrived {
		s.arrived, s.lastArrived = s.arrived+1, len(list)
	}
}

// whole fails the test unless the newest handoff, with the note, has exactly what was changed since before.
func (s *season) whole(note string, before map[string]string) {
	s.t.Helper()
	newest := s.list()[0]
	want := 0
	for path, text := range s.want {
		if before[path] != text {
			want++
		}
	}
	gone := 0
	for path := range before {
		if _, still := s.want[path]; !still {
			gone++
		}
	}
	// A file that was moved as it is stands once in a handoff, under its new path; one that was moved and edited may stand twice.
	if newest.Note != note || newest.Count < want || newest.Count > want+gone {
		s.t.Fatalf("%q: the newest is %q with %d assets, want %d to %d", note, newest.Note, newest.Count, want, want+gone)
	}
	// Killed after its handoff was taken down and before it was said, a send has nothing left to say.
	s.told[newest.Number] = newest.Digest
}

// list is every handoff that is there, the newest first.
func (s *season) list() []model.Handoff {
	s.t.Helper()
	var out struct{ Handoffs []model.Handoff }
	s.odile.json(0, &out, "history", "--last", "1000")
	return out.Handoffs
}

// files are the paths of the assets below a folder.
func files(t *testing.T, dir string) (out []string) {
	t.Helper()
	err := filepath.WalkDir(dir, func(path string, e os.DirEntry, err error) error {
		if name := e.Name(); err == nil && !e.IsDir() && name != "tarn.toml" && name != ".tarn-workspace" {
			path, err := filepath.Rel(dir, path)
			out = append(out, filepath.ToSlash(path))
			return err
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}
