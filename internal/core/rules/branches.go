package rules

import (
	"errors"
	"fmt"
	"strings"

	"kettletarn/internal/core/assetpath"
)

// MaxYes is how many people a rule may ask for.
const MaxYes = 20

// AnyRole is the least role in a project: whoever may look.
const AnyRole = "viewer"

// Who hands off on a branch directly.
const (
	DirectArtist = "artist"
	DirectLead   = "lead"
	DirectNobody = "nobody" // it only gets what is merged
)

// BranchRule says what may come onto the branches that Match fits: by whom directly, and from which branches by a merge ("" and none for no
// answer).
type BranchRule struct {
	Match  []string `json:"match"`
	Direct string   `json:"direct,omitempty"`
	From   []string `json:"from,omitempty"`
	// Yes is how many have to have looked at a branch and said yes before it comes in, and YesBy the least role that they have.
	Yes    int    `json:"yes,omitempty"`
	YesBy  string `json:"yes_by,omitempty"`
	Origin Origin `json:"origin"`

	patterns, from []pattern
}

// Says is the rule in words: "only leads hand off directly; 2 people have to have said yes".
func (b BranchRule) Says() string {
	var parts []string
	switch b.Direct {
	case DirectNobody:
		parts = append(parts, "nobody hands off directly")
	case DirectLead:
		parts = append(parts, "only leads hand off directly")
	case DirectArtist:
		parts = append(parts, "whoever may send hands off directly")
	}
	switch len(b.From) {
	case 0:
	case 1:
		parts = append(parts, fmt.Sprintf("only %s comes in", b.From[0]))
	default:
		last := len(b.From) - 1
		parts = append(parts, fmt.Sprintf("only %s and %s come in", strings.Join(b.From[:last], ", "), b.From[last]))
	}
	if b.Yes > 0 {
		who := [2]string{b.YesBy, b.YesBy + "s"}
		if b.YesBy == AnyRole {
			who = [2]string{"person", "people"}
		}
		if b.Yes == 1 {
			parts = append(parts, fmt.Sprintf("1 %s has to have said yes", who[0]))
		} else {
			parts = append(parts, fmt.Sprintf("%d %s have to have said yes", b.Yes, who[1]))
		}
	}
	return strings.Join(parts, "; ")
}

// OnBranch is what the rules say of one branch, and which rule says it.
type OnBranch struct {
	Direct   string
	DirectBy Origin
	From     []string
	FromBy   Origin
	from     []pattern
	// Yes and YesRole are how many have to have said yes, and in which role at least.
	Yes     int
	YesRole string
	YesFrom Origin
}

// ForBranch finds what the rules say of a branch: for each question the last rule that fits it and answers it decides, as for paths.
func (r *Rules) ForBranch(name string) OnBranch {
	out := OnBranch{Direct: DirectArtist}
	t := newTarget(name, false)
	for _, b := range r.Branches {
		p, _, ok := t.last(b.patterns)
		if !ok {
			continue
		}
		by := b.Origin
		by.Pattern, by.Line = p.text, p.line
		if b.Direct != "" {
			out.Direct, out.DirectBy = b.Direct, by
		}
		if len(b.from) > 0 {
			out.From, out.from, out.FromBy = b.From, b.from, by
		}
		if b.Yes > 0 {
			out.Yes, out.YesRole, out.YesFrom = b.Yes, b.YesBy, by
		}
	}
	return out
}

// MayHandOff refuses who may not hand off on the branch directly: "" where they may.
func (b OnBranch) MayHandOff(branch string, lead bool) (why string) {
	switch {
	case b.Direct == DirectNobody:
		return fmt.Sprintf("%s only gets what is merged into it, by %s", branch, b.DirectBy)
	case b.Direct == DirectLead && !lead:
		return fmt.Sprintf("on %s only leads hand off directly, by %s", branch, b.DirectBy)
	}
	return ""
}

// MayCome refuses a branch that may not come in: "" where it may.
func (b OnBranch) MayCome(from, into string) (why string) {
	if len(b.from) == 0 {
		return ""
	}
	if _, _, ok := newTarget(assetpath.Fold(from), false).last(b.from); ok {
		return ""
	}
	return fmt.Sprintf("into %s come only %s, by %s", into, strings.Join(b.From, ", "), b.FromBy)
}

type branchText struct {
	Match  any    `toml:"match"`
	Direct string `toml:"direct"`
	From   any    `toml:"from"`
	Yes    int    `toml:"yes"`
	YesBy  string `toml:"yes-by"`
}

// read reads one rule for branches.
func (t branchText) read(name string, where places, i int) (b BranchRule, err error) {
	b = BranchRule{Direct: t.Direct, Yes: t.Yes, YesBy: t.YesBy, Origin: Origin{In: name, Line: where.table("branch", i).line}}
	if t.Direct == "" && t.From == nil && t.Yes == 0 {
		return b,
			where.at(errors.New("this rule says neither who hands off on its branches directly (direct = \"artist\", \"lead\" or \"nobody\") "+
				"nor from which branches merges come (from = [\"…\"]) nor how many have to say yes before (yes = 1)"), "branch", i, "")
	}
	if t.Yes < 0 || t.Yes > MaxYes {
		return b, where.at(fmt.Errorf("yes is how many have to say so, 1 to %d; this is %d", MaxYes, t.Yes), "branch", i, "yes")
	}
	if b.YesBy == "" {
		b.YesBy = AnyRole
	} else if err := oneOf(t.YesBy, "yes-by", AnyRole, "artist", "lead", "owner"); err != nil {
		return b, where.at(err, "branch", i, "yes-by")
	}
	if t.Direct != "" {
		if err := oneOf(t.Direct, "direct", DirectArtist, DirectLead, DirectNobody); err != nil {
			return b, where.at(err, "branch", i, "direct")
		}
	}
	if b.Match, b.patterns, err = where.patterns(t.Match, "branch", i, "match"); err != nil || t.From == nil {
		return b, err
	}
	b.From, b.from, err = where.patterns(t.From, "branch", i, "from")
	return b, err
}
