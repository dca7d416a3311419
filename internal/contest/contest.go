// Package contest lets many clients fight for few locks, through several services at once, while those are killed and started again; writes
// down what each asked and was answered, and checks that some order of all of it, one after the other, explains every answer
// (linearizability: Herlihy and Wing, ACM TOPLAS 1990; checked as in Lowe, Testing for linearizability, 2017). What one request alone does
// is what core/lock says.
package contest

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptrace"
	"slices"
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

// Contest is what is fought for: Assets, of one version each, which need their lock, in Project, through the services at URLs. Content is
// one that the project has, of Size bytes: every send sends it.
type Contest struct {
	URLs    []string
	Project string
	Assets  []string
	Clients []Client
	Content chunk.Digest
	Size    int64
}

// Result is how it went: how many requests were answered, how many of those carried out, how many had no answer, which may or may not have
// been carried out; of how many of those a second try was refused; how many versions came to be.
type Result struct {
	Answered, Done, Unknown, Again, Sent int
	Kinds                                map[string]int
	history                              []porcupine.Operation
}

// ask is a request; answer what came of it.
type ask struct {
	op    string
	asset int
	who   lock.Place
	have  int
	fence int64
	wait  bool
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
	newest := make([]atomic.Int64, len(c.Assets))
	for i := range newest {
		newest[i].Store(1)
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
					newest[q.asset].Store(max(newest[q.asset].Load(), int64(q.have+1)))
				case q.op == "give back", a.reason == "lock-lost":
					fences[q.asset] = 0
				case a.reason == "behind":
					// Somebody whose answer was lost has sent.
					newest[q.asset].CompareAndSwap(int64(q.have), int64(q.have+1))
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

// choose thinks of the next request. What would change nothing, whoever asks when, is seldom asked: it tells nothing, and makes the check
// long.
func (c *Contest) choose(rnd *rand.Rand, who Client, fences []int64, lines []bool, newest []atomic.Int64) ask {
	q := ask{asset: rnd.IntN(len(c.Assets)), who: who.Place}
	n := rnd.IntN(20)
	if held := slices.IndexFunc(fences, func(f int64) bool { return f > 0 }); held >= 0 && rnd.IntN(2) == 0 {
		q.asset, n = held, 8+rnd.IntN(7) // go on with what one has
	}
	q.have, q.fence = int(newest[q.asset].Load()), fences[q.asset]
	if (n >= 12 && n < 15 && q.fence == 0 || n >= 15 && n < 17 && !lines[q.asset]) && rnd.IntN(8) > 0 {
		n = 0
	}
	switch {
	case n < 8:
		q.op, q.wait = "take", rnd.IntN(3) == 0
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
	default:
		q.op = "take"
		if who.Lead {
			q.op = "override"
		}
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
			Assets: []model.LockWant{{Path: path, Version: q.have}}, Wait: q.wait})
		if len(out.Locks) == 1 {
			a.fence = out.Locks[0].Fence
		}
		if len(out.Waiting) == 1 {
			a.place = out.Waiting[0].Place
		}
	case "send":
		_, err = k.Send(ctx, c.Project, uuid.NewString(), model.SendRequest{Workspace: q.who.WorkspaceID, About: model.About{Note: "a pass"},
			Changes: []model.SendChange{{Path: path, Base: q.have, Fence: q.fence, Content: c.Content, Size: c.Size}}})
	case "give back":
		err = k.ReleaseLocks(ctx, c.Project, model.UnlockRequest{Workspace: q.who.WorkspaceID, Paths: []string{path}})
	case "override":
		err = k.ReleaseLocks(ctx, c.Project, model.UnlockRequest{Workspace: q.who.WorkspaceID, Paths: []string{path}, Override: true,
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
	switch {
	case err == nil:
		return a
	case errors.As(err, &refused) && len(refused.Refusals) > 0:
		return answer{reason: refused.Refusals[0].Reason}
	case line.unheard:
		return answer{never: true}
	}
	return answer{unknown: true, again: line.again}
}

// state is a lock as the specification has it, with a text that is the same for the same states.
type state struct {
	lock.State
	text string
}

func stateOf(s lock.State) state {
	var b strings.Builder
	fmt.Fprint(&b, s.Newest, s.Fence, s.Holder.WorkspaceID, s.Diverged)
	for _, w := range s.Line {
		fmt.Fprint(&b, " ", w.Handle, w.Passed, !w.Until.IsZero())
	}
	for _, k := range s.Asks {
		fmt.Fprint(&b, " ?", k.From)
	}
	return state{s, b.String()}
}

// terms are those of a project without rules; no time passes in a contest that would matter.
var terms = lock.Terms{Now: time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC), OfferFor: 24 * time.Hour, AnswerWithin: 4 * time.Hour}

// apply is what one request does, alone.
func apply(s lock.State, q ask) (lock.State, answer) {
	refusal, next := (*model.Refusal)(nil), s
	var a answer
	switch q.op {
	case "take":
		if next, _, refusal = terms.Take(s, lock.Request{Who: q.who, Have: q.have, Wait: q.wait}); refusal == nil {
			if next.Holder == q.who {
				a.fence = next.Fence
			} else {
				a.place = next.InLine(q.who.Handle)
			}
		}
	case "send":
		if q.have != s.Newest {
			return s, answer{reason: "behind"}
		}
		if refusal = terms.MaySend(s, q.who, q.fence, false); refusal == nil {
			next.Newest++
			next, _ = terms.Release(next)
		}
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
		return s, answer{reason: refusal.Reason}
	}
	return next, a
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
		Init: func() []any { return []any{stateOf(lock.State{Path: "asset", Newest: 1})} },
		Step: func(before, input, output any) []any {
			s, q, a := before.(state), input.(ask), output.(answer)
			next, expected := apply(s.State, q)
			switch {
			case a.unknown && expected.reason == "":
				return []any{s, stateOf(next)}
			case a.unknown:
				return []any{s}
			case a == expected:
				return []any{stateOf(next)}
			}
			return nil
		},
		Equal: func(a, b any) bool { return a.(state).text == b.(state).text },
		DescribeOperation: func(input, output any) string {
			q, a := input.(ask), output.(answer)
			return fmt.Sprintf("%s %s(v%d, fence %d, wait %v) → %+v", q.who.WorkspaceID[:4], q.op, q.have, q.fence, q.wait, a)
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
	return errors.New("no order of the requests explains their answers")
}
