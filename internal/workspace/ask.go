package workspace

import (
	"bufio"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"kettletarn/internal/core/assetpath"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/rules"
	"kettletarn/internal/workspace/index"
)

// Other commands ask a running watch on loopback, one line of JSON each way. Where it listens, and the word that it wants to hear, lie in
// the state folder, which only its person can read.

// calling is what lies there.
type calling struct {
	Address string `json:"address"`
	Word    string `json:"word"`
}

// wireStatus is a status as a watch tells it.
type wireStatus struct {
	Assets    []model.Asset
	Same      int
	Code      int
	Left      int
	Odd       []model.Refusal
	Uncovered []model.Asset
	Rules     string
	Pending   *index.Pending
	View      index.View
}

// EchoPrefix is that of files whose appearance tells a watch that it has heard everything before.
const EchoPrefix = assetpath.ReservedPrefix + "heard-"

func (w *Workspace) callingFile() string { return filepath.Join(w.folder.State, "watch.json") }

// Answering answers other commands with the status that current gives, as a watch does, until the function given back is called.
func (w *Workspace) Answering(ctx context.Context, group *sync.WaitGroup, current func(context.Context) (*Status, error)) (end func(),
	err error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	c := calling{Address: listener.Addr().String(), Word: rand.Text()}
	text, err := json.Marshal(c)
	if err == nil {
		err = os.WriteFile(w.callingFile(), text, 0o600)
	}
	if err != nil {
		_ = listener.Close()
		return nil, err
	}
	group.Go(func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			group.Go(func() { answer(ctx, conn, c.Word, current) })
		}
	})
	return func() {
		_ = os.Remove(w.callingFile())
		_ = listener.Close()
	}, nil
}

func answer(ctx context.Context, conn net.Conn, word string, current func(context.Context) (*Status, error)) {
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(time.Minute))
	line, err := bufio.NewReaderSize(conn, 256).ReadString('\n')
	if err != nil || subtle.ConstantTimeCompare([]byte(line), []byte(word+"\n")) != 1 {
		return
	}
	s, err := current(ctx)
	if err != nil {
		return
	}
	out := wireStatus{Assets: s.Assets, Same: s.Same, Code: s.Code, Left: s.Left, Odd: s.Odd, Uncovered: s.Uncovered,
		Pending: s.Pending, View: s.View}
	if s.Rules != nil {
		out.Rules = s.Rules.Error()
	}
	_ = json.NewEncoder(conn).Encode(out)
}

// call asks a running watch for its status; nil where none runs or answers in time.
func (w *Workspace) call(ctx context.Context) *wireStatus {
	text, err := os.ReadFile(w.callingFile())
	var c calling
	if err != nil || json.Unmarshal(text, &c) != nil || c.Address == "" {
		return nil
	}
	conn, err := (&net.Dialer{Timeout: time.Second}).DialContext(ctx, "tcp", c.Address)
	if err != nil {
		return nil
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(30 * time.Second))
	if _, err := conn.Write([]byte(c.Word + "\n")); err != nil {
		return nil
	}
	var out wireStatus
	if json.NewDecoder(bufio.NewReaderSize(conn, 64<<10)).Decode(&out) != nil {
		return nil
	}
	return &out
}

// Watched reports whether a watch runs in the workspace and answers.
func (w *Workspace) Watched(ctx context.Context) bool { return w.call(ctx) != nil }

// QuickStatus is Status, from what a running watch knows already where that is enough to answer.
func (w *Workspace) QuickStatus(ctx context.Context, q Question) (*Status, error) {
	if !q.All && !q.LeftOut && len(q.Paths) == 0 {
		if known := w.call(ctx); known != nil {
			s := &Status{Assets: known.Assets, Same: known.Same, Code: known.Code, Left: known.Left, Odd: known.Odd,
				Uncovered: known.Uncovered, Pending: known.Pending, View: known.View, Watched: true, decide: rules.Default()}
			if known.Rules != "" {
				s.Rules = errors.New(known.Rules)
			}
			s.Jobs = w.sending(s)
			return s, nil
		}
	}
	s, err := w.Status(ctx, q)
	if err == nil {
		s.Jobs = w.sending(s)
	}
	return s, err
}
