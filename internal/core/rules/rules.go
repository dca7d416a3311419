// Package rules reads tarn.toml, the file at the root of a project that says what is tracked and what needs its lock, and decides
// about paths. It reads no file itself: texts come in, decisions with their reasons go out.
//
// A rule has patterns, as in git ignore files (gitignore(5)), and answers one or both of two questions: what a path is, and what its lock
// is needed for. For each question the last rule that matches the path and answers it decides. Rules come in layers: those that are built
// in, those of the presets in the order in which they are named, those of the file. Two things differ from gitignore(5): upper and lower
// case are the same, since they are one file on some systems; and a folder that is left out as a whole stays shut for rules that name no
// place (no slash but at the end), so that a rule for "*.png" does not open a cache.
package rules

import (
	"fmt"
	"strings"
	"time"

	"kettletarn/internal/core/assetpath"
)

// File is the name of the rules file at the root of a project.
const File = "tarn.toml"

// Pin is the name of the file in the main history that names an asset state; it is never an asset itself.
const Pin = "tarn.pin"

// MaxSize is the largest rules file that is read, in bytes; MaxPatterns the most patterns that it may have.
const (
	MaxSize     = 256 << 10
	MaxPatterns = 2000
)

// What a path may be.
const (
	Asset   = "asset"
	Code    = "code"
	Ignored = "ignored"
)

// What the lock of an asset is needed for.
const (
	Required = "required"
	OnEdit   = "on-edit"
	Free     = "free"
)

// Origin says where a decision comes from. Line is 0 for what is in no file.
type Origin struct {
	In      string `json:"in"`
	Line    int    `json:"line,omitempty"`
	Pattern string `json:"pattern,omitempty"`
}

func (o Origin) String() string {
	switch {
	case o.Pattern == "":
		return o.In
	case o.Line == 0:
		return fmt.Sprintf("%q, %s", o.Pattern, o.In)
	}
	return fmt.Sprintf("%q in line %d of %s", o.Pattern, o.Line, o.In)
}

// Decision is what the rules say of a path, and why. Covered is false where no rule says what it is, and it is what is left over.
type Decision struct {
	Kind    string `json:"kind"`
	KindBy  Origin `json:"kind_by"`
	Covered bool   `json:"covered"`
	Lock    string `json:"lock"`
	LockBy  Origin `json:"lock_by"`
	// Placed says that the rule names a place: its pattern has a slash before its end.
	Placed bool `json:"-"`
}

// Rule is one rule: Kind and Lock are "" where it does not answer that question.
type Rule struct {
	Match  []string `json:"match"`
	Kind   string   `json:"kind,omitempty"`
	Lock   string   `json:"lock,omitempty"`
	Origin Origin   `json:"origin"`

	patterns []pattern
}

// Set is a rule that ties assets together.
type Set struct {
	Match  []string `json:"match"`
	By     string   `json:"by"`
	Origin Origin   `json:"origin"`

	patterns []pattern
}

// Rules decide about paths. Safe for concurrent use.
type Rules struct {
	// Presets are the layers that the file names.
	Presets []string
	// Otherwise is what a path is that no rule covers.
	Otherwise string
	// PointOut is the size in bytes from which a binary that no rule covers is pointed out.
	PointOut int64
	// ReadOnly says that files whose lock is needed and not held are kept read-only.
	ReadOnly bool
	Locks    Locks
	// List has the rules of all layers, in order.
	List []Rule
	Sets []Set
	// Kits are what the project releases for others.
	Kits []Kit
	// Tasks say where the ids of tasks lead.
	Tasks []TaskLink
	// Branches say what may come onto branches.
	Branches []BranchRule
}

// DefaultPointOut is PointOut where the file says nothing.
const DefaultPointOut = 5 << 20

// Locks is what a project wants of its locks: how long a lock that came free stands offered to the next in line, when an ask counts as
// unanswered, and after which silence a lock looks forgotten (0 for never). BehindWarns says that locking an old version is warned about
// and not refused.
type Locks struct {
	OfferFor       time.Duration
	AnswerWithin   time.Duration
	ForgottenAfter time.Duration
	BehindWarns    bool
}

// DefaultLocks is Locks where the file says nothing.
var DefaultLocks = Locks{OfferFor: 24 * time.Hour, AnswerWithin: 4 * time.Hour, ForgottenAfter: 72 * time.Hour}

// Default is what applies without a rules file.
func Default() *Rules {
	return &Rules{Otherwise: Asset, PointOut: DefaultPointOut, Locks: DefaultLocks, List: builtIn}
}

const builtInName = "built in"

var builtIn = func() []Rule {
	list := []Rule{
		{Match: []string{".DS_Store", "Thumbs.db", "desktop.ini", "._*", "*~", ".fuse_hidden*", ".nfs*", "$RECYCLE.BIN/", ".Trash-*/"},
			Kind: Ignored},
		{Match: []string{"/" + File, KitFile}, Kind: Asset, Lock: Free},
		{Match: []string{".git*", "/" + Pin}, Kind: Code},
	}
	for i := range list {
		list[i].Origin.In = builtInName
		for _, p := range list[i].Match {
			list[i].patterns = append(list[i].patterns, mustCompile(p))
		}
	}
	return list
}()

// Decide says what a path is.
func (r *Rules) Decide(path string) Decision {
	if path == File {
		by := Origin{In: builtInName, Pattern: "/" + File}
		return Decision{Kind: Asset, KindBy: by, Covered: true, Lock: Free, LockBy: by}
	}
	t := newTarget(path, false)
	d, _, _ := r.kind(t)
	d.Lock, d.LockBy = Required, Origin{In: "what holds where no rule says otherwise"}
	for i := len(r.List) - 1; i >= 0; i-- {
		if r.List[i].Lock == "" {
			continue
		}
		if p, _, ok := t.last(r.List[i].patterns); ok {
			d.Lock, d.LockBy = r.List[i].Lock, r.List[i].origin(p)
			break
		}
	}
	return d
}

// Deciding are the indices in List of the rules that decide about a path: what it is, and what its lock is needed for.
func (r *Rules) Deciding(path string) (out []int) {
	d := r.Decide(path)
	for i := range r.List {
		rule := &r.List[i]
		if rule.decides(d.KindBy) || rule.decides(d.LockBy) {
			out = append(out, i)
		}
	}
	return out
}

func (r *Rule) decides(o Origin) bool {
	if o.Pattern == "" || o.In != r.Origin.In {
		return false
	}
	for _, p := range r.patterns {
		if p.text == o.Pattern && (p.line == o.Line || p.line == 0) {
			return true
		}
	}
	return false
}

func (r *Rule) origin(p pattern) Origin {
	o := r.Origin
	o.Pattern = p.text
	if p.line > 0 {
		o.Line = p.line
	}
	return o
}

// kind answers the first question. shut says that the path lies in, or is, a folder that is left out as a whole, by the rule with the
// index at.
func (r *Rules) kind(t target) (d Decision, shut bool, at int) {
	d = Decision{Kind: r.Otherwise, KindBy: Origin{In: "what holds where no rule covers it"}}
	for i := range r.List {
		rule := &r.List[i]
		if rule.Kind == "" {
			continue
		}
		p, whole, ok := t.last(rule.patterns)
		if !ok || shut && !p.placed && rule.Kind != Ignored {
			continue
		}
		d.Kind, d.KindBy, d.Covered, d.Placed = rule.Kind, rule.origin(p), true, p.placed
		if shut = rule.Kind == Ignored && whole; shut {
			at = i
		}
	}
	return d, shut, at
}

// Shut reports whether nothing in a folder can be anything but ignored, so that nobody need look.
func (r *Rules) Shut(folder string) (Decision, bool) {
	t := newTarget(folder, true)
	d, shut, at := r.kind(t)
	if !shut {
		return d, false
	}
	for i := at + 1; i < len(r.List); i++ {
		if r.List[i].Kind != "" && r.List[i].Kind != Ignored && r.List[i].mayLieIn(t.folded) {
			return d, false
		}
	}
	return d, true
}

// mayLieIn reports whether the rule names a place that may lie in the folder.
func (r *Rule) mayLieIn(folder string) bool {
	for _, p := range r.patterns {
		if p.placed && !p.negated && (strings.HasPrefix(p.literal, folder+"/") || strings.HasPrefix(folder+"/", p.literal)) {
			return true
		}
	}
	return false
}

// target is a path to be matched, folded, with its parts.
type target struct {
	folded string
	parts  []string
	folder bool
}

func newTarget(path string, folder bool) target {
	f := assetpath.Fold(path)
	return target{folded: f, parts: strings.Split(f, "/"), folder: folder}
}

// last finds the last of the patterns that matches; ok is false where none does or that one takes back the others. whole says that it
// matches a folder as a whole: one above the path, or the path.
func (t target) last(patterns []pattern) (p pattern, whole, ok bool) {
	for i := len(patterns) - 1; i >= 0; i-- {
		if whole, ok = t.matches(&patterns[i]); ok {
			return patterns[i], whole, !patterns[i].negated
		}
	}
	return p, false, false
}

// matches tries a pattern on the path and on every folder above it.
func (t target) matches(p *pattern) (whole, ok bool) {
	end := 0
	for i, part := range t.parts {
		end += len(part)
		leaf := i == len(t.parts)-1
		if (!leaf || t.folder || !p.folders) && p.match(t.folded[:end], part) {
			return !leaf || t.folder, true
		}
		end++
	}
	return false, false
}
