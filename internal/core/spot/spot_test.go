package spot

import (
	"errors"
	"testing"
)

func TestSpots(t *testing.T) {
	for text, want := range map[string]string{"30%,45%": "30%,45%", " 30.50 % , 45 %": "30.5%,45%", "0%,100%": "0%,100%",
		"1.2,0,-3": "1.2,0,-3", "page 3 30%,45.0%": "page 3 30%,45%", "page 1 30%,45%": "30%,45%", "page 2  1%, 2%": "page 2 1%,2%",
		"-0,0,0": "0,0,0", "0:12.5": "0:12.5", "0:5": "0:05", "62:03": "1:02:03", "1:02:03.250": "1:02:03.25", "line 12": "line 12",
		"part R4": "part R4",
		"net GND": "net GND", "net /power/3V3 switched": "net /power/3V3 switched"} {
		s, err := Parse(text)
		if err != nil || s.String() != want {
			t.Errorf("%q is %q, %v; want %q", text, s, err, want)
			continue
		}
		if again, err := Parse(want); err != nil || again != s {
			t.Errorf("%q comes back as %+v, %v; was %+v", want, again, err, s)
		}
	}
	for _, text := range []string{"", "here", "101%,0%", "1,2", "0:61", "1:60:00", "line 0", "line -1", "line 99999999", "part ", "part",
		"net \x00",
		"part \u009fx"[:6], "page 0 1%,1%", "page 2", "page 100000 1%,1%", "1e5,0,0", "30%"} {
		if s, err := Parse(text); !errors.Is(err, ErrForm) {
			t.Errorf("%q is taken as %+v", text, s)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, text := range []string{"30%,45%", "1.2,0,-3", "1:02:03.25", "line 12", "part R4", "page 2 1%,2%"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		s, err := Parse(text)
		if err != nil {
			return
		}
		again, err := Parse(s.String())
		if err != nil || again.String() != s.String() {
			t.Errorf("%q is %q, which comes back as %q, %v", text, s, again, err)
		}
	})
}
