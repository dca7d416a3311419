//go:build linux

package mainline_test

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"testing"
	"time"

	"kettletarn/internal/client"
	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/manifest"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/courier"
	"kettletarn/internal/mainline"
	"kettletarn/internal/postbox"
	"kettletarn/internal/testbed"
	"kettletarn/internal/workspace"
)

func TestMain(m *testing.M) { testbed.Main(m) }

const key = testbed.Project

// pair is a lead's and an artist's workspace of one project.
type pair struct {
	odile, rurik *workspace.Workspace
	box          *postbox.Box
}

func newPair(t *testing.T) *pair {
	t.Helper()
	testbed.Home(t)
	box, address, err := postbox.Open("127.0.0.1:0", t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = box.Close() })
	letters, err := courier.New(courier.Options{Mail: "smtp://" + address, From: "tarn@gull.example"})
	if err != nil {
		t.Fatal(err)
	}
	url, odile, rurik := testbed.NewServiceWith(t, nil, letters).Team(t)
	join := func(token string) *workspace.Workspace {
		w, err := workspace.Join(t.Context(), filepath.Join(t.TempDir(), key), key, false, client.New(url, token, nil), nil)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = w.Close() })
		return w
	}
	return &pair{odile: join(odile), rurik: join(rurik), box: box}
}

// repository is a git repository that a test writes as one stream for git fast-import, and keeps in mind.
type repository struct {
	t      *testing.T
	dir    string
	random *rand.Rand
	script bytes.Buffer
	files  map[string]string // what main has
	line   []authored
	n      int
}

// authored is a commit on the first-parent line of main.
type authored struct {
	author, mail, message string
	at                    int64
}

func newRepository(t *testing.T) *repository {
	// Nobody's own settings: filters and hooks of this machine have no say.
	t.Setenv("GIT_CONFIG_GLOBAL", os.DevNull)
	t.Setenv("GIT_CONFIG_NOSYSTEM", "1")
	r := &repository{t: t, dir: t.TempDir(), random: rand.New(rand.NewPCG(3, 4)), files: map[string]string{}}
	r.git("init", "-q", "-b", "main", ".")
	return r
}

func (r *repository) git(args ...string) string {
	r.t.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir = r.dir
	cmd.Env = append(cmd.Environ(), "GIT_AUTHOR_NAME=odile", "GIT_AUTHOR_EMAIL=odile@gull.example", "GIT_COMMITTER_NAME=odile",
		"GIT_COMMITTER_EMAIL=odile@gull.example")
	out, err := cmd.CombinedOutput()
	if err != nil {
		r.t.Fatalf("git %s: %v: %s", strings.Join(args, " "), err, out)
	}
	return string(out)
}

var stems = []string{"rust", "kelp bed", "été", "日本", "fog \"thick\"", "brass#1", "!odd", "deep/harbour", "deep/harbour/stone", "a:b",
	"aux", "tail.", "Rust", "KELP BED", "back\\slash", "new\nline", "ta\tb", "'q'", "x;y $z"}

func (r *repository) name() string {
	return stems[r.random.IntN(len(stems))] + fmt.Sprint(r.random.IntN(4)) + []string{".png", ".wav", ".glb", ".go", ".txt"}[r.random.IntN(5)]
}

func (r *repository) content() string {
	if r.random.IntN(3) == 0 {
		return fmt.Sprintf("line %d\nline two\n%s\n", r.random.IntN(50), strings.Repeat("text ", r.random.IntN(40)))
	}
	data := make([]byte, r.random.IntN(6000))
	for i := range data {
		data[i] = byte(r.random.Uint32())
	}
	return string(data)
}

// quoted is a path as git fast-import wants it.
func quotedPath(path string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(path) + `"`
}

// begin writes the head of a commit on a branch.
func (r *repository) begin(branch string, s authored, from, merge string) {
	r.n++
	fmt.Fprintf(&r.script, "commit refs/heads/%s\nmark :%d\nauthor %s <%s> %d +0200\ncommitter keiko <keiko@gull.example> %d +0000\ndata "+
		"%d\n%s\n", branch, r.n, s.author, s.mail, s.at, s.at+60, len(s.message), s.message)
	if from != "" {
		fmt.Fprintf(&r.script, "from %s\n", from)
	}
	if merge != "" {
		fmt.Fprintf(&r.script, "merge %s\n", merge)
	}
}

func (r *repository) step() authored {
	people := []authored{{author: "Rurik", mail: "rurik@gull.example"}, {author: "Odile", mail: "Odile@Gull.example"},
		{author: "Ada Brine", mail: "ada@elsewhere.example"}, {author: "rurik", mail: "somebody@else.example"}}
	s := people[r.random.IntN(len(people))]
	s.at, s.message = 1_700_000_000+int64(r.n)*977+int64(r.random.IntN(5000)),
		fmt.Sprintf("Step %d\n\nWhat was done, é, and why: %d", r.n, r.random.IntN(1000))
	if r.random.IntN(40) == 0 {
		s.message = ""
	}
	return s
}

// change does something to one file, in the stream and in files.
func (r *repository) change(files map[string]string) {
	path := r.name()
	for other := range files {
		if strings.HasPrefix(other, path+"/") || strings.HasPrefix(path, other+"/") {
			return
		}
	}
	existing := make([]string, 0, len(files))
	for p := range files {
		existing = append(existing, p)
	}
	sort.Strings(existing)
	_, there := files[path]
	switch n := r.random.IntN(10); {
	case n < 2 && len(existing) > 12:
		gone := existing[r.random.IntN(len(existing))]
		fmt.Fprintf(&r.script, "D %s\n", quotedPath(gone))
		delete(files, gone)
	case n < 4 && len(existing) > 0 && !there:
		from := existing[r.random.IntN(len(existing))]
		if strings.HasPrefix(path, from+"/") {
			return
		}
		fmt.Fprintf(&r.script, "R %s %s\n", quotedPath(from), quotedPath(path))
		files[path] = files[from]
		delete(files, from)
		if n == 3 && len(files[path]) > 100 {
			files[path] += "and a little more"
			fmt.Fprintf(&r.script, "M 100644 inline %s\ndata %d\n%s\n", quotedPath(path), len(files[path]), files[path])
		}
	default:
		mode := "100644"
		if n == 9 {
			mode = "100755"
		}
		files[path] = r.content()
		fmt.Fprintf(&r.script, "M %s inline %s\ndata %d\n%s\n", mode, quotedPath(path), len(files[path]), files[path])
	}
}

// grow adds commits to main, some of which merge a branch.
func (r *repository) grow(commits int) {
	for range commits {
		s := r.step()
		if len(r.line) > 3 && r.random.IntN(12) == 0 {
			base := r.n
			side := map[string]string{}
			for p, text := range r.files {
				side[p] = text
			}
			from := fmt.Sprintf(":%d", base)
			for range 1 + r.random.IntN(3) {
				r.begin("side", r.step(), from, "")
				r.change(side)
				from = ""
			}
			// The merge has what the side has.
			r.begin("main", s, fmt.Sprintf(":%d", base), fmt.Sprintf(":%d", r.n))
			r.script.WriteString("deleteall\n")
			names := make([]string, 0, len(side))
			for p := range side {
				names = append(names, p)
			}
			sort.Strings(names)
			for _, p := range names {
				fmt.Fprintf(&r.script, "M 100644 inline %s\ndata %d\n%s\n", quotedPath(p), len(side[p]), side[p])
			}
			r.files = side
		} else {
			from := ""
			if len(r.line) > 0 && r.script.Len() == 0 {
				from = "refs/heads/main^0"
			} else if r.n > 0 && r.script.Len() > 0 {
				from = fmt.Sprintf(":%d", r.n)
			}
			r.begin("main", s, from, "")
			for range 1 + r.random.IntN(3) {
				r.change(r.files)
			}
		}
		r.line = append(r.line, s)
	}
	cmd := exec.Command("git", "fast-import", "--quiet", "--force")
	cmd.Dir, cmd.Stdin = r.dir, &r.script
	if out, err := cmd.CombinedOutput(); err != nil {
		r.t.Fatalf("git fast-import: %v: %s", err, out)
	}
	r.script.Reset()
}

// archive is what git itself says that a commit has: files by path.
func (r *repository) archive(commit string) map[string]string {
	r.t.Helper()
	cmd := exec.Command("git", "archive", "--format=tar", commit)
	cmd.Dir = r.dir
	out, err := cmd.Output()
	if err != nil {
		r.t.Fatalf("git archive %s: %v", commit, err)
	}
	files := map[string]string{}
	for in := tar.NewReader(bytes.NewReader(out)); ; {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			return files
		}
		if err != nil {
			r.t.Fatal(err)
		}
		if h.Typeflag == tar.TypeReg {
			data, err := io.ReadAll(in)
			if err != nil {
				r.t.Fatal(err)
			}
			files[h.Name] = string(data)
		}
	}
}

// cutOff ends a context when so many bytes were read.
type cutOff struct {
	left int64
	stop context.CancelFunc
}

func (*cutOff) Start(string, int64) {}
func (*cutOff) Done()               {}
func (c *cutOff) Add(n int64) {
	if c.left -= n; c.left < 0 && c.stop != nil {
		c.stop()
	}
}

func TestManyCommitsAreTheSameHere(t *testing.T) {
	commits := testbed.Steps(150, 1000)
	p := newPair(t)
	for handle, w := range map[string]*workspace.Workspace{"odile": p.odile, "rurik": p.rurik} {
		address := handle + "@gull.example"
		if _, err := w.Client.SetNewsSettings(t.Context(), model.NewsSettings{Mail: address, Kinds: []model.NewsKind{}}); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Client.ConfirmMail(t.Context(), p.box.Code(address)); err != nil {
			t.Fatal(err)
		}
	}
	git := newRepository(t)
	git.grow(commits)
	ctx := t.Context()
	repo, err := mainline.Find(ctx, git.dir)
	if err != nil {
		t.Fatal(err)
	}
	r, err := rules.Parse([]byte("presets = [\"game\", \"sound\"]\notherwise = \"code\"\n"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.rurik.BringPast(ctx, repo, r, workspace.BringOptions{History: true}); err == nil {
		t.Fatal("an artist brings the past in")
	}
	bring := func() (*workspace.Brought, error) {
		return p.odile.BringPast(ctx, repo, r, workspace.BringOptions{History: true})
	}
	// Cut off three times, at any moment.
	done := 0
	for _, after := range []int64{300, 300, int64(testbed.Steps(900, 200))} {
		after *= int64(commits)
		limited, stop := context.WithCancel(ctx)
		p.odile.Progress = &cutOff{left: after, stop: stop}
		out, err := p.odile.BringPast(limited, repo, r, workspace.BringOptions{History: true})
		stop()
		if err == nil {
			t.Fatalf("it was not cut off after %d bytes", after)
		}
		if out.Last > 0 {
			done = out.Last
		}
	}
	p.odile.Progress = &cutOff{}
	out, err := bring()
	if err != nil {
		t.Fatal(err)
	}
	if done == 0 || out.Since == "" || out.First != done+1 {
		t.Errorf("after h%d it went on with h%d", done, out.First)
	}
	if again, err := bring(); err != nil || again.Handoffs != 0 {
		t.Errorf("again it brings %d handoffs, %v", again.Handoffs, err)
	}
	if len(out.Mapped) == 0 || !slices.Equal(out.Unknown, []string{"Ada Brine", "rurik (in git)"}) &&
		!slices.Equal(out.Unknown, []string{"Ada Brine"}) {
		t.Errorf("mapped are %d paths, unknown %v", len(out.Mapped), out.Unknown)
	}
	compareWithGit(t, p, git, repo, r, out)

	// What comes later is brought, and nothing twice.
	git.grow(40)
	more, err := bring()
	if err != nil || more.Commits < 40 || more.Commits > 45 || more.First != out.Last+1 {
		t.Fatalf("later: %d commits from h%d on, %v", more.Commits, more.First, err)
	}
	compareWithGit(t, p, git, repo, r, more)
}

// compareWithGit compares every handoff that stands for a commit with the commit, byte for byte.
func compareWithGit(t *testing.T, p *pair, git *repository, repo *mainline.Repo, r *rules.Rules, out *workspace.Brought) {
	t.Helper()
	ctx := t.Context()
	handoffs := map[string]model.Handoff{}
	for before := out.Last + 1; before > 1; {
		page, err := p.odile.Client.Handoffs(ctx, key, client.HandoffQuery{Before: before, Limit: 500})
		if err != nil || len(page.Handoffs) == 0 {
			t.Fatal(err)
		}
		for _, h := range page.Handoffs {
			handoffs[h.Commit] = h
			before = h.Number
		}
	}
	mapped := map[string]string{}
	for _, m := range out.Mapped {
		mapped[m.Git] = m.Asset
	}
	var ids []string
	if err := repo.Line(ctx, "HEAD", func(id string) error {
		ids = append(ids, id)
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if len(ids) != len(git.line) {
		t.Fatalf("%d commits, want %d", len(ids), len(git.line))
	}
	wanted := func(path string) bool { return path != rules.File && r.Decide(path).Kind == rules.Asset }
	contents := map[string]string{} // by digest
	at, number, moved := map[string]model.Asset{}, 0, 0
	for i, id := range ids {
		want := git.line[i]
		if h, ok := handoffs[id]; ok {
			// Only what changed is asked for: whoever adds it up has everything.
			if err := p.odile.Client.Changes(ctx, key, model.ChangesQuery{Since: number, At: fmt.Sprintf("h%d", h.Number)},
				func(page model.Assets) error {
					for _, a := range page.Assets {
						if a.Gone {
							delete(at, a.Path)
							if a.MovedTo != "" {
								moved++
							}
						}
					}
					for _, a := range page.Assets {
						if !a.Gone {
							at[a.Path] = a
						}
					}
					return nil
				}); err != nil {
				t.Fatal(err)
			}
			number = h.Number
			author := map[string]string{"rurik@gull.example": "rurik", "Odile@Gull.example": "odile", "ada@elsewhere.example": "Ada Brine",
				"somebody@else.example": "rurik (in git)"}[want.mail]
			note := strings.TrimSpace(want.message)
			if note == "" {
				note = "(without a message)"
			}
			if h.Author != author || !h.At.Equal(time.Unix(want.at, 0)) || h.Note != note {
				t.Fatalf("commit %d is h%d by %s at %s: %q; want %+v", i, h.Number, h.Author, h.At, h.Note, want)
			}
		}
		files := git.archive(id)
		expected := map[string]int{}
		for path, text := range files {
			if !wanted(assetpath.Fit(path)) {
				continue
			}
			expected[text]++
			a, there := at[path]
			if to, ok := mapped[assetpath.Printable(path)]; ok && (!there || assetpath.Fit(path) != path) {
				a, there = at[to]
			}
			if !there {
				// Mapped otherwise at that time: it is compared by content below.
				continue
			}
			if a.Size != int64(len(text)) {
				t.Fatalf("commit %d (h%d): %q has %d bytes, want %d", i, number, path, a.Size, len(text))
			}
		}
		got := map[string]int{}
		for path, a := range at {
			if bad := assetpath.Check(path); bad != nil {
				t.Fatalf("%q is a path: %v", path, bad)
			}
			text, known := contents[a.Content]
			if !known {
				data := download(t, p, a.Content)
				text, contents[a.Content] = data, data
			}
			got[text]++
		}
		if len(at) != sum(expected) || !sameCounts(got, expected) {
			t.Fatalf("commit %d (h%d) has %d assets, want %d", i, number, len(at), sum(expected))
		}
		for path, text := range files {
			if a, there := at[path]; there && wanted(path) && assetpath.Check(path) == nil && contents[a.Content] != text {
				if _, otherwise := mapped[path]; !otherwise {
					t.Fatalf("commit %d (h%d): %q is something else", i, number, path)
				}
			}
		}
	}
	if moved == 0 && len(ids) > 500 {
		t.Error("no asset kept its identity when it was renamed")
	}
	t.Logf("%d commits, %d handoffs, %d contents, %d moves, %d paths mapped", len(ids), len(handoffs), len(contents), moved, len(out.Mapped))
}

func sum(counts map[string]int) (n int) {
	for _, c := range counts {
		n += c
	}
	return n
}

func sameCounts(a, b map[string]int) bool {
	for k, n := range a {
		if b[k] != n {
			return false
		}
	}
	return len(a) == len(b)
}

// download reads a content as a workspace does, chunk by chunk.
func download(t *testing.T, p *pair, content string) string {
	t.Helper()
	root, err := chunk.ParseDigest(content)
	if err != nil {
		t.Fatal(err)
	}
	get := func(ctx context.Context, digests []chunk.Digest) (out [][]byte, err error) {
		err = p.odile.Client.FetchChunks(ctx, key, digests, func(_ int, piece []byte) error {
			out = append(out, bytes.Clone(piece))
			return nil
		})
		return out, err
	}
	var refs []chunk.Digest
	if err := manifest.Walk(t.Context(), get, root, 0, nil, func(_ int64, ref chunk.Ref) error {
		refs = append(refs, ref.Digest)
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	pieces, err := get(t.Context(), refs)
	if err != nil {
		t.Fatal(err)
	}
	return string(bytes.Join(pieces, nil))
}
