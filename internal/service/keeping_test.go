package service_test

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/records"
	"kettletarn/internal/service"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/history"
	"kettletarn/internal/service/keeping"
	"kettletarn/internal/store"
	"kettletarn/internal/testbed"
)

// kept is a team whose packs lie in a folder that the test can reach.
type kept struct {
	*team
	folder string
}

// empty is another service over the same packs, with a database in which there is nothing.
func (k *kept) empty() (*service.Service, *records.DB) {
	k.Helper()
	directory, err := store.OpenDirectory(k.folder)
	if err != nil {
		k.Fatal(err)
	}
	db, err := records.Open(k.Context(), testbed.Database(k))
	if err != nil {
		k.Fatal(err)
	}
	k.Cleanup(db.Close)
	return service.New(db, directory, k.TempDir(), slog.New(slog.DiscardHandler)), db
}

// comesAgain gives odile, who came back without a passphrase, one.
func comesAgain(t *testing.T, s *service.Service) ground.Actor {
	t.Helper()
	token, err := s.AddPerson(t.Context(), "odile", testbed.Passphrase, false)
	if err != nil {
		t.Fatal(err)
	}
	odile, err := s.Authenticate(t.Context(), token)
	if err != nil {
		t.Fatal(err)
	}
	return odile
}

func newKept(t *testing.T) *kept {
	folder := t.TempDir()
	directory, err := store.OpenDirectory(folder)
	if err != nil {
		t.Fatal(err)
	}
	return &kept{team: newTeam(t, directory), folder: folder}
}

func noise(seed byte, n int) string {
	b := make([]byte, n)
	_, _ = rand.NewChaCha8([32]byte{seed, 9}).Read(b)
	return string(b)
}

func (k *kept) verify(deep bool) *keeping.Verified {
	k.Helper()
	v, err := k.Verify(k.Context(), keeping.VerifyOptions{Deep: deep})
	if err != nil {
		k.Fatal(err)
	}
	return v
}

func (k *kept) clean() {
	k.Helper()
	if v := k.verify(true); len(v.Findings) > 0 {
		k.Errorf("verify finds %+v", v.Findings)
	}
}

// has fails the test unless the newest version of an asset has the content.
func (k *kept) has(path, want string) {
	k.Helper()
	_, content, err := k.OpenVersion(k.Context(), k.viewer, key, path, 0)
	if err != nil {
		k.Errorf("%s: %v", path, err)
		return
	}
	defer content.Close()
	if data, err := io.ReadAll(content); err != nil || string(data) != want {
		k.Errorf("%s has %d bytes, %v; want %d", path, len(data), err, len(want))
	}
}

// packs are the files of all packs.
func (k *kept) packs() (names []string) {
	k.Helper()
	if err := filepath.WalkDir(filepath.Join(k.folder, "packs"), func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			names = append(names, path)
		}
		return err
	}); err != nil {
		k.Fatal(err)
	}
	return names
}

// holding finds the pack that has a chunk or a record of the history, and where.
func (k *kept) holding(d chunk.Digest) (file string, at pack.Entry) {
	k.Helper()
	var place records.Place
	if err := k.DB.Use(k.Context(), func(tx *records.Tx) error {
		p, err := tx.ProjectFor(k.Context(), key, 0)
		if err != nil {
			return err
		}
		places, err := tx.Places(k.Context(), p.ID, []chunk.Digest{d})
		place = places[d]
		return err
	}); err != nil {
		k.Fatal(err)
	}
	if place.Pack != "" {
		return filepath.Join(k.folder, "packs", place.Pack), place.Entry
	}
	for _, file := range k.packs() {
		f, err := os.Open(file)
		if err != nil {
			k.Fatal(err)
		}
		info, _ := f.Stat()
		entries, err := pack.ReadIndex(f, info.Size())
		_ = f.Close()
		if err != nil {
			continue
		}
		for _, e := range entries {
			if e.Digest == d {
				return file, e
			}
		}
	}
	k.Fatalf("no pack has %s", d)
	return "", at
}

// flip turns one bit of a file around.
func (k *kept) flip(file string, at int64) {
	k.Helper()
	f, err := os.OpenFile(file, os.O_RDWR, 0)
	if err != nil {
		k.Fatal(err)
	}
	defer f.Close()
	var b [1]byte
	if _, err := f.ReadAt(b[:], at); err != nil {
		k.Fatal(err)
	}
	b[0] ^= 0x10
	if _, err := f.WriteAt(b[:], at); err != nil {
		k.Fatal(err)
	}
}

func (k *kept) exec(sql string) {
	k.Helper()
	conn, err := pgx.Connect(k.Context(), k.URL)
	if err != nil {
		k.Fatal(err)
	}
	defer conn.Close(context.Background())
	if _, err := conn.Exec(k.Context(), sql); err != nil {
		k.Fatal(err)
	}
}

func TestDamageIsFoundSetAsideAndHealed(t *testing.T) {
	k := newKept(t)
	ctx := t.Context()
	body := noise(1, 3<<20)
	ok(t)(k.send(k.tamsin, k.change(k.tamsin, "a.bin", 0, 0, body), k.change(k.tamsin, "b.bin", 0, 0, "brine")))
	k.clean()
	m := testbed.Cut(t, []byte(body))
	for name, d := range map[string]chunk.Digest{"a chunk": m.Chunks[2].Digest, "a manifest": m.Content} {
		file, e := k.holding(d)
		k.flip(file, e.Offset+int64(e.Stored)/2)
		if v := k.verify(false); len(v.Findings) != 0 && name == "a chunk" {
			t.Errorf("%s: found without reading: %+v", name, v.Findings)
		}
		v := k.verify(true)
		if len(v.Findings) != 1 || len(v.Findings[0].Versions) != 1 || v.Findings[0].Versions[0] != "a.bin@v1" {
			t.Fatalf("%s: verify finds %+v", name, v.Findings)
		}
		wanted, err := k.Wanted(ctx, k.tamsin, key)
		if err != nil || len(wanted) != 1 || wanted[0] != d {
			t.Fatalf("%s: wanted are %v, %v", name, wanted, err)
		}
		// Nothing new is built on it: it counts as lacking, also for a content that is known.
		if missing, err := k.MissingChunks(ctx, k.tamsin, key, []chunk.Digest{d}); err != nil || len(missing) != 1 {
			t.Errorf("%s: a damaged chunk is said to be there, %v", name, err)
		}
		_, err = k.send(k.tamsin, handoffs.Change{Path: "copy-of-" + name, Content: m.Content, Size: m.Size})
		testbed.Problem(t, err, model.ChunksMissing)
		_, content, err := k.OpenVersion(ctx, k.viewer, key, "a.bin", 0)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.ReadAll(content); err == nil {
			t.Errorf("%s: damaged content is handed out", name)
		}
		content.Close()
		// Whoever has it brings it like any other.
		k.content(k.rurik, []byte(body))
		if wanted, err = k.Wanted(ctx, k.tamsin, key); err != nil || len(wanted) != 0 {
			t.Errorf("%s: after it was brought, wanted are %v, %v", name, wanted, err)
		}
		k.clean()
		k.has("a.bin", body)
	}
}

func TestAReaderSetsDamageAside(t *testing.T) {
	k := newKept(t)
	body := noise(2, 2<<20)
	ok(t)(k.send(k.tamsin, k.change(k.tamsin, "a.bin", 0, 0, body)))
	m := testbed.Cut(t, []byte(body))
	file, e := k.holding(m.Chunks[1].Digest)
	k.flip(file, e.Offset)
	// It is handed out as it lies; who gets it sees that it is not what its name says, and tells.
	bad := 0
	if err := k.FetchChunks(t.Context(), k.viewer, key, []chunk.Digest{m.Chunks[0].Digest, m.Chunks[1].Digest, m.Chunks[2].Digest},
		func(r pack.Record) error {
			if _, err := r.Decode(nil); err != nil {
				bad++
			}
			return nil
		}); err != nil || bad != 1 {
		t.Errorf("%d records are bad, %v", bad, err)
	}
	if wanted, err := k.Wanted(t.Context(), k.tamsin, key); err != nil || len(wanted) != 0 {
		t.Errorf("before anybody told, wanted are %v, %v", wanted, err)
	}
	damaged, err := k.Suspect(t.Context(), k.viewer, key,
		[]chunk.Digest{m.Chunks[0].Digest, m.Chunks[1].Digest, chunk.Sum([]byte("never sent"))})
	if err != nil || len(damaged) != 2 || damaged[0] != m.Chunks[1].Digest {
		t.Errorf("damaged are %v, %v", damaged, err)
	}
	testbed.Problem(t, k.FetchChunks(t.Context(), k.viewer, key, []chunk.Digest{m.Chunks[1].Digest}, func(pack.Record) error { return nil }),
		model.ChunksMissing)
	if wanted, err := k.Wanted(t.Context(), k.tamsin, key); err != nil || len(wanted) != 1 {
		t.Errorf("wanted are %v, %v", wanted, err)
	}
	// The others around it are still handed out.
	n := 0
	if err := k.FetchChunks(t.Context(), k.viewer, key, []chunk.Digest{m.Chunks[0].Digest, m.Chunks[2].Digest},
		func(pack.Record) error { n++; return nil }); err != nil || n != 2 {
		t.Errorf("%d chunks come, %v", n, err)
	}
}

func TestPacksThatAreGoneOrCutOff(t *testing.T) {
	k := newKept(t)
	ctx := t.Context()
	bodies := map[string]string{"gone.bin": noise(3, 300_000), "cut.bin": noise(4, 300_000), "index.bin": noise(5, 300_000),
		"fine.bin": noise(6, 300_000)}
	for path, body := range bodies {
		ok(t)(k.send(k.tamsin, k.change(k.tamsin, path, 0, 0, body)))
	}
	if err := k.KeepHistory(ctx); err != nil {
		t.Fatal(err)
	}
	in := func(path string) string {
		file, _ := k.holding(testbed.Cut(t, []byte(bodies[path])).Content)
		return file
	}
	if err := os.Remove(in("gone.bin")); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(in("cut.bin"), 1000); err != nil {
		t.Fatal(err)
	}
	index := in("index.bin")
	info, err := os.Stat(index)
	if err != nil {
		t.Fatal(err)
	}
	k.flip(index, info.Size()-60)
	v := k.verify(false)
	touched := map[string]bool{}
	rewritten := 0
	for _, f := range v.Findings {
		for _, version := range f.Versions {
			touched[version] = true
		}
		if f.Kind == "pack" {
			rewritten++
		}
	}
	if len(touched) != 2 || !touched["gone.bin@v1"] || !touched["cut.bin@v1"] || rewritten != 2 {
		t.Errorf("verify finds %+v", v.Findings)
	}
	k.has("index.bin", bodies["index.bin"])
	for path := range touched {
		k.content(k.rurik, []byte(bodies[strings.TrimSuffix(path, "@v1")]))
	}
	k.clean()
	for path, body := range bodies {
		k.has(path, body)
	}
}

func TestHistoryThatWasTamperedWithIsFound(t *testing.T) {
	for name, sql := range map[string]string{
		"a note":            `update handoffs set note = 'something else' where number = 2`,
		"an author":         `update handoffs set author_id = (select id from people where handle = 'rurik') where number = 1`,
		"a root":            `update handoffs set root = (select root from handoffs where number = 1) where number = 2`,
		"a version":         `update versions set content_id = (select min(content_id) from versions) where handoff = 2`,
		"a version's path":  `update versions set path = 'other.bin' where handoff = 1`,
		"a missing version": `delete from versions where handoff = 2 and number = 1`,
		"a claim":           `update claims set asset_id = (select max(asset_id) from claims) where folded = 'a.bin'`,
		"a missing claim":   `delete from claims where folded = 'b.bin'`,
		"a node":            `update nodes set data = data || '\x00' where digest = (select root from handoffs where number = 2)`,
		"a missing node":    `delete from nodes where digest = (select root from handoffs where number = 1)`,
	} {
		k := newKept(t)
		ok(t)(k.send(k.tamsin, k.change(k.tamsin, "a.bin", 0, 0, "one")))
		ok(t)(k.send(k.tamsin, k.change(k.tamsin, "a.bin", 1, k.lock(k.tamsin, "a.bin", 1), "two"), k.change(k.tamsin, "b.bin", 0, 0, "three")))
		k.clean()
		k.exec(sql)
		if v := k.verify(false); len(v.Findings) == 0 {
			t.Errorf("%s: nothing is found", name)
		}
	}
}

func TestHistoryInPacksIsWrittenAnewWhereItIsDamaged(t *testing.T) {
	k := newKept(t)
	ok(t)(k.send(k.tamsin, k.change(k.tamsin, "a.bin", 0, 0, "one")))
	if err := k.KeepHistory(t.Context()); err != nil {
		t.Fatal(err)
	}
	h, err := k.Handoff(t.Context(), k.odile, key, "h1")
	if err != nil {
		t.Fatal(err)
	}
	digest, err := chunk.ParseDigest(h.Digest)
	if err != nil {
		t.Fatal(err)
	}
	file, e := k.holding(digest)
	k.flip(file, e.Offset+int64(e.Stored)/2)
	if v := k.verify(true); len(v.Findings) != 1 || v.Findings[0].Kind != "history" {
		t.Errorf("verify finds %+v", v.Findings)
	}
	k.clean()
	if again, _ := k.holding(digest); again == file {
		if err := os.Remove(file); err != nil {
			t.Fatal(err)
		}
		k.holding(digest)
	}
}

func TestAProjectIsRebuiltFromItsPacksAlone(t *testing.T) {
	k := newKept(t)
	ctx := t.Context()
	body := noise(9, 3<<20)
	ok(t)(k.send(k.tamsin, k.change(k.tamsin, "Levels/a.bin", 0, 0, body), k.change(k.tamsin, "b.txt", 0, 0, "one"),
		k.change(k.tamsin, "empty.txt", 0, 0, "")))
	ok(t)(k.send(k.rurik, handoffs.Change{Path: "b.txt", Base: 1, Gone: true, Fence: k.lock(k.rurik, "b.txt", 1)}))
	again := k.change(k.tamsin, "B.txt", 0, 0, "two")
	again.Executable = true
	ok(t)(k.send(k.tamsin, again, k.change(k.tamsin, "levels2/c.bin", 0, 0, body[1000:])))
	ok(t)(k.Send(ctx, k.odile, key, handoffs.Send{Key: uuid.NewString(), Workspace: k.space["odile"], About: model.About{Note: "with tasks",
		Tasks: []string{"BRL-1", "BRL-2"}, Stage: "rough"},
		Changes: []handoffs.Change{k.change(k.odile, "B.txt", 3, k.lock(k.odile, "B.txt", 3), "three"),
			k.change(k.odile, "tarn.toml", 0, 0, "[locks]\noffer-for = \"30 minutes\"\n")}}, nil))
	old := k.content(k.odile, []byte("from git"))
	ok(t)(k.BringPast(ctx, k.odile, key, model.PastRequest{Workspace: k.space["odile"],
		Commits: []model.PastCommit{{Commit: commitID("c0ffee"), Name: "Ada Brine", Note: "from git",
			Changes: []model.SendChange{{Path: "past.bin", Content: old.Content, Size: old.Size}}}}}))
	if err := k.KeepHistory(ctx); err != nil {
		t.Fatal(err)
	}
	tell := func(s *service.Service, actor ground.Actor) string {
		var out strings.Builder
		list, _, err := s.Handoffs(ctx, actor, key, history.HandoffFilter{Limit: 100})
		if err != nil {
			t.Fatal(err)
		}
		for _, h := range list {
			whole, err := s.Handoff(ctx, actor, key, fmt.Sprintf("h%d", h.Number))
			if err != nil {
				t.Fatal(err)
			}
			for i := range whole.Assets {
				whole.Assets[i].Digest = "" // sealed in the background
			}
			fmt.Fprintf(&out, "%+v\n", whole)
		}
		page, err := s.Changes(ctx, actor, key, history.Changes{})
		if err != nil {
			t.Fatal(err)
		}
		for _, a := range page.Assets {
			a.Digest = ""
			fmt.Fprintf(&out, "%s v%d %s %d %v h%d %s\n", a.Path, a.Newest, a.Content, a.Size, a.Executable, a.Handoff, a.At)
		}
		p, err := s.Project(ctx, actor, key)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(&out, "%d assets, %d bytes, %d handoffs\n", p.Assets, p.Size, p.Handoffs)
		return out.String()
	}
	before := tell(k.Service.Service, k.odile)

	// The database is dropped; another one is empty.
	fresh, db := k.empty()
	list, err := fresh.Rebuild(ctx, "odile", func(string, int64, int64) {})
	if err != nil || len(list) != 1 || list[0].Handoffs != 5 || list[0].Lacking != 0 || len(list[0].Unread) != 0 {
		t.Fatalf("rebuilt: %+v, %v", list, err)
	}
	_, err = fresh.SignIn(ctx, "odile", "", "test", false)
	testbed.Problem(t, err, model.WrongPassphrase)
	odile := comesAgain(t, fresh)
	if after := tell(fresh, odile); after != before {
		t.Errorf("before:\n%s\nafter:\n%s", before, after)
	}
	if v, err := fresh.Verify(ctx, keeping.VerifyOptions{Deep: true}); err != nil || len(v.Findings) > 0 || v.Handoffs != 5 {
		t.Errorf("verify after the rebuild: %+v, %v", v, err)
	}
	_, content, err := fresh.OpenVersion(ctx, odile, key, "levels/a.bin", 0)
	if err != nil {
		t.Fatal(err)
	}
	defer content.Close()
	if data, err := io.ReadAll(content); err != nil || string(data) != body {
		t.Errorf("%d bytes come back, %v", len(data), err)
	}
	// Work goes on where it was.
	w, err := fresh.AddWorkspace(ctx, odile, key, "odile-pc")
	if err != nil {
		t.Fatal(err)
	}
	m := testbed.Cut(t, []byte("next"))
	ok(t)(fresh.StoreChunks(ctx, odile, key, testbed.From(m.Records)))
	receipt, err := fresh.Send(ctx, odile, key, handoffs.Send{Key: uuid.NewString(), Workspace: w.ID, About: model.About{Note: "goes on"},
		Changes: []handoffs.Change{{Path: "new.txt", Content: m.Content, Size: m.Size}}}, nil)
	if err != nil || receipt.Handoff.Number != 6 || fmt.Sprint(receipt.Handoff.Parents) != "[5]" {
		t.Errorf("%+v, %v", receipt.Handoff, err)
	}
	// So do the rules of its locks.
	if err := db.Use(ctx, func(tx *records.Tx) error {
		p, err := tx.ProjectFor(ctx, key, odile.ID)
		if err == nil && p.Terms.OfferFor != 30*time.Minute {
			t.Errorf("a lock is offered for %s", p.Terms.OfferFor)
		}
		return err
	}); err != nil {
		t.Error(err)
	}
	_, err = fresh.Rebuild(ctx, "odile", func(string, int64, int64) {})
	testbed.Problem(t, err, model.Taken)
}

func TestTheStorageLimit(t *testing.T) {
	k := newKept(t)
	ctx := t.Context()
	token, err := k.AddPerson(ctx, "bastien", testbed.Passphrase, true)
	if err != nil {
		t.Fatal(err)
	}
	steward, err := k.Authenticate(ctx, token)
	if err != nil {
		t.Fatal(err)
	}
	_, err = k.SetLimit(ctx, k.odile, key, 1<<20)
	testbed.Problem(t, err, model.NotAllowed)
	if p, err := k.SetLimit(ctx, steward, key, 1<<20); err != nil || p.Limit != 1<<20 {
		t.Fatalf("%+v, %v", p, err)
	}
	question := handoffs.Question{Send: handoffs.Send{Workspace: k.space["tamsin"], About: model.About{Note: "n"},
		Changes: []handoffs.Change{{Path: "large.bin"}}},
		Coming: 2 << 20}
	_, err = k.CheckSend(ctx, k.tamsin, key, question)
	testbed.Problem(t, err, model.LimitReached)
	question.Coming = 1 << 19
	ok(t)(k.CheckSend(ctx, k.tamsin, key, question))
	ok(t)(k.SetLimit(ctx, steward, key, 0))
	question.Coming = 2 << 20
	ok(t)(k.CheckSend(ctx, k.tamsin, key, question))
	question.Coming = 1 << 60
	_, err = k.CheckSend(ctx, k.tamsin, key, question)
	testbed.Problem(t, err, model.DiskFull)
}
