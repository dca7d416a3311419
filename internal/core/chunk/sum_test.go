package chunk

import (
	"bytes"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/zeebo/blake3"
)

func TestASumIsBLAKE3(t *testing.T) {
	// Of the test vectors that are published with the specification: the byte at i is i modulo 251.
	input := make([]byte, 102_400)
	for i := range input {
		input[i] = byte(i % 251)
	}
	for n, want := range map[int]string{
		0:       "af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262",
		1:       "2d3adedff11b61f14c886e35afa036736dcd87a74d27b5c1510225d0f592e213",
		1024:    "42214739f095a406f3fc83deb889744ac00df831c10daa55189b5d121c855af7",
		102_400: "bc3e3d41a1146b069abffad3c0d44860cf664390afce4d9661f7902e7943e085",
	} {
		if got := Sum(input[:n]).String(); got != want {
			t.Errorf("%d bytes: %s", n, got)
		}
	}
	data := make([]byte, Max+2*leastSum)
	_, _ = rand.NewChaCha8([32]byte{3}).Read(data)
	check := func(from, n int) {
		if Sum(data[from:from+n]) != blake3.Sum256(data[from:from+n]) {
			t.Fatalf("%d bytes from %d: it is another one", n, from)
		}
	}
	for n := range 70 {
		for _, around := range []int{leastSum, 16 << 10, 32 << 10, 48 << 10, Min, Average, Max} {
			check(n, around-35+n)
		}
	}
	for leaves := 1; leaves <= Max>>10; leaves += 1 + leaves/40 {
		check(leaves%13, leaves<<10)
		check(leaves%13, leaves<<10+leaves%1024)
	}
}

// leastSum is where another way of summing up begins on some machines.
const leastSum = 4 << 10

func FuzzSum(f *testing.F) {
	f.Add([]byte("salt"), uint16(3000))
	f.Fuzz(func(t *testing.T, some []byte, times uint16) {
		if len(some) > 1<<12 {
			return
		}
		data := bytes.Repeat(some, int(times))
		if len(data) <= Max && Sum(data) != blake3.Sum256(data) {
			t.Errorf("%d times %x", times, some)
		}
	})
}

func TestTheAssemblyIsWhatItsGeneratorWrites(t *testing.T) {
	want, err := exec.Command("go", "run", "avx512_gen.go").Output()
	if err != nil {
		t.Fatal(err)
	}
	got, err := os.ReadFile("avx512_amd64.s")
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(got, want) || !strings.HasPrefix(string(got), "// Written by avx512_gen.go") {
		t.Error("go run avx512_gen.go > avx512_amd64.s makes another file")
	}
}

func BenchmarkSum(b *testing.B) {
	data := make([]byte, Average)
	b.SetBytes(int64(len(data)))
	for b.Loop() {
		Sum(data)
	}
}
