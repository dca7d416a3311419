package service_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
	"kettletarn/internal/store"
	"kettletarn/internal/testbed"
)

// third makes of a pack one of version 3, as the last release wrote them: the same index but for the places, other heads.
func third(t *testing.T, data []byte) []byte {
	t.Helper()
	entries, err := pack.ReadIndex(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		t.Fatal(err)
	}
	out := []byte("KTPACK03")
	head := func(e pack.Entry) []byte {
		b := binary.LittleEndian.AppendUint32([]byte{e.Kind, e.Codec}, uint32(e.Size))
		return append(binary.LittleEndian.AppendUint32(b, uint32(e.Stored)), e.Digest[:]...)
	}
	var index []byte
	for _, e := range entries {
		// The gap that the longer heads leave is one between records: what lies there is nobody's.
		out = append(out, bytes.Repeat([]byte{0xee}, pack.HeadSize-len(head(e)))...)
		out = append(out, head(e)...)
		if int64(len(out)) != e.Offset {
			t.Fatalf("a record would lie at %d, and not at %d", len(out), e.Offset)
		}
		index = append(binary.LittleEndian.AppendUint64(index, uint64(len(out))), head(e)...)
		out = append(out, data[e.Offset:e.Offset+int64(e.Stored)]...)
	}
	sum := chunk.Sum(index)
	out = binary.LittleEndian.AppendUint32(append(out, index...), uint32(len(entries)))
	return append(append(out, sum[:]...), "KTPACK03"...)
}

// eachPack lets change do something to every pack below a folder.
func eachPack(t *testing.T, dir string, change func([]byte) []byte) {
	t.Helper()
	if err := filepath.WalkDir(dir, func(name string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(name, ".pack") {
			return err
		}
		data, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		return os.WriteFile(name, change(data), 0o600)
	}); err != nil {
		t.Fatal(err)
	}
}

// TestContentIsHandedOutAsItLies: whichever way a store lets it be read, and whenever it was stored, the same bytes go out.
func TestContentIsHandedOutAsItLies(t *testing.T) {
	dir := t.TempDir()
	directory, err := store.OpenDirectory(dir)
	if err != nil {
		t.Fatal(err)
	}
	for name, packs := range map[string]store.Store{"files": directory, "no files": &counted{Store: directory}} {
		m := newTeam(t, packs)
		var all []pack.Record
		for i := range 9 {
			all = append(all, testbed.Cut(t, []byte(noise(byte(i), 400_000>>i))).Records...)
		}
		ok(t)(m.StoreChunks(t.Context(), m.tamsin, key, testbed.From(all)))
		var digests []chunk.Digest
		var want []byte
		for _, r := range append(all[3:], all[0], all[2], all[0]) {
			digests, want = append(digests, r.Digest), pack.AppendRecord(want, r)
		}
		fetch := func() (got bytes.Buffer, size int64, err error) {
			f, err := m.Fetch(t.Context(), m.viewer, key, digests)
			if err != nil {
				return got, 0, err
			}
			defer f.Close()
			return got, f.Size(), f.WriteTo(t.Context(), &got)
		}
		if got, size, err := fetch(); err != nil || !bytes.Equal(got.Bytes(), want) || size != int64(len(want)) {
			t.Errorf("%s: %d bytes of %d, %d were told, %v", name, got.Len(), len(want), size, err)
		}
		eachPack(t, dir, func(data []byte) []byte { return third(t, data) })
		if got, size, err := fetch(); err != nil || !bytes.Equal(got.Bytes(), want) || size != -1 {
			t.Errorf("%s, version 3: %d bytes of %d, %d were told, %v", name, got.Len(), len(want), size, err)
		}
		if err := os.RemoveAll(filepath.Join(dir, "packs")); err != nil {
			t.Fatal(err)
		}
	}
}

// TestAPackThatIsCutOff: the answer breaks off, what is lost is set aside, and who asks again is told.
func TestAPackThatIsCutOff(t *testing.T) {
	dir := t.TempDir()
	directory, err := store.OpenDirectory(dir)
	if err != nil {
		t.Fatal(err)
	}
	m := newTeam(t, directory)
	c := testbed.Cut(t, []byte(noise(7, 3<<20)))
	ok(t)(m.StoreChunks(t.Context(), m.tamsin, key, testbed.From(c.Records)))
	var digests []chunk.Digest
	for _, r := range c.Records {
		digests = append(digests, r.Digest)
	}
	eachPack(t, dir, func(data []byte) []byte { return data[:len(data)/2] })
	write := func(ctx context.Context, w io.Writer) error {
		f, err := m.Fetch(ctx, m.viewer, key, digests)
		if err != nil {
			return err
		}
		defer f.Close()
		return f.WriteTo(ctx, w)
	}
	if err := write(t.Context(), io.Discard); err == nil {
		t.Fatal("half a pack is a whole answer")
	}
	testbed.Problem(t, write(t.Context(), io.Discard), model.ChunksMissing)
	if wanted, err := m.Wanted(t.Context(), m.tamsin, key); err != nil || len(wanted) == 0 {
		t.Error("nobody is asked for what is lost:", err)
	}
}
