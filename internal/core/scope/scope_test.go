package scope

import (
	"reflect"
	"sort"
	"testing"
)

func TestHas(t *testing.T) {
	for _, c := range []struct {
		scope   Scope
		in, out []string
	}{
		{nil, []string{"a", "b/c"}, nil},
		{Scope{"levels"}, []string{"levels/a", "levels/b/c", "tarn.toml"}, []string{"a", "levelsx/a", "levels"}},
		{Scope{"-levels"}, []string{"a", "sounds/x"}, []string{"levels/a"}},
		{Scope{"-levels", "levels/harbour"}, []string{"sounds/x", "levels/harbour/y"}, []string{"levels/x"}},
		{Scope{"levels", "-levels/old", "levels/old/keep"}, []string{"levels/a", "levels/old/keep/x"}, []string{"levels/old/x", "a"}},
	} {
		for _, p := range c.in {
			if !c.scope.Has(p) {
				t.Errorf("%v has not %s", c.scope, p)
			}
		}
		for _, p := range c.out {
			if c.scope.Has(p) {
				t.Errorf("%v has %s", c.scope, p)
			}
		}
	}
}

func TestAddAndRemove(t *testing.T) {
	var s Scope
	for _, step := range []struct {
		add, remove string
		want        Scope
	}{
		{remove: "levels", want: Scope{"-levels"}},
		{add: "levels/harbour", want: Scope{"-levels", "levels/harbour"}},
		{add: "levels", want: Scope{}},
		{remove: "sounds/raw", want: Scope{"-sounds/raw"}},
		{remove: "sounds", want: Scope{"-sounds"}},
		{add: "sounds", want: Scope{}},
	} {
		if step.add != "" {
			s = s.Add(step.add)
		} else {
			s = s.Remove(step.remove)
		}
		if !reflect.DeepEqual(s, step.want) {
			t.Errorf("%+v gives %v", step, s)
		}
	}
	if s := (Scope{"levels"}).Add("sounds"); !reflect.DeepEqual(s, Scope{"levels", "sounds"}) {
		t.Error(s)
	}
}

// TestNextSkipsNothing walks sorted paths by jumps.
func TestNextSkipsNothing(t *testing.T) {
	all := []string{"a", "a/b", "a/b/c", "a0", "b/x", "b/y/z", "b/y/z1", "b/ya", "c", "tarn.toml", "tarn.toml2", "z/z"}
	sort.Strings(all)
	for _, s := range []Scope{nil, {"a"}, {"-a"}, {"b/y"}, {"-b/y", "-z"}, {"a", "-a/b", "z"}, {"-b", "b/y"}} {
		var want, got []string
		for _, p := range all {
			if s.Has(p) {
				want = append(want, p)
			}
		}
		after := ""
		for i := 0; i < len(all); i++ {
			p := all[i]
			if p <= after && after != "" {
				continue
			}
			if s.Has(p) {
				got = append(got, p)
				continue
			}
			next, ok := s.Next(p)
			if !ok {
				break
			}
			after = next
		}
		if !reflect.DeepEqual(got, want) {
			t.Errorf("%v: by jumps %v, want %v", s, got, want)
		}
	}
}

func TestCheck(t *testing.T) {
	if (Scope{"levels", "-a/b"}).Check() != nil {
		t.Error("a legal scope is refused")
	}
	for _, s := range []Scope{{"../x"}, {"-"}, {"/a"}, make(Scope, Max+1)} {
		if s.Check() == nil {
			t.Errorf("%.3q is taken", s)
		}
	}
}
