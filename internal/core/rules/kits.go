package rules

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
)

// Kit is a set of assets that the project releases for others: those that match. Its name stays, whatever becomes of its patterns.
type Kit struct {
	Name   string   `json:"name"`
	Match  []string `json:"match"`
	Origin Origin   `json:"origin"`

	patterns []pattern
}

type kitText struct {
	Name  string `toml:"name"`
	Match any    `toml:"match"`
}

// KitFile is the file that says of a folder that it came from a kit: see package kit.
const KitFile = "tarn.kit"

// KitNames are what kits may be called.
var KitNames = regexp.MustCompile(`^[a-z][a-z0-9-]{1,39}$`)

func (t kitText) read(name string, where places, i int, before []Kit) (k Kit, err error) {
	k = Kit{Name: t.Name, Origin: Origin{In: name, Line: where.table("kit", i).line}}
	if !KitNames.MatchString(t.Name) {
		return k, where.at(fmt.Errorf("a kit's name has 2 to 40 small letters, digits and hyphens, and starts with a letter, like lamp-parts; "+
			"this is %q", t.Name), "kit", i, "name")
	}
	if slices.ContainsFunc(before, func(b Kit) bool { return b.Name == t.Name }) {
		return k, where.at(fmt.Errorf("there is a kit %s above already", t.Name), "kit", i, "name")
	}
	if t.Match == nil {
		return k, where.at(errors.New(`a kit says what is in it: match = ["parts/"]`), "kit", i, "")
	}
	k.Match, k.patterns, err = where.patterns(t.Match, "kit", i, "match")
	return k, err
}

// Has says whether a path is one of the kit's.
func (k *Kit) Has(path string) bool {
	_, _, ok := newTarget(path, false).last(k.patterns)
	return ok
}

// Kit is the kit of a name, nil where the rules have none.
func (r *Rules) Kit(name string) *Kit {
	for i := range r.Kits {
		if r.Kits[i].Name == name {
			return &r.Kits[i]
		}
	}
	return nil
}

// KitOf is a kit as it was released, by its patterns then.
func KitOf(name string, match []string) (*Kit, error) {
	k := &Kit{Name: name, Match: match}
	for _, m := range match {
		p, err := compile(m)
		if err != nil {
			return nil, err
		}
		k.patterns = append(k.patterns, p)
	}
	return k, nil
}
