package lock

import (
	"fmt"
	"time"

	"kettletarn/internal/core/model"
)

func refuse(s State, reason, remedy, format string, args ...any) *model.Refusal {
	return &model.Refusal{Path: s.Path, Reason: reason, Remedy: remedy, Message: s.Path + ": " + fmt.Sprintf(format, args...)}
}

// taken is the refusal for everyone but the one who holds it or has it offered.
func (t Terms) taken(s State, who string) *model.Refusal {
	remedy := "tarn lock --wait puts you in line; tarn ask -m REASON asks them to let go"
	line := ""
	if at := s.InLine(who); at > 0 {
		line = fmt.Sprintf("; you are %s in line", Ordinal(at))
		remedy = "wait for your turn, or ask them to let go with tarn ask -m REASON"
	}
	if offered, until := s.OfferedTo(); offered != "" {
		return refuse(s, "offered", "tarn lock --wait puts you in line", "it is %s's turn, who has until %s to take it%s", offered,
			clock(until, t.Now), line)
	}
	about := ""
	if s.Note != "" {
		about = fmt.Sprintf(", for %q", s.Note)
	}
	return refuse(s, "held", remedy, "%s holds it, taken %s in %s%s%s", s.Holder.Handle, ago(s.Since, t.Now), s.Holder.Workspace, about, line)
}

func elsewhere(s State) *model.Refusal {
	return refuse(s, "held-elsewhere", "send or unlock it there, or bring the lock here with tarn lock --bring",
		"you hold it in another workspace, %s", s.Holder.Workspace)
}

// Behind is the refusal for a version that does not descend from the newest.
func Behind(path string, have, newest int) *model.Refusal {
	if have == 0 {
		return &model.Refusal{Path: path, Reason: "behind", Remedy: "run tarn update to bring it here first",
			Message: fmt.Sprintf("%s: it is not in your workspace yet; version %d is the newest", path, newest)}
	}
	return &model.Refusal{Path: path, Reason: "behind", Remedy: "run tarn update first",
		Message: fmt.Sprintf("%s: version %d is newer than yours (%d)", path, newest, have)}
}

// apart is the refusal for a version that some branch has gone on without.
func apart(path string, have int, lacks []Newest) *model.Refusal {
	first := lacks[0]
	r := &model.Refusal{Path: path, Reason: "apart", Remedy: fmt.Sprintf("bring that here with tarn merge %s, work on that branch "+
		"(tarn switch %s), or lock it with --diverge to go on from yours knowingly", first.Branch, first.Branch)}
	what := fmt.Sprintf("has version %d", first.Version)
	if first.Gone {
		what = fmt.Sprintf("deleted it (version %d)", first.Version)
	}
	r.Message = fmt.Sprintf("%s: the branch %s %s, which yours (%d) was not made from", path, first.Branch, what, have)
	if have == 0 {
		r.Message = fmt.Sprintf("%s: it is not on your branch; %s %s", path, first.Branch, what)
	}
	if more := len(lacks) - 1; more > 0 {
		r.Message += fmt.Sprintf("; so it is with %d more", more)
	}
	return r
}

// Ordinal is 1st, 2nd, 3rd …
func Ordinal(n int) string {
	suffix := "th"
	if n%100 < 11 || n%100 > 13 {
		switch n % 10 {
		case 1:
			suffix = "st"
		case 2:
			suffix = "nd"
		case 3:
			suffix = "rd"
		}
	}
	return fmt.Sprint(n, suffix)
}

func clock(t, now time.Time) string {
	if t.Sub(now) < 12*time.Hour {
		return t.UTC().Format("15:04 UTC")
	}
	return t.UTC().Format("Monday 15:04 UTC")
}

func ago(t, now time.Time) string {
	d := now.Sub(t)
	switch {
	case d < time.Minute:
		return "a moment ago"
	case d < 2*time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d hours ago", int(d.Hours()))
	}
	return fmt.Sprintf("%d days ago", int(d.Hours()/24))
}
