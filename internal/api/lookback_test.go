package api_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/google/uuid"

	"kettletarn/demo/scene"
	"kettletarn/internal/core/media"
	"kettletarn/internal/core/model"
	"kettletarn/internal/testbed"
)

// hand hands off contents by path: what is there already is locked first.
func (h *shelf) hand(note string, contents map[string][]byte, versions map[string]int) model.Handoff {
	h.Helper()
	send := model.SendRequest{Workspace: h.space, About: model.About{Note: note}}
	for path, data := range contents {
		m := testbed.Cut(h.T, data)
		if err := h.odile.StoreRecords(h.Context(), key, testbed.Body(m.Records)); err != nil {
			h.Fatal(err)
		}
		change := model.SendChange{Path: path, Content: m.Content, Size: m.Size, Base: versions[path]}
		if change.Base > 0 {
			locks, err := h.odile.TakeLocks(h.Context(), key,
				model.LockRequest{Workspace: h.space, Assets: []model.LockWant{{Path: path, Version: change.Base}}})
			if err != nil {
				h.Fatal(err)
			}
			change.Fence = locks.Locks[0].Fence
		}
		send.Changes = append(send.Changes, change)
	}
	receipt, err := h.odile.Send(h.Context(), key, uuid.NewString(), send)
	if err != nil {
		h.Fatal(err)
	}
	return receipt.Handoff
}

// looking is a project with a texture of two versions, and a text.
func looking(t *testing.T) *shelf {
	h := newShelf(t, "mix.bin")
	h.hand("A texture and a text", map[string][]byte{"textures/rust.png": scene.Albedo("rust", 64, 0),
		"text/keeper.txt": scene.Dialogue("keeper", 0)}, nil)
	h.hand("Deeper", map[string][]byte{"textures/rust.png": scene.Albedo("rust", 64, 1), "text/keeper.txt": scene.Dialogue("keeper", 1)},
		map[string]int{"textures/rust.png": 1, "text/keeper.txt": 1})
	return h
}

func TestWhatIsDrawnGoesOverTheWire(t *testing.T) {
	h := looking(t)
	var look media.Report
	status, _, body := h.get("/look?path=textures/rust.png")
	if err := json.Unmarshal([]byte(body), &look); status != 200 || err != nil || look.Kind != media.Texture {
		t.Fatalf("%d, %v: %s", status, err, body)
	}
	for _, name := range look.Files {
		status, kind, body := h.get("/look/file?path=textures/rust.png&version=1&name=" + name)
		if status != 200 || kind != "image/png" || !strings.HasPrefix(body, "\x89PNG") {
			t.Errorf("%s: %d, %s, %d bytes", name, status, kind, len(body))
		}
	}
	if status, kind, body := h.get("/compare/file?path=textures/rust.png&a=1&b=2&name=difference.png"); status != 200 || kind != "image/png" ||
		!strings.HasPrefix(body, "\x89PNG") {
		t.Errorf("%d, %s, %d bytes", status, kind, len(body))
	}
	// What never changes may be kept, and nothing of it may run.
	for address, fixed := range map[string]bool{"/look/file?path=textures/rust.png&version=1&name=whole.png": true,
		"/look/file?path=textures/rust.png&name=whole.png": false, "/compare/file?path=textures/rust.png&a=1&b=2&name=difference.png": true,
		"/compare/file?path=textures/rust.png&a=1&name=difference.png": false} {
		r, err := http.NewRequest(http.MethodGet, h.url+"/api/v1/projects/"+key+address, nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+h.token)
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		_ = answer.Body.Close()
		if kept := strings.Contains(answer.Header.Get("Cache-Control"), "immutable"); kept != fixed {
			t.Errorf("%s may be kept: %v", address, kept)
		}
		if csp := answer.Header.Get("Content-Security-Policy"); !strings.Contains(csp, "sandbox") ||
			answer.Header.Get("X-Content-Type-Options") != "nosniff" {
			t.Errorf("%s: policy %q, %q", address, csp, answer.Header.Get("X-Content-Type-Options"))
		}
	}
	for address, want := range map[string]int{
		"/look?path=none.png": 404, "/look?path=textures/rust.png&version=9": 404, "/look?path=textures/rust.png&version=x": 400,
		"/look/file?path=textures/rust.png&name=report.json": 404, "/look/file?path=textures/rust.png&name=../x.png": 404,
		"/look/file?path=textures/rust.png": 404, "/compare?path=textures/rust.png&a=1&b=7": 404, "/compare?path=none.png&a=1&b=2": 404,
		"/compare?path=textures/rust.png&a=-1&b=2": 400, "/compare/file?path=textures/rust.png&a=1&b=2&name=report.json": 404,
	} {
		if status, _, body := h.get(address); status != want {
			t.Errorf("%s answers %d, want %d: %.200s", address, status, want, body)
		}
	}
}

func TestTheTimelineOverTheWire(t *testing.T) {
	h := looking(t)
	for query, want := range map[string]string{
		"": "3 2 1", "author=odile": "3 2 1", "author=rurik": "", "path=textures": "3 2", "path=*.txt": "3 2", "kind=texture": "3 2",
		"kind=other": "1", "text=deeper": "3", "since=2020-01-01": "3 2 1", "until=2020-01-01": "", "before=3": "2 1", "limit=1": "3",
		"kind=texture&text=a%20texture": "2",
	} {
		status, _, body := h.get("/handoffs?" + query)
		var list model.Handoffs
		if err := json.Unmarshal([]byte(body), &list); status != 200 || err != nil {
			t.Fatalf("%s: %d, %v: %s", query, status, err, body)
		}
		var got []string
		for _, x := range list.Handoffs {
			got = append(got, string(rune('0'+x.Number)))
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%q finds %v, want %s", query, got, want)
		}
		status, kind, body := h.get("/handoffs.csv?" + query)
		rows, err := csv.NewReader(strings.NewReader(body)).ReadAll()
		if status != 200 || !strings.HasPrefix(kind, "text/csv") || err != nil || len(rows) != len(got)+1 {
			t.Errorf("%q as a table: %d, %s, %d rows, %v", query, status, kind, len(rows), err)
		}
	}
	for _, query := range []string{"kind=painting", "since=yesterday", "until=1", "before=x", "limit=-1", "path=" +
		strings.Repeat("a", 5000)} {
		if status, _, body := h.get("/handoffs?" + query); status != 400 {
			t.Errorf("%.40s answers %d: %.200s", query, status, body)
		}
	}
}

func TestStatesOverTheWire(t *testing.T) {
	h := looking(t)
	if _, err := h.odile.AddMilestone(t.Context(), key, model.MilestoneRequest{Name: "first-light", At: "h2"}); err != nil {
		t.Fatal(err)
	}
	for at, want := range map[string]string{"h2": "1", "2": "1", "first-light": "1", "FIRST-LIGHT": "1", "": "2", "newest": "2", "h3": "2"} {
		status, _, body := h.get("/folder?path=textures&at=" + at)
		var page model.FolderPage
		if err := json.Unmarshal([]byte(body), &page); status != 200 || err != nil || len(page.Assets) != 1 ||
			string(rune('0'+page.Assets[0].Version)) != want && string(rune('0'+page.Assets[0].Newest)) != want {
			t.Errorf("at %q: %d, %v, %.300s", at, status, err, body)
		}
	}
	status, _, body := h.get("/between?from=first-light&to=newest")
	var between model.Between
	if err := json.Unmarshal([]byte(body), &between); status != 200 || err != nil || between.Total.Edited != 2 || len(between.Assets) != 2 ||
		len(between.Folders) != 2 || between.People[0].Person != "odile" {
		t.Errorf("%d, %v: %s", status, err, body)
	}
	if status, _, body := h.get("/between.csv?from=h1&to=h3"); status != 200 || len(strings.Split(strings.TrimSpace(body), "\r\n")) != 3 {
		t.Errorf("%d: %q", status, body)
	}
	if status, _, body := h.get("/lines?path=text/keeper.txt"); status != 200 || !strings.Contains(body, "That is all there is to it") {
		t.Errorf("%d: %s", status, body)
	}
	// An old state as one file, in either form.
	_, _, body = h.get("/archive?at=first-light&form=zip&path=textures")
	if z, err := zip.NewReader(bytes.NewReader([]byte(body)), int64(len(body))); err != nil || len(z.File) != 1 ||
		z.File[0].Name != "textures/rust.png" || int(z.File[0].UncompressedSize64) != len(scene.Albedo("rust", 64, 0)) {
		t.Errorf("%v, %d bytes", err, len(body))
	}
	_, _, body = h.get("/archive?at=first-light&form=tar")
	n := 0
	for r := tar.NewReader(strings.NewReader(body)); ; n++ {
		if _, err := r.Next(); err == io.EOF {
			break
		} else if err != nil {
			t.Fatal(err)
		}
	}
	if n != 3 {
		t.Errorf("%d files in the archive", n)
	}
	for address, want := range map[string]int{"/folder?at=h9": 404, "/folder?at=no-such-name": 404, "/archive?form=rar": 400,
		"/archive?at=h0x": 404, "/archive?path=none": 404, "/between?from=h9": 404, "/lines?path=textures/rust.png": 400,
		"/lines?path=none.txt": 404} {
		if status, _, body := h.get(address); status != want {
			t.Errorf("%s answers %d, want %d: %.200s", address, status, want, body)
		}
	}
}
