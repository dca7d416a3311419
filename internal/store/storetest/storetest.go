// Package storetest holds what every store.Store has to pass.
package storetest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"kettletarn/internal/store"
)

// Run checks an empty store against the contract of store.Store, and returns everything that it finds wrong.
func Run(ctx context.Context, s store.Store) error {
	var found []error
	wrong := func(format string, args ...any) { found = append(found, fmt.Errorf(format, args...)) }
	read := func(name string) ([]byte, error) {
		o, err := s.Open(ctx, name)
		if err != nil {
			return nil, err
		}
		defer o.Close()
		data := make([]byte, o.Size())
		if _, err := o.ReadAt(data, 0); err != nil && err != io.EOF {
			return nil, err
		}
		return data, nil
	}
	put := func(name string, data []byte) error {
		return s.Put(ctx, name, func(w io.Writer) error {
			_, err := w.Write(data)
			return err
		})
	}

	if err := put("p1/a.pack", []byte("salt and brine")); err != nil {
		wrong("put: %w", err)
	}
	if data, err := read("p1/a.pack"); err != nil || string(data) != "salt and brine" {
		wrong("what was put reads %q, %v", data, err)
	}
	if o, err := s.Open(ctx, "p1/a.pack"); err != nil {
		wrong("open: %w", err)
	} else {
		part := make([]byte, 3)
		if _, err := o.ReadAt(part, 5); err != nil || string(part) != "and" {
			wrong("a part reads %q, %v", part, err)
		}
		if n, err := o.ReadAt(part, 12); n != 2 || err != io.EOF {
			wrong("reading over the end gives %d, %v", n, err)
		}
		_ = o.Close()
	}
	if _, err := read("p1/none.pack"); !errors.Is(err, store.ErrNotFound) {
		wrong("a name that is not there opens with %v", err)
	}
	if err := put("p1/a.pack", []byte("other")); err == nil {
		wrong("a name can be used twice")
	}
	if data, _ := read("p1/a.pack"); string(data) != "salt and brine" {
		wrong("a second put changed an object to %q", data)
	}

	broken := errors.New("broken")
	if err := s.Put(ctx, "p1/half.pack", func(w io.Writer) error {
		_, _ = w.Write(make([]byte, 100_000))
		return broken
	}); !errors.Is(err, broken) {
		wrong("a put that breaks off returns %v", err)
	}
	if _, err := read("p1/half.pack"); !errors.Is(err, store.ErrNotFound) {
		wrong("a put that broke off left something: %v", err)
	}

	for _, name := range []string{"", "../x", "p1/../../x", "/x", "p1//x", "p1/", `p1\x`, ".hidden", "p1/a b"} {
		if put(name, []byte("x")) == nil {
			wrong("the name %q is taken", name)
		}
		if _, err := s.Open(ctx, name); err == nil {
			wrong("the name %q opens", name)
		}
	}

	var wait sync.WaitGroup
	errs := make([]error, 16)
	for i := range errs {
		wait.Go(func() {
			name, data := fmt.Sprintf("p2/%d.pack", i), bytes.Repeat([]byte{byte(i)}, 50_000)
			if errs[i] = put(name, data); errs[i] == nil {
				got, err := read(name)
				if err != nil || !bytes.Equal(got, data) {
					errs[i] = fmt.Errorf("%s comes back changed: %w", name, err)
				}
			}
		})
	}
	wait.Wait()
	found = append(found, errs...)

	for prefix, want := range map[string]int{"": 17, "p2/": 16, "p1/": 1, "p1/a": 1, "none/": 0} {
		n := 0
		if err := s.List(ctx, prefix, func(i store.Info) error {
			if n++; !strings.HasPrefix(i.Name, prefix) || i.Name == "p1/a.pack" && i.Size != 14 || time.Since(i.Modified).Abs() > time.Hour {
				return fmt.Errorf("lists %+v", i)
			}
			return nil
		}); err != nil || n != want {
			wrong("below %q, %d objects are listed, want %d, %v", prefix, n, want, err)
		}
	}

	if err := s.Remove(ctx, "p1/a.pack"); err != nil {
		wrong("remove: %w", err)
	}
	if _, err := read("p1/a.pack"); !errors.Is(err, store.ErrNotFound) {
		wrong("what was removed opens with %v", err)
	}
	if err := s.Remove(ctx, "p1/a.pack"); err != nil {
		wrong("removing again: %w", err)
	}
	if _, err := s.Free(ctx); err != nil {
		wrong("free: %w", err)
	}
	return errors.Join(found...)
}
