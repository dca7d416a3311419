package service_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/service/ground"
	"kettletarn/internal/service/handoffs"
	"kettletarn/internal/service/history"
	"kettletarn/internal/service/keeping"
	"kettletarn/internal/service/locks"
	"kettletarn/internal/testbed"
)

// rounds is how many there are at most.
var rounds = testbed.Steps(32, 60)

// patience is how long the second of two is given to end while the first is held back.
const patience = 80 * time.Millisecond

// interleave runs first again and again, each time held back before another of its statements while second runs, and calls check after
// each: whatever the order, the outcome has to be right. n tells the rounds apart. In the suite it is every third statement that waits, in
// make soak each.
func interleave(t *testing.T, k *kept, first, second func(ctx context.Context, n int) error, check func(n int, one, two error)) {
	t.Helper()
	for n := 1; ; n++ {
		pause, ctx := testbed.NewPause(t.Context(), 1+(n-1)*testbed.Steps(3, 1))
		one, two := make(chan error, 1), make(chan error, 1)
		go func() { one <- first(ctx, n) }()
		var err error
		ended := false
		select {
		case <-pause.Reached:
		case err = <-one:
			ended = true
		}
		go func() { two <- second(t.Context(), n) }()
		var other error
		early := false
		select {
		case other = <-two:
			early = true
		case <-time.After(patience):
		}
		close(pause.Release)
		if !ended {
			err = <-one
		}
		if !early {
			other = <-two
		}
		check(n, err, other)
		if ended {
			if n < testbed.Steps(3, 5) {
				t.Errorf("only %d statements were held back", n-1)
			}
			k.clean()
			return
		}
		if n >= rounds {
			t.Fatal("there is no end to the statements")
		}
	}
}

// sendAs sends changes with a context of its own.
func (k *kept) sendAs(ctx context.Context, actor ground.Actor, key1 string, changes ...handoffs.Change) (handoffs.Receipt, error) {
	return k.Send(ctx, actor, key, handoffs.Send{Key: key1, Workspace: k.space[actor.Handle], About: model.About{Note: "a pass"},
		Changes: changes}, nil)
}

func refusedFor(err error, reason string) bool {
	var r *model.Refused
	return errors.As(err, &r) && len(r.Refusals) > 0 && r.Refusals[0].Reason == reason
}

func TestTwoSendsOfTwoAssetsBothArrive(t *testing.T) {
	k := newKept(t)
	interleave(t, k, func(ctx context.Context, n int) error {
		_, err := k.sendAs(ctx, k.tamsin, uuid.NewString(), k.change(k.tamsin, fmt.Sprintf("t/%d.txt", n), 0, 0, fmt.Sprint("t", n)))
		return err
	}, func(ctx context.Context, n int) error {
		_, err := k.sendAs(ctx, k.rurik, uuid.NewString(), k.change(k.rurik, fmt.Sprintf("r/%d.txt", n), 0, 0, fmt.Sprint("r", n)))
		return err
	}, func(n int, one, two error) {
		if one != nil || two != nil {
			t.Fatalf("round %d: %v; %v", n, one, two)
		}
		k.has(fmt.Sprintf("t/%d.txt", n), fmt.Sprint("t", n))
		k.has(fmt.Sprintf("r/%d.txt", n), fmt.Sprint("r", n))
		page, err := k.Changes(t.Context(), k.odile, key, history.Changes{})
		if err != nil || len(page.Assets) != 2*n || page.At != 2*n {
			t.Fatalf("round %d: %d assets as of h%d, %v", n, len(page.Assets), page.At, err)
		}
	})
}

func TestTwoSendsOfOneNewPathMakeOneAsset(t *testing.T) {
	k := newKept(t)
	path := func(n int) string { return fmt.Sprintf("new%d.txt", n) }
	interleave(t, k, func(ctx context.Context, n int) error {
		_, err := k.sendAs(ctx, k.tamsin, uuid.NewString(), k.change(k.tamsin, path(n), 0, 0, "t"))
		return err
	}, func(ctx context.Context, n int) error {
		_, err := k.sendAs(ctx, k.rurik, uuid.NewString(), k.change(k.rurik, path(n), 0, 0, "r"))
		return err
	}, func(n int, one, two error) {
		switch {
		case one == nil && refusedFor(two, "behind"):
			k.has(path(n), "t")
		case two == nil && refusedFor(one, "behind"):
			k.has(path(n), "r")
		default:
			t.Fatalf("round %d: %v; %v", n, one, two)
		}
	})
}

func TestAFileAndAFolderOfTheSameNameNeverBothArrive(t *testing.T) {
	k := newKept(t)
	interleave(t, k, func(ctx context.Context, n int) error {
		_, err := k.sendAs(ctx, k.tamsin, uuid.NewString(), k.change(k.tamsin, fmt.Sprintf("x%d", n), 0, 0, "file"))
		return err
	}, func(ctx context.Context, n int) error {
		_, err := k.sendAs(ctx, k.rurik, uuid.NewString(), k.change(k.rurik, fmt.Sprintf("x%d/below", n), 0, 0, "below"))
		return err
	}, func(n int, one, two error) {
		if (one == nil) == (two == nil) || one != nil && !refusedFor(one, "path-collides") || two != nil && !refusedFor(two, "path-collides") {
			t.Fatalf("round %d: %v; %v", n, one, two)
		}
	})
}

func TestAnOverrideFencesOffASendOnItsWay(t *testing.T) {
	k := newKept(t)
	path := func(n int) string { return fmt.Sprintf("held%d.txt", n) }
	for n := 1; n <= rounds; n++ {
		ok(t)(k.send(k.tamsin, k.change(k.tamsin, path(n), 0, 0, "one")))
	}
	interleave(t, k, func(ctx context.Context, n int) error {
		fence := k.lock(k.tamsin, path(n), 1)
		_, err := k.sendAs(ctx, k.tamsin, uuid.NewString(), k.change(k.tamsin, path(n), 1, fence, "two"))
		return err
	}, func(ctx context.Context, n int) error {
		return k.GiveBackLocks(ctx, k.odile, key, k.space["odile"], []string{path(n)}, true, "it is Friday")
	}, func(n int, one, two error) {
		var problem *model.Refused
		switch {
		case one == nil: // it arrived before the override, which then found nothing to take
			k.has(path(n), "two")
		case errors.As(one, &problem) && two == nil:
			k.has(path(n), "one")
		default:
			t.Fatalf("round %d: %v; %v", n, one, two)
		}
		if locks, err := k.Locks(t.Context(), k.odile, key, ""); err != nil || len(locks) > 0 {
			t.Fatalf("round %d: %v is still held, %v", n, locks, err)
		}
	})
}

// Whoever waits gets the lock that a send gives back, or is told that it is held; at no moment anybody else.
func TestASendGivesItsLockToTheLine(t *testing.T) {
	k := newKept(t)
	path := func(n int) string { return fmt.Sprintf("line%d.txt", n) }
	fences := map[int]int64{}
	for n := 1; n <= rounds; n++ {
		ok(t)(k.send(k.tamsin, k.change(k.tamsin, path(n), 0, 0, "one")))
		fences[n] = k.lock(k.tamsin, path(n), 1)
		ok(t)(k.take(k.rurik, locks.Wish{Wait: true}, path(n)))
	}
	interleave(t, k, func(ctx context.Context, n int) error {
		_, err := k.sendAs(ctx, k.tamsin, uuid.NewString(), k.change(k.tamsin, path(n), 1, fences[n], "two"))
		return err
	}, func(ctx context.Context, n int) error {
		_, stolen := k.take(k.odile, locks.Wish{WillUpdate: true}, path(n))
		if !refusedFor(stolen, "held") && !refusedFor(stolen, "offered") {
			return fmt.Errorf("somebody who does not wait: %w", stolen)
		}
		_, err := k.take(k.rurik, locks.Wish{WillUpdate: true}, path(n))
		return err
	}, func(n int, one, two error) {
		if one != nil || two != nil && !refusedFor(two, "held") {
			t.Fatalf("round %d: %v; %v", n, one, two)
		}
		k.has(path(n), "two")
		list, err := k.Locks(t.Context(), k.viewer, key, path(n))
		if err != nil || len(list) != 1 || (two == nil) != (list[0].Holder == "rurik") || two != nil && list[0].Waitlist[0].OfferedUntil == nil {
			t.Fatalf("round %d: %v: %+v, %v", n, two, list, err)
		}
	})
}

// Whoever is taken out of a project while they lock something holds nothing afterwards.
func TestNobodyHoldsWhatTheyTookOnTheirWayOut(t *testing.T) {
	k := newKept(t)
	ok(t)(k.send(k.odile, k.change(k.odile, "a.txt", 0, 0, "one"), k.change(k.odile, "b.txt", 0, 0, "two")))
	interleave(t, k, func(ctx context.Context, n int) error {
		ok(t)(k.SetMember(t.Context(), k.odile, key, "tamsin", model.Artist))
		ok(t)(k.take(k.tamsin, locks.Wish{}, "b.txt"))
		return k.RemoveMember(ctx, k.odile, key, "tamsin")
	}, func(_ context.Context, n int) error {
		_, err := k.take(k.tamsin, locks.Wish{}, "a.txt")
		return err
	}, func(n int, one, two error) {
		var problem *model.Problem
		if one != nil || two != nil && !errors.As(two, &problem) {
			t.Fatalf("round %d: %v; %v", n, one, two)
		}
		if got := k.board(); got != "" {
			t.Fatalf("round %d: %s", n, got)
		}
	})
}

func TestTheSameKeyTwiceAtOnceMakesOneHandoff(t *testing.T) {
	k := newKept(t)
	keys := map[int]string{}
	numbers := map[int][]int{}
	for n := range 60 {
		keys[n] = uuid.NewString()
	}
	one := func(ctx context.Context, n int) error {
		receipt, err := k.sendAs(ctx, k.tamsin, keys[n], k.change(k.tamsin, fmt.Sprintf("k%d.txt", n), 0, 0, "k"))
		if err == nil {
			numbers[n] = append(numbers[n], receipt.Handoff.Number)
		}
		return err
	}
	result := make(chan int, 1)
	interleave(t, k, one, func(ctx context.Context, n int) error {
		receipt, err := k.sendAs(ctx, k.tamsin, keys[n], k.change(k.tamsin, fmt.Sprintf("k%d.txt", n), 0, 0, "k"))
		result <- receipt.Handoff.Number
		return err
	}, func(n int, first, second error) {
		if got := <-result; first != nil || second != nil || len(numbers[n]) != 1 || numbers[n][0] != got || got != n {
			t.Fatalf("round %d: %v; %v: h%v and h%d", n, first, second, numbers[n], got)
		}
	})
}

// Whoever is told that a chunk is here gets to use it, at whatever moment of a collection that is.
func TestWhatSomebodyWasToldOfIsNotCollected(t *testing.T) {
	k := newKept(t)
	var lost testbed.Material
	interleave(t, k, func(ctx context.Context, n int) error {
		lost = k.content(k.tamsin, []byte(noise(byte(n), 5000)))
		k.age(15)
		if _, err := k.Collect(t.Context(), keeping.CollectDefaults()); err != nil { // condemned
			return err
		}
		k.age(2)
		_, err := k.Collect(ctx, keeping.CollectDefaults())
		return err
	}, func(ctx context.Context, n int) error {
		digests := []chunk.Digest{lost.Content, lost.Chunks[0].Digest}
		missing, err := k.MissingChunks(ctx, k.rurik, key, digests)
		if err != nil {
			return err
		}
		if len(missing) == 2 {
			ok(t)(k.StoreChunks(ctx, k.rurik, key, testbed.From(lost.Records)))
		} else if len(missing) == 1 {
			return fmt.Errorf("one of two is missing")
		}
		_, err = k.sendAs(ctx, k.rurik, uuid.NewString(), handoffs.Change{Path: fmt.Sprintf("c%d.bin", n), Content: lost.Content,
			Size: lost.Size})
		return err
	}, func(n int, one, two error) {
		if one != nil || two != nil {
			t.Fatalf("round %d: %v; %v", n, one, two)
		}
		k.has(fmt.Sprintf("c%d.bin", n), noise(byte(n), 5000))
	})
}

// mergeAs merges with a context of its own.
func (k *kept) mergeAs(ctx context.Context, actor ground.Actor, from, into string) error {
	_, err := k.Merge(ctx, actor, key, model.MergeRequest{Workspace: k.space[actor.Handle], From: from, Into: into}, uuid.NewString())
	return err
}

// apart makes branches, of which each has a newer version of an asset of its own.
func (k *kept) apart(rounds int) (branch, path func(n int) string) {
	k.Helper()
	branch, path = func(n int) string { return fmt.Sprintf("b%d", n) }, func(n int) string { return fmt.Sprintf("a%d.txt", n) }
	var list []handoffs.Change
	for n := 1; n <= rounds; n++ {
		list = append(list, k.change(k.tamsin, path(n), 0, 0, "one"))
	}
	first := k.on(k.tamsin, "main", list...)
	for n := 1; n <= rounds; n++ {
		k.addBranch(branch(n), fmt.Sprint("h", first))
		k.on(k.tamsin, branch(n), k.change(k.tamsin, path(n), 1, 0, "two on the branch"))
	}
	return branch, path
}

// What a merge is refused for is how things are at one moment: that somebody holds what another merge brought in just before is none of it.
func TestAMergeBesideAMergeAndALock(t *testing.T) {
	k := newKept(t)
	branch, path := k.apart(rounds)
	nothing := func(err error) bool {
		var problem *model.Problem
		return errors.As(err, &problem) && problem.Type == model.BadRequest
	}
	interleave(t, k, func(ctx context.Context, n int) error { return k.mergeAs(ctx, k.rurik, branch(n), "main") },
		func(ctx context.Context, n int) error {
			merged := k.mergeAs(ctx, k.tamsin, branch(n), "main")
			if merged == nil {
				_, merged = k.TakeLocks(ctx, k.tamsin, key, locks.Wish{Workspace: k.space["tamsin"],
					Wants: []locks.Want{{Path: path(n), Version: 2}}})
			}
			return merged
		}, func(n int, one, two error) {
			if !(one == nil && nothing(two) || nothing(one) && two == nil) {
				t.Errorf("round %d: %v; %v", n, one, two)
			}
			if two == nil {
				k.giveBack(k.tamsin, path(n))
			}
		})
}

// Of a merge and a send of the same asset to the same branch, one arrives, and the other one is told.
func TestAMergeAndASendOfOneAsset(t *testing.T) {
	k := newKept(t)
	branch, path := k.apart(rounds)
	interleave(t, k, func(ctx context.Context, n int) error { return k.mergeAs(ctx, k.tamsin, branch(n), "main") },
		func(ctx context.Context, n int) error {
			g, err := k.TakeLocks(ctx, k.rurik, key, locks.Wish{Workspace: k.space["rurik"], Diverge: true,
				Wants: []locks.Want{{Path: path(n), Version: 1}}})
			if err != nil {
				return err
			}
			_, err = k.sendAs(ctx, k.rurik, uuid.NewString(), k.change(k.rurik, path(n), 1, g.Locks[0].Fence, "three on main"))
			if err != nil {
				k.giveBack(k.rurik, path(n))
			}
			return err
		}, func(n int, one, two error) {
			switch {
			case one == nil && refusedFor(two, "behind"):
				k.has(path(n), "two on the branch")
			case two == nil && (refusedFor(one, "undecided") || refusedFor(one, "held")):
				k.has(path(n), "three on main")
			case refusedFor(one, "held") && refusedFor(two, "behind"):
				t.Fatalf("round %d: each was in the way of the other", n)
			default:
				t.Fatalf("round %d: %v; %v", n, one, two)
			}
		})
}

// A branch that is closed while something comes into it has it, or not; and takes nothing after.
func TestAMergeIntoABranchThatIsClosed(t *testing.T) {
	k := newKept(t)
	branch, path := k.apart(rounds)
	k.on(k.rurik, "main", k.change(k.rurik, "new.txt", 0, 0, "new on main"))
	interleave(t, k, func(ctx context.Context, n int) error { return k.mergeAs(ctx, k.tamsin, "main", branch(n)) },
		func(ctx context.Context, n int) error {
			_, err := k.SetBranchState(ctx, k.odile, key, branch(n), model.Closed)
			return err
		}, func(n int, one, two error) {
			var problem *model.Problem
			if two != nil || one != nil && (!errors.As(one, &problem) || problem.Type != model.Taken) {
				t.Fatalf("round %d: %v; %v", n, one, two)
			}
			want := fmt.Sprintf("%s=v2", path(n))
			page, err := k.Changes(t.Context(), k.odile, key, history.Changes{Branch: branch(n), Limit: 5000})
			if err != nil {
				t.Fatal(err)
			}
			has := map[string]bool{}
			for _, a := range page.Assets {
				has[fmt.Sprintf("%s=v%d", a.Path, a.Newest)] = true
			}
			if !has[want] || has["new.txt=v1"] != (one == nil) {
				t.Fatalf("round %d, %v: the branch has new.txt: %v", n, one, has["new.txt=v1"])
			}
		})
}

// While one merge is on its way, another one from another branch, an override and a collect change nothing about it but its order.
func TestTwoMergesBothArrive(t *testing.T) {
	k := newKept(t)
	branch, path := k.apart(2 * rounds)
	interleave(t, k, func(ctx context.Context, n int) error { return k.mergeAs(ctx, k.tamsin, branch(2*n), "main") },
		func(ctx context.Context, n int) error {
			if n%7 == 0 {
				if _, err := k.Collect(ctx, keeping.CollectOptions{}); err != nil {
					return err
				}
			}
			return k.mergeAs(ctx, k.rurik, branch(2*n-1), "main")
		}, func(n int, one, two error) {
			if one != nil || two != nil {
				t.Fatalf("round %d: %v; %v", n, one, two)
			}
			k.has(path(2*n), "two on the branch")
			k.has(path(2*n-1), "two on the branch")
		})
}

// A merge ends, however much comes in meanwhile: here something is handed off in the middle of each of its tries, until nothing can be.
func TestAMergeEndsHoweverMuchComesIn(t *testing.T) {
	k := newKept(t)
	branch, path := k.apart(1)
	sent, alone := 0, false
	err := k.mergeAs(testbed.Before(t.Context(), func(sql string) {
		if alone || !strings.Contains(sql, "for update") || !strings.Contains(sql, "from assets") {
			return
		}
		ctx, stop := context.WithTimeout(t.Context(), 3*time.Second)
		defer stop()
		_, err := k.sendAs(ctx, k.rurik, uuid.NewString(), k.change(k.rurik, fmt.Sprintf("other/%d.txt", sent), 0, 0, "meanwhile"))
		if alone = ctx.Err() != nil; err == nil {
			sent++
		}
	}), k.tamsin, branch(1), "main")
	if err != nil || sent != 3 || !alone {
		t.Errorf("%v, with %d handoffs meanwhile, and alone in the end: %v", err, sent, alone)
	}
	k.has(path(1), "two on the branch")
	k.clean()
}

// Somebody takes a lock while a merge is on its way that nobody else may hold it for, and a lead takes it away from them: the merge
// arrives, before or after that, or is refused; the former holder sends nothing after it.
func TestAMergeAndAnOverride(t *testing.T) {
	k := newKept(t)
	branch, path := k.apart(rounds)
	var fence int64
	interleave(t, k, func(ctx context.Context, n int) error { return k.mergeAs(ctx, k.tamsin, branch(n), "main") },
		func(ctx context.Context, n int) error {
			fence = 0
			g, err := k.TakeLocks(t.Context(), k.rurik, key, locks.Wish{Workspace: k.space["rurik"], Diverge: true,
				Wants: []locks.Want{{Path: path(n), Version: 1}}})
			if err != nil {
				return err
			}
			fence = g.Locks[0].Fence
			return k.GiveBackLocks(ctx, k.odile, key, k.space["odile"], []string{path(n)}, true, "the branch has to come in")
		}, func(n int, one, two error) {
			switch {
			case two != nil || one != nil && !refusedFor(one, "held"):
				t.Fatalf("round %d: %v; %v", n, one, two)
			case one == nil:
				k.has(path(n), "two on the branch")
			default:
				k.has(path(n), "one")
			}
			_, err := k.sendAs(t.Context(), k.rurik, uuid.NewString(), k.change(k.rurik, path(n), 1, fence, "three on main"))
			if !refusedFor(err, "lock-lost") && !refusedFor(err, "behind") {
				t.Fatalf("round %d: the former holder sent: %v", n, err)
			}
			if held, err := k.Locks(t.Context(), k.odile, key, path(n)); err != nil || len(held) > 0 {
				t.Fatalf("round %d: %v is held still, %v", n, held, err)
			}
		})
}
