package canonical

import (
	"bytes"
	"reflect"
	"testing"
)

type sample struct {
	_     struct{} `cbor:",toarray"`
	Name  string
	Sizes []int
}

func TestOneFormInAndOut(t *testing.T) {
	in := sample{Name: "brine", Sizes: []int{1, 300, 70_000}}
	data := Encode(in)
	if !bytes.Equal(data, Encode(in)) {
		t.Error("the same is encoded in two ways")
	}
	var out sample
	if err := Decoder(16)(data, &out); err != nil || !reflect.DeepEqual(in, out) {
		t.Errorf("%+v comes back, %v", out, err)
	}
}

func TestWhatIsOutOfBoundsIsRefused(t *testing.T) {
	for name, data := range map[string][]byte{
		"many items":          Encode(make([]int, 17)),
		"indefinite length":   {0x9f, 0x01, 0xff},
		"a tag":               {0xc1, 0x01},
		"nested deeply":       bytes.Repeat([]byte{0x81}, 20),
		"something left over": append(Encode([]int{1}), 0x01),
		"cut off":             Encode([]int{1, 2, 3})[:2],
	} {
		var into any
		if err := Decoder(16)(data, &into); err == nil {
			t.Errorf("%s: taken", name)
		}
	}
}
