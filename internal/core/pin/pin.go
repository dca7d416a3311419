// Package pin is the file tarn.pin in the main history: which state of the assets the code goes with. It is a few lines of TOML, always in
// the same order, so that two of them differ in what they say and in nothing else. The format is in docs/formats.md.
//
// A pin names a handoff by number and by digest. The digest covers everything that the handoff and those before it say (package chain), so
// that a pin that was mixed up by a merge, or a service that tells another history, is noticed.
package pin

import (
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"kettletarn/internal/core/chunk"
)

// MaxSize is the largest pin that is read, in bytes.
const MaxSize = 64 << 10

// Pin is what the file says. Service is an address without any credential.
type Pin struct {
	Service string `toml:"service" json:"service"`
	Project string `toml:"project" json:"project"`
	Branch  string `toml:"branch" json:"branch"`
	Handoff int    `toml:"handoff" json:"handoff"`
	Digest  string `toml:"digest" json:"digest"`
}

// ErrConflict is wrapped by the error of Parse where a merge left both sides in the file.
var ErrConflict = errors.New("a merge left two pins in it")

var (
	key    = regexp.MustCompile(`^[a-z][a-z0-9-]{1,39}$`)
	branch = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._/-]{0,99}$`)
)

const heading = "# The assets that go with this code, written by \"tarn pin\". \"tarn join --pinned\" brings them.\n"

// Encode gives the text of the file.
func (p Pin) Encode() []byte {
	return fmt.Appendf([]byte(heading), "service = %q\nproject = %q\nbranch = %q\nhandoff = %d\ndigest = %q\n", p.Service, p.Project, p.Branch,
		p.Handoff, p.Digest)
}

// Parse reads a pin. Its errors fit after "tarn.pin: ".
func Parse(text []byte) (p Pin, err error) {
	if len(text) > MaxSize {
		return p, fmt.Errorf("it has %d bytes, and the limit is %d", len(text), MaxSize)
	}
	if conflicted(text) {
		return p, ErrConflict
	}
	if err := toml.Unmarshal(text, &p); err != nil {
		return p, errors.New(strings.TrimPrefix(err.Error(), "toml: "))
	}
	return p, p.check()
}

func (p Pin) check() error {
	u, err := url.Parse(p.Service)
	switch {
	case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.RawQuery != "" || u.Fragment != "":
		return errors.New("service is not the address of a service")
	case u.User != nil:
		return errors.New("service has a credential in it, and a pin never has one")
	case !key.MatchString(p.Project):
		return errors.New("project is not the key of a project")
	case !branch.MatchString(p.Branch):
		return errors.New("branch is not the name of a branch")
	case p.Handoff < 1 || p.Handoff > 1<<31-1:
		return errors.New("handoff is not the number of a handoff")
	}
	if d, err := chunk.ParseDigest(p.Digest); err != nil || d.String() != p.Digest {
		return errors.New("digest is not 64 hex digits")
	}
	return nil
}

// The lines that a merge leaves around its sides.
const (
	markOurs   = "<<<<<<<"
	markBase   = "|||||||"
	markMiddle = "======="
	markTheirs = ">>>>>>>"
)

func conflicted(text []byte) bool {
	for line := range strings.Lines(string(text)) {
		if strings.HasPrefix(line, markOurs) || strings.HasPrefix(line, markTheirs) {
			return true
		}
	}
	return false
}

// Sides reads the two pins of a file that a merge left in conflict: that of the side merged into, and that of the side merged.
func Sides(text []byte) (ours, theirs Pin, err error) {
	if len(text) > MaxSize {
		return ours, theirs, fmt.Errorf("it has %d bytes, and the limit is %d", len(text), MaxSize)
	}
	if !conflicted(text) {
		return ours, theirs, errors.New("it is not in conflict")
	}
	const both, onlyOurs, neither, onlyTheirs = 0, 1, 2, 3
	var a, b strings.Builder
	at := both
	for line := range strings.Lines(string(text)) {
		switch {
		case strings.HasPrefix(line, markOurs) && at == both:
			at = onlyOurs
		case strings.HasPrefix(line, markBase) && at == onlyOurs:
			at = neither
		case strings.HasPrefix(line, markMiddle) && (at == onlyOurs || at == neither):
			at = onlyTheirs
		case strings.HasPrefix(line, markTheirs) && at == onlyTheirs:
			at = both
		default:
			if at == both || at == onlyOurs {
				a.WriteString(line)
			}
			if at == both || at == onlyTheirs {
				b.WriteString(line)
			}
		}
	}
	if at != both {
		return ours, theirs, errors.New("the marks of the merge in it are not whole")
	}
	if ours, err = Parse([]byte(a.String())); err == nil {
		theirs, err = Parse([]byte(b.String()))
	}
	return ours, theirs, err
}

// Newer is the pin of the two that is further on in the same history.
func Newer(a, b Pin) (Pin, error) {
	switch {
	case a.Project != b.Project:
		return a, fmt.Errorf("the two sides name two projects, %s and %s", a.Project, b.Project)
	case a.Branch != b.Branch:
		return a, fmt.Errorf("the two sides name two branches, %s and %s", a.Branch, b.Branch)
	case a.Handoff == b.Handoff && a.Digest != b.Digest:
		return a, fmt.Errorf("the two sides name two handoffs h%d: one of them is not of this history", a.Handoff)
	case b.Handoff > a.Handoff:
		return b, nil
	}
	return a, nil
}
