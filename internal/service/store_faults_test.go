package service_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"kettletarn/internal/core/model"
	"kettletarn/internal/service/history"
	"kettletarn/internal/store"
)

// wayward is a store that fails, stalls, or lies, now and then.
type wayward struct {
	store.Store
	mu    sync.Mutex
	r     *rand.Rand
	fails float64       // how often a Put or a read fails
	lies  float64       // how often a Put keeps something else and says that it went well
	stall time.Duration // how long a Put or a read may take more
	hit   atomic.Int64
}

var errWayward = errors.New("the store is not itself today")

// mood says what happens to the next call.
func (w *wayward) mood(ctx context.Context) (fail, lie bool) {
	w.mu.Lock()
	fail, lie = w.r.Float64() < w.fails, w.r.Float64() < w.lies
	pause := time.Duration(0)
	if w.stall > 0 {
		pause = time.Duration(w.r.Int64N(int64(w.stall)))
	}
	w.mu.Unlock()
	if fail || lie || pause > 0 {
		w.hit.Add(1)
	}
	select {
	case <-time.After(pause):
	case <-ctx.Done():
	}
	return fail, lie
}

func (w *wayward) Put(ctx context.Context, name string, write func(io.Writer) error) error {
	fail, lie := w.mood(ctx)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return w.Store.Put(ctx, name, func(out io.Writer) error {
		if fail {
			_ = write(io.Discard)
			return errWayward
		}
		if !lie {
			return write(out)
		}
		var all bytes.Buffer
		if err := write(&all); err != nil {
			return err
		}
		data := all.Bytes()
		for at := len(data) / 4; at < len(data)/2; at += 50 {
			data[at] ^= 1
		}
		_, err := out.Write(data)
		return err
	})
}

func (w *wayward) Open(ctx context.Context, name string) (store.Object, error) {
	if fail, _ := w.mood(ctx); fail {
		return nil, errWayward
	}
	o, err := w.Store.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	return &waywardObject{o, w, ctx}, nil
}

type waywardObject struct {
	store.Object
	w   *wayward
	ctx context.Context
}

func (o *waywardObject) ReadAt(p []byte, at int64) (int, error) {
	if fail, _ := o.w.mood(o.ctx); fail {
		return 0, errWayward
	}
	return o.Object.ReadAt(p, at)
}

func TestAStoreThatFailsStallsOrLies(t *testing.T) {
	for name, moods := range map[string]*wayward{
		"fails":  {fails: 0.15},
		"stalls": {stall: 30 * time.Millisecond},
		"lies":   {lies: 0.3},
	} {
		folder := t.TempDir()
		directory, err := store.OpenDirectory(folder)
		if err != nil {
			t.Fatal(err)
		}
		moods.Store, moods.r = directory, rand.New(rand.NewPCG(4, 2))
		k := &kept{team: newTeam(t, moods), folder: folder}
		ctx := t.Context()
		want := map[string]string{}
		refused := 0
		for i := range 60 {
			path, body := fmt.Sprintf("f%02d.bin", i), noise(byte(i), 40_000+i*9_000)
			change, err := k.tryChange(path, body)
			if err == nil {
				_, err = k.send(k.tamsin, change)
			}
			var problem *model.Problem
			switch {
			case err == nil:
				want[path] = body
			case errors.Is(err, errWayward) || errors.As(err, &problem):
				refused++ // said, and nothing of it is visible
			default:
				t.Fatalf("%s: %v", name, err)
			}
		}
		if moods.hit.Load() < 10 || len(want) < 10 || name == "fails" && refused == 0 {
			t.Errorf("%s: %d calls were hit, %d sends arrived, %d were refused", name, moods.hit.Load(), len(want), refused)
		}
		// The store is itself again. What it lied about is found, and healed by whoever has it; nothing else is touched.
		moods.mu.Lock()
		moods.fails, moods.lies, moods.stall = 0, 0, 0
		moods.mu.Unlock()
		if err := k.KeepHistory(ctx); err != nil {
			t.Fatal(err)
		}
		v := k.verify(true)
		if name != "lies" && len(v.Findings) > 0 || name == "lies" && len(v.Findings) == 0 {
			t.Errorf("%s: verify finds %+v", name, v.Findings)
		}
		for _, body := range want {
			k.content(k.rurik, []byte(body))
		}
		k.clean()
		page, err := k.Changes(ctx, k.odile, key, history.Changes{})
		if err != nil || len(page.Assets) != len(want) {
			t.Errorf("%s: %d assets are visible and %d were answered for, %v", name, len(page.Assets), len(want), err)
		}
		for path, body := range want {
			k.has(path, body)
		}
	}
}
