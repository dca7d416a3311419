package service_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"testing"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/testbed"
)

// TestAReview goes through one: asked, said, answered, moved on, settled, closed.
func TestAReview(t *testing.T) {
	m := newTeam(t, nil)
	m.on(m.tamsin, "main", m.change(m.tamsin, "rust.png", 0, 0, "rust"), m.change(m.tamsin, "horn.wav", 0, 0, "horn"))
	m.addBranch("bell", "")
	m.on(m.tamsin, "bell", m.change(m.tamsin, "rust.png", 1, 0, "greener"))
	hears := map[string]func(string) string{"tamsin": m.heard(m.tamsin), "rurik": m.heard(m.rurik)}
	open := func(q model.ReviewRequest) (model.Review, error) { return m.OpenReview(t.Context(), m.tamsin, key, q) }
	for _, c := range []struct {
		q    model.ReviewRequest
		want string
	}{{model.ReviewRequest{Of: "bell"}, model.BadRequest}, {model.ReviewRequest{Text: "look"}, model.BadRequest},
		{model.ReviewRequest{Of: "nowhere", Text: "look"}, model.NotFound}, {model.ReviewRequest{Of: "h77", Text: "look"}, model.NotFound},
		{model.ReviewRequest{Of: "bell", Text: "look", Ask: []string{"stranger"}}, model.NotFound}} {
		testbed.Problem(t, second(open(c.q)), c.want)
	}
	r, err := open(model.ReviewRequest{Of: "Bell", Text: "Does it read from the boat?", Ask: []string{"rurik", "keiko"}})
	if err != nil || r.Number != 1 || r.Branch != "bell" || r.Head != 2 || !slices.Equal(r.Asked, []string{"keiko", "rurik"}) {
		t.Fatalf("%+v, %v", r, err)
	}
	if second, err := open(model.ReviewRequest{Of: "h1", Text: "The first one"}); err != nil || second.Number != 2 || second.Handoff != 1 ||
		second.Branch != "" {
		t.Errorf("%+v, %v", second, err)
	}
	say := func(q model.RemarkRequest) (model.Review, error) { return m.Say(t.Context(), m.viewer, key, 1, q) }
	for _, c := range []struct {
		q    model.RemarkRequest
		want string
	}{{model.RemarkRequest{Text: " "}, model.BadRequest}, {model.RemarkRequest{Text: "x", Where: "1%,1%"}, model.BadRequest},
		{model.RemarkRequest{Text: "x", Path: "rust.png", Where: "over there"}, model.BadRequest},
		{model.RemarkRequest{Text: "x", Path: "rust.png", Where: "net GND"}, model.BadRequest},
		{model.RemarkRequest{Text: "x", Path: "horn.wav", Where: "1%,1%"}, model.BadRequest},
		{model.RemarkRequest{Text: "x", Path: "none.png"}, model.NotFound}, {model.RemarkRequest{Text: "x", Path: "rust.png", Version: 9},
			model.NotFound},
		{model.RemarkRequest{Text: "x", Answers: 4}, model.NotFound}} {
		testbed.Problem(t, second(say(c.q)), c.want)
	}
	for _, q := range []model.RemarkRequest{{Text: "Too green here", Path: "RUST.png", Where: " 30% , 45.50%"}, {Text: "And it creaks",
		Path:  "horn.wav",
		Where: "0:12.5", Version: 1}, {Text: "Bluer, then?", Answers: 1}, {Text: "All in all: good"}} {
		if r, err = say(q); err != nil {
			t.Fatal(err)
		}
	}
	var said []string
	for _, x := range r.Remarks {
		said = append(said, fmt.Sprintf("%d %s %s@v%d %s >%d", x.Number, x.Person, x.Path, x.Version, x.Where, x.Answers))
	}
	if got := strings.Join(said,
		", "); got != "1 keiko rust.png@v2 30%,45.5% >0, 2 keiko horn.wav@v1 0:12.5 >0, 3 keiko @v0  >1, 4 keiko @v0  >0" ||
		r.Said != 4 || r.Open != 3 {
		t.Errorf("%s; %d, %d", got, r.Said, r.Open)
	}
	// An answer is one to what is there: when that moves on, it is old.
	testbed.Problem(t, second(m.AnswerReview(t.Context(), m.rurik, key, 1, model.AnswerRequest{})), model.BadRequest)
	if r, err = m.AnswerReview(t.Context(), m.rurik, key, 1, model.AnswerRequest{Why: "too green"}); err != nil || len(r.Answers) != 1 ||
		r.Answers[0].Yes ||
		r.Answers[0].Old {
		t.Errorf("%+v, %v", r.Answers, err)
	}
	m.on(m.tamsin, "bell", m.change(m.tamsin, "rust.png", 2, 0, "bluer"))
	if r, err = m.Review(t.Context(), m.viewer, key, 1); err != nil || !r.Answers[0].Old || r.Head != 3 || r.Remarks[0].Version != 2 {
		t.Errorf("%+v, %v", r, err)
	}
	if r, err = m.AnswerReview(t.Context(), m.rurik, key, 1, model.AnswerRequest{Yes: true}); err != nil || len(r.Answers) != 1 ||
		!r.Answers[0].Yes ||
		r.Answers[0].Old {
		t.Errorf("%+v, %v", r.Answers, err)
	}
	testbed.Problem(t, second(m.Settle(t.Context(), m.viewer, key, 1, model.SettleRequest{Remark: 1, Settled: true})), model.NotAllowed)
	testbed.Problem(t, second(m.Settle(t.Context(), m.tamsin, key, 1, model.SettleRequest{Remark: 3, Settled: true})), model.NotFound)
	if r, err = m.Settle(t.Context(), m.tamsin, key, 1, model.SettleRequest{Remark: 1, Settled: true}); err != nil || r.Open != 2 ||
		r.Remarks[0].Settler != "tamsin" {
		t.Errorf("%+v, %v", r, err)
	}
	testbed.Problem(t, second(m.CloseReview(t.Context(), m.rurik, key, 1)), model.NotAllowed)
	if r, err = m.CloseReview(t.Context(), m.odile, key, 1); err != nil || r.Closed == nil || r.Closer != "odile" {
		t.Errorf("%+v, %v", r, err)
	}
	// Those who are in it hear of it, and nobody of what they did themselves.
	for name, want := range map[string]int{"tamsin": 7, "rurik": 6} {
		told := hears[name]("closed r1")
		if got := strings.Count(told, "[review]"); got != want {
			t.Errorf("%s heard of %d things: %s", name, got, told)
		}
	}
	testbed.Problem(t, second(say(model.RemarkRequest{Text: "one more"})), model.Taken)
	list, err := m.Reviews(t.Context(), m.viewer, key)
	if err != nil || len(list) != 2 || list[0].Number != 2 || list[1].Closed == nil {
		t.Errorf("%+v, %v", list, err)
	}
	testbed.Problem(t, second(m.Review(t.Context(), m.viewer, key, 3)), model.NotFound)
}

// TestAMergeThatPeopleHaveToHaveSeen: the rules say how many, in which role; whoever made it does not count, nor does an answer to what
// it was.
func TestAMergeThatPeopleHaveToHaveSeen(t *testing.T) {
	m := newTeam(t, nil)
	m.on(m.odile, "main", m.change(m.odile, "a.png", 0, 0, "a1"), m.change(m.odile, "tarn.toml", 0, 0, `
[[branch]]
match = "main"
yes = 1
yes-by = "artist"
`))
	m.addBranch("bell", "")
	m.on(m.tamsin, "bell", m.change(m.tamsin, "b.png", 0, 0, "b1"))
	ok(t)(m.OpenReview(t.Context(), m.tamsin, key, model.ReviewRequest{Of: "bell", Text: "look", Ask: []string{"rurik"}}))
	yes := model.AnswerRequest{Yes: true}
	for i, answer := range []func() error{func() error { return nil },
		func() error { return second(m.AnswerReview(t.Context(), m.tamsin, key, 1, yes)) },
		func() error { return second(m.AnswerReview(t.Context(), m.viewer, key, 1, yes)) }} {
		if err := answer(); err != nil {
			t.Fatal(err)
		}
		_, err := m.merge(m.tamsin, "bell", "main")
		reason(t, err, "unseen")
		if r := testbed.Refused(t, err)[0]; !strings.Contains(r.Message, "1 yes from a artist") && !strings.Contains(r.Message,
			"1 yes from an artist") ||
			!strings.Contains(r.Message, "in line 3") {
			t.Errorf("%d: %+v", i, r)
		}
	}
	ok(t)(m.AnswerReview(t.Context(), m.rurik, key, 1, yes))
	m.on(m.tamsin, "bell", handoffs.Change{Path: "b.png", Base: 1, Gone: true})
	_, err := m.merge(m.tamsin, "bell", "main")
	reason(t, err, "unseen")
	ok(t)(m.AnswerReview(t.Context(), m.rurik, key, 1, yes))
	done, err := m.merge(m.tamsin, "bell", "main")
	if err != nil || len(done.Answers) != 3 || done.Handoff == nil {
		t.Errorf("%+v, %v", done.Answers, err)
	}
}

// TestRemarksAreFollowed: a remark stays with the version that it was made on, and is found on others where the same thing is there.
func TestRemarksAreFollowed(t *testing.T) {
	m := newTeam(t, nil)
	wave := func(seconds int) string {
		var b bytes.Buffer
		size := 8000 * 2 * seconds
		b.WriteString("RIFF")
		for _, v := range []any{uint32(36 + size), []byte("WAVEfmt "), uint32(16), uint16(1), uint16(1), uint32(8000), uint32(16000), uint16(2),
			uint16(16), []byte("data"), uint32(size), make([]byte, size)} {
			if err := binary.Write(&b, binary.LittleEndian, v); err != nil {
				t.Fatal(err)
			}
		}
		return b.String()
	}
	m.on(m.tamsin, "main", m.change(m.tamsin, "keeper.txt", 0, 0, "Good evening.\nThe lamp is low.\n"),
		m.change(m.tamsin, "horn.wav", 0, 0, wave(3)),
		m.change(m.tamsin, "rust.png", 0, 0, "no picture"))
	r, err := m.OpenReview(t.Context(), m.tamsin, key, model.ReviewRequest{Of: "main", Text: "All of it"})
	if err != nil {
		t.Fatal(err)
	}
	for _, q := range []model.RemarkRequest{{Path: "keeper.txt", Where: "line 2"}, {Path: "keeper.txt", Where: "line 1"},
		{Path: "horn.wav", Where: "0:02"},
		{Path: "horn.wav", Where: "0:00.5"}, {Path: "horn.wav"}, {Path: "rust.png", Where: "1%,1%"}, {}} {
		q.Text = "Hm"
		if r, err = m.Say(t.Context(), m.viewer, key, r.Number, q); err != nil {
			t.Fatal(err)
		}
	}
	spots := func(path string, version int) string {
		t.Helper()
		list, err := m.Spots(t.Context(), m.viewer, key, r.Number, path, version)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, s := range list {
			out = append(out, fmt.Sprintf("%d %s@v%d %s", s.Remark, s.Path, s.Version, s.Where))
		}
		return strings.Join(out, ", ")
	}
	made := "1 keeper.txt@v1 line 2, 2 keeper.txt@v1 line 1, 3 horn.wav@v1 0:02, 4 horn.wav@v1 0:00.5, 5 horn.wav@v1 , 6 rust.png@v1 1%,1%"
	if got := spots("", 0); got != made {
		t.Error(got)
	}
	moved := m.change(m.tamsin, "text/keeper.txt", 1, 0, "(a gull)\n(and another)\nThe lamp is low.\n")
	moved.MovedFrom = "keeper.txt"
	m.on(m.tamsin, "main", moved, m.change(m.tamsin, "horn.wav", 1, 0, wave(1)), m.change(m.tamsin, "rust.png", 1, 0, "no picture either"))
	if got, want := spots("", 0), "1 text/keeper.txt@v2 line 3, 4 horn.wav@v2 0:00.5, 5 horn.wav@v2 "; got != want {
		t.Errorf("%s; want %s", got, want)
	}
	if got, want := spots("TEXT/keeper.txt", 1), "1 keeper.txt@v1 line 2, 2 keeper.txt@v1 line 1"; got != want {
		t.Errorf("%s; want %s", got, want)
	}
	if got := spots("horn.wav", 9); got != "" {
		t.Error(got)
	}
	_, err = m.Spots(t.Context(), m.viewer, key, r.Number, "none.txt", 0)
	testbed.Problem(t, err, model.NotFound)
	_, err = m.Spots(t.Context(), m.viewer, key, 9, "", 0)
	testbed.Problem(t, err, model.NotFound)
	gone := m.change(m.tamsin, "horn.wav", 2, 0, "")
	gone.Gone = true
	m.on(m.tamsin, "main", gone)
	if got := spots("horn.wav", 0); got != "" {
		t.Error(got)
	}
}
