package past

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"kettletarn/internal/core/assetpath"
)

func assets(path string) bool { return !strings.HasSuffix(path, ".go") }

func TestWhatCommitsDid(t *testing.T) {
	n := New(assets)
	for _, c := range []struct {
		about   string
		changes []Change
		keep    bool
		want    []Step
	}{
		{"added, code left alone", []Change{{'A', "a.png", "", true}, {'A', "main.go", "", true}, {'A', "link.png", "", false}}, false,
			[]Step{{Path: "a.png", Of: 0}}},
		{"changed", []Change{{'M', "a.png", "", true}}, false, []Step{{Path: "a.png"}}},
		{"renamed", []Change{{'M', "main.go", "", true}, {'R', "art/a.png", "a.png", true}}, false,
			[]Step{{Path: "art/a.png", MovedFrom: "a.png", Of: 1}}},
		{"a name that can't be", []Change{{'A', "b:c.png", "", true}}, false, []Step{{Path: assetpath.Fit("b:c.png")}}},
		{"the same again", []Change{{'M', "b:c.png", "", true}}, false, []Step{{Path: assetpath.Fit("b:c.png")}}},
		{"one that differs in case only", []Change{{'A', "art/A.png", "", true}}, false, []Step{{Path: assetpath.Mark("art/A.png")}}},
		{"a folder spelled in a second way", []Change{{'A', "Art/x.png", "", true}}, false, []Step{{Path: "art/x.png"}}},
		{"gone from git and kept", []Change{{'D', "art/x.png", "", false}, {'D', "Art/x.png", "", false}}, true, []Step{}},
		{"gone", []Change{{'D', "art/a.png", "", false}, {'D', "nothing.png", "", false}}, false, []Step{{Path: "art/a.png", Gone: true}}},
		{"to code", []Change{{'R', "b.go", "b:c.png", true}}, false, []Step{{Path: assetpath.Fit("b:c.png"), Gone: true}}},
		{"a file where a folder is", []Change{{'A', "ART", "", true}}, false, []Step{{Path: assetpath.Mark("ART")}}},
		{"another case, edited", []Change{{'D', "Art/x.png", "", false}, {'A', "Art/X.png", "", true}}, false,
			[]Step{{Path: "art/X.png", MovedFrom: "art/x.png", Of: 1}}},
		{"a file becomes a link", []Change{{'T', "Art/X.png", "", false}}, false, []Step{{Path: "art/X.png", Gone: true}}},
		{"a link becomes a file", []Change{{'T', "Art/X.png", "", true}}, false, []Step{{Path: "art/X.png"}}},
	} {
		if got := n.Apply(c.changes, c.keep); !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s: %+v, want %+v", c.about, got, c.want)
		}
	}
}

// Whatever the history: the assets are those files that are there, each at a legal path of its own, and the steps alone lead there.
func TestAnyHistoryGivesEachAssetAPathOfItsOwn(t *testing.T) {
	for seed := range uint64(60) {
		random := rand.New(rand.NewPCG(seed, 7))
		name := func() string {
			list := []string{"a.png", "A.png", "b.png", "a", "A", "con.png", "x:y.png", "x_y.png", "é.png", "É.png", "x.go"}
			p := list[random.IntN(len(list))]
			for range random.IntN(3) {
				p = []string{"a", "A", "tex", "Tex", "b.png", "aux"}[random.IntN(6)] + "/" + p
			}
			return p
		}
		git := map[string]bool{}
		fits := func(p string) bool { // no file of git's in the way of a folder of git's
			for other := range git {
				if strings.HasPrefix(other, p+"/") || strings.HasPrefix(p, other+"/") {
					return false
				}
			}
			return true
		}
		n, again := New(assets), New(assets)
		here := map[string]string{} // what steps alone give: folded path, by spelling
		for step := range 80 {
			var changes []Change
			named := map[string]bool{}
			for range 1 + random.IntN(4) {
				p, from := name(), name()
				switch {
				case named[p] || named[from]:
				case git[p] && random.IntN(2) == 0:
					changes, named[p] = append(changes, Change{'D', p, "", false}), true
					delete(git, p)
				case git[p]:
					changes, named[p] = append(changes, Change{'M', p, "", true}), true
				case git[from] && random.IntN(2) == 0:
					delete(git, from)
					if !fits(p) {
						git[from] = true
						continue
					}
					changes, named[p], named[from] = append(changes, Change{'R', p, from, true}), true, true
					git[p] = true
				case fits(p):
					changes, named[p] = append(changes, Change{'A', p, "", true}), true
					git[p] = true
				}
			}
			steps := n.Apply(changes, false)
			if other := again.Apply(changes, false); !reflect.DeepEqual(steps, other) {
				t.Fatalf("walked again it comes to %+v and %+v", steps, other)
			}
			about := fmt.Sprintf("seed %d, step %d: %+v gives %+v", seed, step, changes, steps)
			seen := map[string]bool{}
			for _, s := range steps {
				f := assetpath.Fold(s.Path)
				if seen[f] || assetpath.Check(s.Path) != nil {
					t.Fatalf("%s: %q twice, or %v", about, s.Path, assetpath.Check(s.Path))
				}
				seen[f] = true
				if s.MovedFrom != "" {
					if here[assetpath.Fold(s.MovedFrom)] != s.MovedFrom {
						t.Fatalf("%s: nothing was at %q", about, s.MovedFrom)
					}
				}
			}
			for _, s := range steps {
				if s.MovedFrom != "" {
					delete(here, assetpath.Fold(s.MovedFrom))
				}
				if s.Gone {
					delete(here, assetpath.Fold(s.Path))
				}
			}
			for _, s := range steps {
				if !s.Gone {
					here[assetpath.Fold(s.Path)] = s.Path
				}
			}
			wanted := 0
			for p := range git {
				if assets(assetpath.Fit(p)) {
					wanted++
					if a, ok := n.Asset(p); !ok || here[assetpath.Fold(a)] != a {
						t.Fatalf("%s: %q is %q, %v", about, p, a, ok)
					}
				}
			}
			if wanted != n.Len() || wanted != len(here) {
				t.Fatalf("%s: %d files, %d assets, %d by the steps", about, wanted, n.Len(), len(here))
			}
			for f, p := range here {
				for _, folder := range assetpath.Folders(f) {
					if other, file := here[folder]; file {
						t.Fatalf("%s: %q is a file, and a folder for %q", about, other, p)
					}
				}
			}
		}
	}
}
