// Package contest lets many clients fight for few locks, through several services at once, while those are killed and started again; writes
// down what each asked and was answered, and checks that some order of all of it, one after the other, explains every answer
// (linearizability: Herlihy and Wing, ACM TOPLAS 1990; checked as in Lowe, Testing for linearizability, 2017). What one request alone does
// is what core/lock says.
package contest

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptrace"
	"slices"
	"sort"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/anishathalye/porcupine"
	"github.com/google/uuid"

	"kettletarn/internal/client"
	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
)

// Client is one of the contestants: a person in a workspace. Lead says that they may take locks away.
type Client struct {
	Token string
	Place lock.Place
	Lead  bool
}

// Contest is what is fought for: Assets, of one version each, which need their lock, in Project, through the services at URLs. With Apart,
// each has a branch of its own (Branch), on which nothing else is sent, and which comes into the first one now and then. Content is one
// that the project has, of Size bytes: every send sends it.
type Contest struct {
	URLs    []string
	Project string
	Assets  []string
	Clients []Client
	Content chunk.Digest
	Size    int64
	apart   bool
}

// Result is how it went: how many requests were answered, how many of those carried out, how many had no answer, which may or may not have
// been carried out; of how many of those a second try was refused; how many versions came to be.
type Result struct {
	Answered, Done, Unknown, Again, Sent int
	Kinds                                map[string]int
	history                              []porcupine.Operation
}

// Branch is the branch of an asset.
func Branch(asset int) string { return fmt.Sprintf("own-%d", asset) }

// ask is a request; answer what came of it. side is the branch that it is about: the first one, or that of the asset.
type ask struct {
	op    string
	side  int
	asset int
	who   lock.Place
	have  int
	fence int64
	wait  bool
	// diverge says that one knows of newer versions that one does not go on from.
	diverge bool
}

type answer struct {
	never   bool // it did not come to any service
	unknown bool
	again   bool // unknown because it was tried again by itself, and refused then
	reason  string
	fence   int64
	place   int
}

// Run lets them fight for a time.
func (c *Contest) Run(ctx context.Context, length time.Duration, seed uint64) Result {
	ctx, stop := context.WithTimeout(ctx, length)
	defer stop()
	newest := make([][2]atomic.Int64, len(c.Assets))
	for i := range newest {
		newest[i][0].Store(1)
		newest[i][1].Store(1)
	}
	transport := &http.Transport{MaxIdleConnsPerHost: len(c.Clients)}
	defer transport.CloseIdleConnections()
	start := time.Now()
	var mu sync.Mutex
	result := Result{Kinds: map[string]int{}}
	var group sync.WaitGroup
	for id, who := range c.Clients {
		group.Go(func() {
			rnd := rand.New(rand.NewPCG(seed, uint64(id)))
			fences, lines := make([]int64, len(c.Assets)), make([]bool, len(c.Assets))
			k := client.New(c.URLs[0], who.Token, transport)
			for ctx.Err() == nil {
				q := c.choose(rnd, who, fences, lines, newest)
				called := time.Since(start)
				a := c.request(who.Token, c.URLs[rnd.IntN(len(c.URLs))], q, transport)
				returned := time.Since(start)
				lines[q.asset] = lines[q.asset] && q.op != "leave" || a.place > 0
				switch {
				case a.never:
					time.Sleep(50 * time.Millisecond)
					continue
				case a.unknown:
					time.Sleep(50 * time.Millisecond)
				case q.op == "take" && a.reason == "" && a.place == 0:
					fences[q.asset] = a.fence
				case q.op == "send" && a.reason == "":
					fences[q.asset] = 0
				case q.op == "give back", a.reason == "lock-lost":
					fences[q.asset] = 0
				}
				if q.op == "send" && a.reason == "" || q.op == "merge" && a.reason == "" || a.reason == "behind" {
					c.look(ctx, k, q.asset, newest)
				}
				mu.Lock()
				result.history = append(result.history, porcupine.Operation{ClientId: id, Input: q, Call: int64(called), Output: a,
					Return: int64(returned)})
				switch {
				case a.unknown:
					result.Unknown++
					if a.again {
						result.Again++
					}
				default:
					result.Answered++
					if a.reason == "" {
						result.Done++
						result.Kinds[q.op]++
						if q.op == "send" {
							result.Sent++
						}
					} else {
						result.Kinds[a.reason]++
					}
				}
				mu.Unlock()
			}
		})
	}
	group.Wait()
	return result
}

// look finds out what is the newest of an asset.
func (c *Contest) look(ctx context.Context, k *client.Client, asset int, newest [][2]atomic.Int64) {
	for side, branch := range []string{model.FirstBranch, Branch(asset)} {
		if h, err := k.Asset(ctx, c.Project, branch, c.Assets[asset]); err == nil {
			newest[asset][side].Store(max(newest[asset][side].Load(), int64(h.Asset.Newest)))
		}
	}
}

// choose thinks of the next request. What would change nothing, whoever asks when, is seldom asked: it tells nothing, and makes the check
// long.
func (c *Contest) choose(rnd *rand.Rand, who Client, fences []int64, lines []bool, newest [][2]atomic.Int64) ask {
	q := ask{asset: rnd.IntN(len(c.Assets)), who: who.Place, side: min(1, rnd.IntN(3))}
	n := rnd.IntN(22)
	if !c.apart {
		q.side, n = 0, rnd.IntN(20)
	}
	held := slices.IndexFunc(fences, func(f int64) bool { return f > 0 })
	if held >= 0 && rnd.IntN(2) == 0 {
		q.asset, n = held, 8+rnd.IntN(7) // go on with what one has
	}
	q.have, q.fence = int(newest[q.asset][q.side].Load()), fences[q.asset]
	if (n >= 12 && n < 15 && q.fence == 0 || n >= 15 && n < 17 && !lines[q.asset]) && rnd.IntN(8) > 0 {
		n = 0
	}
	switch {
	case n < 8:
		q.op, q.wait, q.diverge = "take", rnd.IntN(3) == 0, rnd.IntN(3) > 0
	case n < 12:
		q.op = "send"
	case n < 15:
		q.op = "give back"
	case n < 17:
		q.op = "leave"
	case n < 18:
		q.op = "ask"
	case n < 19:
		q.op = "give"
	case n < 20:
		q.op = "take"
		if who.Lead {
			q.op = "override"
		}
	default:
		q.op, q.side = "merge", 0
	}
	return q
}

// refusedAt reports whether an error says that nobody listens: nothing was sent then.
func refusedAt(err error) bool {
	var op *net.OpError
	return errors.As(err, &op) && op.Op == "dial"
}

// single makes sure that a request is made once: where its answer is lost, the client may not ask again by itself. net/http does all the
// same where a connection that was used before breaks under a request with an Idempotency-Key: that the last try was refused says nothing
// then about the first, which may have been heard.
type single struct {
	below   http.RoundTripper
	stop    context.CancelFunc
	unheard bool
	again   bool // it was written, and refused when it was tried again
}

func (s *single) RoundTrip(r *http.Request) (*http.Response, error) {
	var written atomic.Bool
	trace := &httptrace.ClientTrace{WroteHeaders: func() { written.Store(true) }}
	a, err := s.below.RoundTrip(r.WithContext(httptrace.WithClientTrace(r.Context(), trace)))
	s.unheard, s.again = refusedAt(err) && !written.Load(), refusedAt(err) && written.Load()
	if err != nil || a.StatusCode == http.StatusServiceUnavailable || a.StatusCode >= 500 {
		s.stop()
	}
	return a, err
}

func (c *Contest) request(token, url string, q ask, transport http.RoundTripper) (a answer) {
	ctx, stop := context.WithTimeout(context.Background(), 30*time.Second)
	defer stop()
	line := &single{below: transport, stop: stop}
	k := client.New(url, token, line)
	path, err := c.Assets[q.asset], error(nil)
	switch q.op {
	case "take":
		var out model.Locks
		out, err = k.TakeLocks(ctx, c.Project, model.LockRequest{Workspace: q.who.WorkspaceID,
			Branch: q.branch(), Assets: []model.LockWant{{Path: path, Version: q.have}}, Wait: q.wait, Diverge: q.diverge})
		if len(out.Locks) == 1 {
			a.fence = out.Locks[0].Fence
		}
		if len(out.Waiting) == 1 {
			a.place = out.Waiting[0].Place
		}
	case "send":
		_, err = k.Send(ctx, c.Project, uuid.NewString(), model.SendRequest{Workspace: q.who.WorkspaceID, Branch: q.branch(),
			About:   model.About{Note: "a pass"},
			Changes: []model.SendChange{{Path: path, Base: q.have, Fence: q.fence, Content: c.Content, Size: c.Size}}})
	case "merge":
		_, err = k.Merge(ctx, c.Project, uuid.NewString(), model.MergeRequest{Workspace: q.who.WorkspaceID, From: Branch(q.asset),
			Into: model.FirstBranch})
	case "give back":
		_, err = k.ReleaseLocks(ctx, c.Project, model.UnlockRequest{Workspace: q.who.WorkspaceID, Paths: []string{path}})
	case "override":
		_, err = k.ReleaseLocks(ctx, c.Project, model.UnlockRequest{Workspace: q.who.WorkspaceID, Paths: []string{path}, Override: true,
			Reason: "it is wanted"})
	case "leave":
		err = k.LeaveLines(ctx, c.Project, []string{path})
	case "ask":
		var out model.Waiting
		out, err = k.Ask(ctx, c.Project, model.AskRequest{Workspace: q.who.WorkspaceID, Path: path, Reason: "a moment"})
		a.place = out.Place
	case "give":
		err = k.AnswerAsk(ctx, c.Project, model.AskAnswer{Path: path, Give: true})
	}
	var refused *model.Refused
	var problem *model.Problem
	switch {
	case err == nil:
		return a
	case errors.As(err, &refused) && len(refused.Refusals) > 0:
		return answer{reason: refused.Refusals[0].Reason}
	case line.unheard:
		return answer{never: true}
	case q.op == "merge" && errors.As(err, &problem) && (problem.Type == model.BadRequest || problem.Type == model.MovedOn):
		return answer{reason: problem.Type}
	}
	return answer{unknown: true, again: line.again}
}

// branch is the branch that a request is about.
func (q ask) branch() string {
	if q.side == 0 {
		return model.FirstBranch
	}
	return Branch(q.asset)
}

// state is an asset as the specification has it, with a text that is the same for the same states: its lock, and of the first branch and of
// its own what is newest there (on), the highest number of all (top), and whether what is newest here descends from, or is, what is newest
// there (has).
type state struct {
	lock.State
	on   [2]int
	top  int
	has  [2]bool
	text string
}

func (s state) told() state {
	var b strings.Builder
	fmt.Fprint(&b, s.on, s.has, s.Fence, s.Holder.WorkspaceID, s.Diverged)
	for _, w := range s.Line {
		fmt.Fprint(&b, " ", w.Handle, w.Passed, !w.Until.IsZero())
	}
	for _, k := range s.Asks {
		fmt.Fprint(&b, " ?", k.From)
	}
	s.text = b.String()
	return s
}

// lacks is what a version that is the newest of one branch does not descend from.
func (s state) lacks(side int) (list []lock.Newest) {
	if !s.has[side] {
		list = append(list, lock.Newest{Branch: "the other", Version: s.on[1-side]})
	}
	return list
}

// comes is what becomes of the first branch when the other comes in, for somebody whom nobody is in the way of.
func (s state) comes() state {
	if s.has[1] { // it goes by itself
		s.on[0] = s.on[1]
	} else {
		s.top++
		s.on[0] = s.top
	}
	s.has, s.Diverged = [2]bool{true, s.has[1]}, 0
	return s
}

// first is an asset of one version that both branches have.
func first() state {
	return state{State: lock.State{Path: "asset"}, on: [2]int{1, 1}, top: 1, has: [2]bool{true, true}}
}

// terms are those of a project without rules; no time passes in a contest that would matter.
var terms = lock.Terms{Now: time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC), OfferFor: 24 * time.Hour, AnswerWithin: 4 * time.Hour}

// apply is what one request does, alone.
func apply(was state, q ask) (state, answer) {
	was.Newest = was.on[q.side]
	s, become := was.State, was
	refusal, next := (*model.Refusal)(nil), s
	var a answer
	switch q.op {
	case "take":
		if next, _, refusal = terms.Take(s, lock.Request{Who: q.who, Have: q.have, Wait: q.wait, Diverge: q.diverge,
			Lacks: was.lacks(q.side)}); refusal == nil {
			if next.Holder == q.who {
				a.fence = next.Fence
			} else {
				a.place = next.InLine(q.who.Handle)
			}
		}
	case "send":
		if q.have != s.Newest {
			return was, answer{reason: "behind"}
		}
		if refusal = terms.MaySend(s, q.who, q.fence, false); refusal == nil {
			become.top++
			become.on[q.side], become.has[1-q.side] = become.top, false
			next, _ = terms.Release(next)
		}
	case "merge":
		if was.has[0] {
			return was, answer{reason: model.BadRequest} // there is nothing to bring
		}
		if become, refusal = was.comes(), nil; s.Holder.Handle != q.who.Handle && (!s.Free() || !was.has[1]) {
			refusal = terms.MaySend(s, q.who, 0, true)
		}
		next.Diverged = 0
	case "give back":
		next, _, refusal = terms.GiveBack(s, q.who)
	case "override":
		next, _ = terms.Override(s, q.who.Handle, "it is wanted")
	case "leave":
		next, _ = terms.Leave(s, q.who.Handle)
	case "ask":
		if next, _, refusal = terms.Ask(s, q.who, "a moment"); refusal == nil {
			a.place = next.InLine(q.who.Handle)
		}
	case "give":
		next, _, refusal = terms.Give(s, q.who.Handle, "")
	}
	if refusal != nil {
		return was, answer{reason: refusal.Reason}
	}
	next.Newest, become.State = 0, next
	return become, a
}

func (c *Contest) spec() porcupine.Model {
	m := porcupine.NondeterministicModel{
		Partition: func(history []porcupine.Operation) [][]porcupine.Operation {
			parts := make([][]porcupine.Operation, len(c.Assets))
			for _, o := range history {
				q := o.Input.(ask)
				parts[q.asset] = append(parts[q.asset], o)
			}
			return parts
		},
		Init: func() []any { return []any{first().told()} },
		Step: func(before, input, output any) []any {
			s, q, a := before.(state), input.(ask), output.(answer)
			next, expected := apply(s, q)
			switch {
			case a.reason == model.MovedOn:
				return []any{s} // others kept on overtaking it
			case a.unknown && expected.reason == "":
				return []any{s, next.told()}
			case a.unknown:
				return []any{s}
			case a == expected:
				return []any{next.told()}
			}
			return nil
		},
		Equal: func(a, b any) bool { return a.(state).text == b.(state).text },
		DescribeOperation: func(input, output any) string {
			q, a := input.(ask), output.(answer)
			return fmt.Sprintf("%s %s %s(%s v%d, fence %d, wait %v, diverge %v) → %+v", q.who.Handle, q.who.WorkspaceID[:4], q.op, q.branch(),
				q.have, q.fence, q.wait, q.diverge, a)
		},
		DescribeState: func(s any) string { return s.(state).text },
	}
	return m.ToModel()
}

// Check reports whether some order explains every answer; it gives up, with an error, after limit. A request whose answer was lost may have
// been carried out up to lost later: whoever kills services finds out how long the database goes on with what they had sent it. picture,
// where it is not "", is a file for a page that shows a history that nothing explains.
func (c *Contest) Check(r Result, limit, lost time.Duration, picture string) error {
	history := slices.Clone(r.history)
	for i := range history {
		if history[i].Output.(answer).unknown {
			history[i].Return += int64(lost)
		}
	}
	verdict, info := porcupine.CheckOperationsVerbose(c.spec(), history, limit)
	switch verdict {
	case porcupine.Ok:
		return nil
	case porcupine.Unknown:
		return fmt.Errorf("the history could not be checked within %s", limit)
	}
	if picture != "" {
		if err := porcupine.VisualizePath(c.spec(), info, picture); err != nil {
			return err
		}
	}
	return fmt.Errorf("no order of the requests explains their answers:\n%s", c.unexplained(history))
}

// unexplained is, of each asset whose requests nothing explains, the end of the shortest beginning that is not explained: a line a request,
// with when it was made and answered. A beginning has what was answered by then; of what was made, and not answered yet, anything may come.
func (c *Contest) unexplained(history []porcupine.Operation) string {
	var b strings.Builder
	spec := c.spec()
	whole := porcupine.Model{Init: spec.Init, Step: spec.Step, Equal: spec.Equal}
	for i, part := range spec.Partition(history) {
		slices.SortFunc(part, func(a, b porcupine.Operation) int { return cmp.Compare(a.Return, b.Return) })
		until := func(n int) (list []porcupine.Operation) {
			for _, o := range part {
				if o.Return > part[n].Return {
					o.Return, o.Output = math.MaxInt64, answer{unknown: true}
				}
				if o.Call <= part[n].Return {
					list = append(list, o)
				}
			}
			return list
		}
		n := sort.Search(len(part), func(n int) bool { return !porcupine.CheckOperations(whole, until(n)) })
		if n == len(part) {
			continue
		}
		fmt.Fprintf(&b, "%s, %d of %d:\n", c.Assets[i], n+1, len(part))
		for _, o := range part[max(0, n-40):min(len(part), n+5)] {
			fmt.Fprintf(&b, "%s to %s: %s\n", time.Duration(o.Call).Round(time.Microsecond), time.Duration(o.Return).Round(time.Microsecond),
				spec.DescribeOperation(o.Input, o.Output))
		}
	}
	return b.String()
}
