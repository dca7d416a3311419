// Package news says what an event means to people: which kind of news it is, whom it concerns, and in which words. Watch, console, desktop,
// mail and hooks all tell it in these words.
package news

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kettletarn/internal/core/lock"
	"kettletarn/internal/core/model"
)

// Kinds of news, in the order in which they are urgent.
const (
	Turn     = "turn"
	Asked    = "asked"
	Answered = "answered"
	Lost     = "lost"
	Waits    = "waits"
	Rules    = "rules"
	Review   = "review"
	Project  = "project"
	Work     = "work"
)

// How news goes by mail.
const (
	AtOnce = "at-once"
	Daily  = "daily"
	Never  = "never"
)

// Kind is a kind of news with how it reaches people who have chosen nothing.
type Kind struct {
	Name  string
	About string
	// Short names what is told, in a list of several.
	Short   string
	Mail    string
	Desktop bool
}

// Kinds lists them.
func Kinds() []Kind {
	return []Kind{
		{Turn, "it is your turn: a lock that you wait for is offered to you, or the offer lapsed", "turns", AtOnce, true},
		{Asked, "somebody asks you to let go of a lock", "asks", AtOnce, true},
		{Answered, "your asking was answered, or stays unanswered", "answers", AtOnce, true},
		{Lost, "a lock was taken away from you, or seems forgotten", "locks taken away or forgotten", AtOnce, true},
		{Waits, "somebody waits for a lock that you hold", "waiting", Daily, false},
		{Review, "you are asked to look at something, or something is said about what you look at", "reviews", AtOnce, true},
		{Rules, "requests about the rules, and their answers", "rules", Daily, false},
		{Project, "a project is archived or deleted, comes back, or fills up", "projects archived, deleted or filling up", AtOnce, true},
		{Work, "new handoffs arrived", "handoffs", Daily, false},
	}
}

// Find returns the kind of a name.
func Find(name string) (Kind, bool) {
	for _, k := range Kinds() {
		if k.Name == name {
			return k, true
		}
	}
	return Kind{}, false
}

// Item is what there is to tell of an event. Kind is "" where it concerns nobody in particular. To has the handles of those whom it
// concerns; Everyone says all but the one who did it, Leads the leads and owners. Text tells it to anybody, You to those of To. Paths are
// the first assets that it is about, Handoff the number of a handoff, 0 for none.
type Item struct {
	Kind     string
	To       []string
	Everyone bool
	Leads    bool
	Text     string
	You      string
	Paths    []string
	Handoff  int
}

// Speaks reports whether an item says You to a person.
func (i *Item) Speaks(handle string) bool { return i.You != "" && slices.Contains(i.To, handle) }

// For is how an item is told to a person.
func (i *Item) For(handle string) string {
	if i.Speaks(handle) {
		return i.You
	}
	return i.Text
}

// Concerns reports whether an item is for a person with a role, where it was done by by: nobody is told of what they did themselves.
func (i *Item) Concerns(handle, role, by string) bool {
	return handle != by && (slices.Contains(i.To, handle) || i.Everyone || i.Leads && model.AtLeast(role, model.Lead))
}

// Of says what an event means. An event that nobody needs to hear of has no Text.
func Of(e model.Event) (i Item) {
	about := subject(e.Subject)
	i.Paths = about.list("paths")
	what := about.assets(i.Paths)
	person, other, word := about.text("person"), about.text("other"), about.text("word")
	because := ""
	if word != "" {
		because = ": " + word
	}
	until := about.until()
	tell := func(kind string, to string, text, you string) {
		i.Kind, i.Text, i.You = kind, text, you
		if to != "" {
			i.To = []string{to}
		}
	}
	switch e.Kind {
	case HandoffSent:
		i.Handoff = about.number("handoff")
		i.Kind, i.Everyone, i.Text = Work, true, fmt.Sprintf("h%d by %s: %s (%s)", i.Handoff, e.Person, about.text("note"), what)
		if branch := about.text("branch"); branch != "" && branch != model.FirstBranch {
			i.Text = fmt.Sprintf("h%d by %s on %s: %s (%s)", i.Handoff, e.Person, branch, about.text("note"), what)
		}
	case PastBrought:
		i.Handoff = about.number("handoff")
		i.Kind, i.Everyone, i.Text = Work, true, fmt.Sprintf("%s brought %d handoffs in from the git history, up to h%d", e.Person,
			about.number("handoffs"), i.Handoff)
	case MilestoneAdded:
		i.Handoff = about.number("handoff")
		i.Kind, i.Everyone, i.Text = Work, true, fmt.Sprintf("%s named h%d %s", e.Person, i.Handoff, about.text("name"))
	case KitReleased:
		i.Handoff = about.number("handoff")
		i.Kind, i.Everyone, i.Text = Work, true, fmt.Sprintf("%s released %s@%d, as of h%d: %s", e.Person, about.text("name"),
			about.number("number"), i.Handoff, about.text("note"))
	case KitNewer:
		i.Kind, i.Everyone, i.Text = Work, true, fmt.Sprintf("%s released %s@%d, a kit that is used here: tarn kit list", e.Person,
			about.text("name"), about.number("number"))
	case BranchAdded:
		i.Handoff = about.number("handoff")
		i.Text = fmt.Sprintf("%s made the branch %s from h%d of %s", e.Person, about.text("name"), i.Handoff, about.text("from"))
	case BranchDone:
		i.Text = fmt.Sprintf("%s says that the branch %s is ready to come in", e.Person, about.text("name"))
	case BranchClosed:
		i.Text = fmt.Sprintf("%s closed the branch %s", e.Person, about.text("name"))
	case BranchReopened:
		i.Text = fmt.Sprintf("%s opened the branch %s again", e.Person, about.text("name"))
	case ReviewOpened:
		i.Kind, i.To = Review, about.list("to")
		i.Text = fmt.Sprintf("%s opened the review r%d of %s: %s", e.Person, about.number("review"), about.text("of"), about.text("note"))
		i.You = fmt.Sprintf("%s asks you to look at %s: %s. tarn review show r%d", e.Person, about.text("of"), about.text("note"),
			about.number("review"))
	case ReviewSaid:
		i.Kind, i.To = Review, about.list("to")
		on := ""
		if path := about.text("path"); path != "" {
			i.Paths, on = []string{path}, " on "+path
		}
		i.Text = fmt.Sprintf("%s said%s in r%d: %s", e.Person, on, about.number("review"), about.text("note"))
	case ReviewAnswered:
		i.Kind, i.To = Review, about.list("to")
		answer := "not yet"
		if yes, _ := e.Subject["yes"].(bool); yes {
			answer = "yes"
		}
		i.Text = fmt.Sprintf("%s answered r%d: %s%s", e.Person, about.number("review"), answer, because)
	case ReviewClosed:
		i.Kind, i.To = Review, about.list("to")
		i.Text = fmt.Sprintf("%s closed r%d", e.Person, about.number("review"))
	case MilestoneRemoved:
		i.Handoff = about.number("handoff")
		i.Text = fmt.Sprintf("%s took the name %s from h%d", e.Person, about.text("name"), i.Handoff)
	case ProjectArchived:
		i.Kind, i.Everyone, i.Text = Project, true, fmt.Sprintf("%s archived %s: it is only looked at from now on", e.Person, about.text("key"))
	case ProjectBack:
		i.Kind, i.Everyone, i.Text = Project, true, fmt.Sprintf("%s brought %s back: work goes on", e.Person, about.text("key"))
	case ProjectDeleted:
		i.Kind, i.Everyone = Project, true
		i.Text = fmt.Sprintf("%s deleted %s. It goes for good on %s; until then an owner can bring it back", e.Person, about.text("key"),
			clock(about.text("goes")))
	case ProjectFilling:
		share := about.number("share")
		i.Kind, i.Leads, i.Text = Project, true,
			fmt.Sprintf("%s takes %s at the service, %d%% of the %s that it may take. At the limit nothing new is "+
				"taken, and nothing is lost", about.text("key"), limit(e.Subject["stored"]), share, limit(e.Subject["limit"]))
	case ProjectRestored:
		i.Kind, i.Everyone, i.Text = Project, true, fmt.Sprintf("%s brought %s back, which was deleted", e.Person, about.text("key"))
	case ShowingAdded:
		i.Text = fmt.Sprintf("%s made a link that shows %s to %s, until %s", e.Person, shown(about, i.Paths), about.text("for"), until)
	case ShowingEnded:
		i.Text = fmt.Sprintf("%s ended the link that shows %s to %s", e.Person, shown(about, i.Paths), about.text("for"))
	case ShowingOpened:
		i.Text = fmt.Sprintf("The link that shows %s to %s was opened", shown(about, i.Paths), about.text("for"))
	case ShowingsSwitched:
		i.Text = fmt.Sprintf("%s switched the links for people outside on again", e.Person)
		if off, _ := e.Subject["off"].(bool); off {
			i.Text = fmt.Sprintf("%s switched the links for people outside off", e.Person)
		}
	case lock.Taken:
		i.Text = fmt.Sprintf("%s took the lock of %s", person, what)
		if note := about.text("note"); note != "" {
			i.Text += ", for " + note
		}
	case lock.Brought:
		i.Text = fmt.Sprintf("%s brought the lock of %s to another workspace", person, what)
	case lock.GivenBack:
		i.Text = fmt.Sprintf("%s gave back the lock of %s", person, what)
	case lock.Overridden:
		tell(Lost, person, fmt.Sprintf("%s took the lock of %s away from %s%s", other, what, person, because),
			fmt.Sprintf("%s took the lock of %s away from you%s. What you have not sent stays on your disk; tarn settle --use copy makes a new "+
				"file of it that can be sent", other, what, because))
	case lock.Waits:
		tell(Waits, other, fmt.Sprintf("%s waits in line for %s", person, what), fmt.Sprintf("%s waits in line for %s%s", person, what, because))
	case lock.Left:
		i.Text = fmt.Sprintf("%s left the line for %s", person, what)
	case lock.Offered:
		tell(Turn, person, fmt.Sprintf("%s is offered to %s", what, person),
			fmt.Sprintf("It is your turn: %s is offered to you until %s. tarn begin takes it, with its newest version", what, until))
	case lock.PassedOver:
		tell(Turn, person, fmt.Sprintf("%s did not take %s in time", person, what),
			fmt.Sprintf("Your offer of %s has lapsed. You stay in line, next behind whoever has it offered now", what))
	case lock.Skipped:
		tell(Answered, person, fmt.Sprintf("%s gets %s ahead of %s", other, what, person),
			fmt.Sprintf("%s was given to %s, ahead of you; you stay in line", what, other))
	case lock.Asked:
		tell(Asked, other, fmt.Sprintf("%s asks %s to let go of %s%s", person, other, what, because),
			fmt.Sprintf("%s asks you to let go of %s%s. tarn answer --give or --not-yet", person, what, because))
	case lock.Given:
		i.Text = fmt.Sprintf("%s gave %s to %s", person, what, other)
	case lock.NotYet:
		answer := "not yet"
		if until != "" {
			answer += " until " + until
		}
		tell(Answered, other, fmt.Sprintf("%s answered %s about %s: %s", person, other, what, answer),
			fmt.Sprintf("%s answered about %s: %s%s. You stay in line", person, what, answer, because))
	case lock.Unanswered:
		tell(Answered, person, fmt.Sprintf("%s has no answer from %s about %s yet", person, other, what),
			fmt.Sprintf("%s has not answered about %s yet. Talk to them; a lead can take the lock away", other, what))
	case lock.Reminded:
		tell(Lost, person, fmt.Sprintf("%s seems to have forgotten the lock of %s", person, what),
			fmt.Sprintf("You hold %s since %s, in %s, and nothing has been heard from there. Give it back with tarn unlock if you do not need it",
				what, clock(about.text("since")), about.text("workspace")))
	case RulesAsked:
		i.Paths = []string{about.text("path")}
		i.Kind, i.Leads, i.Text = Rules, true, fmt.Sprintf("%s asks that %s be an asset: %s", e.Person, about.text("path"), about.text("reason"))
	case RulesAnswered:
		i.Paths = []string{about.text("path")}
		answer := "declined"
		if yes, _ := e.Subject["accepted"].(bool); yes {
			answer = "accepted"
		}
		tell(Rules, about.text("asked"), fmt.Sprintf("%s %s the request for %s%s", e.Person, answer, about.text("path"), because),
			fmt.Sprintf("%s %s your request for %s%s", e.Person, answer, about.text("path"), because))
	}
	return i
}

// shown is what a showing shows, in words.
func shown(about subject, paths []string) string {
	switch len(paths) {
	case 0:
		return fmt.Sprintf("%s as of h%d", about.text("state"), about.number("handoff"))
	case 1:
		return fmt.Sprintf("%s v%d", paths[0], about.number("version"))
	}
	return fmt.Sprintf("%s v%d beside %s v%d", paths[0], about.number("version"), paths[1], about.number("with_version"))
}

// subject reads what an event is about; it may come from JSON or from the program itself.
type subject map[string]any

func (s subject) text(key string) string {
	v, _ := s[key].(string)
	return v
}

func (s subject) number(key string) int {
	switch n := s[key].(type) {
	case float64:
		return int(n)
	case int:
		return n
	}
	return 0
}

func (s subject) list(key string) (out []string) {
	switch items := s[key].(type) {
	case []string:
		return items
	case []any:
		for _, i := range items {
			if text, ok := i.(string); ok {
				out = append(out, text)
			}
		}
	}
	return out
}

// assets names one or two assets, and counts more.
func (s subject) assets(paths []string) string {
	n := max(s.number("count"), len(paths))
	switch {
	case len(paths) == n && n > 0 && n <= 2:
		return strings.Join(paths, " and ")
	case n == 1:
		return "1 asset"
	}
	return fmt.Sprintf("%d assets", n)
}

func (s subject) until() string { return clock(s.text("until")) }

func clock(text string) string {
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return ""
	}
	return t.Format("Mon 2 Jan 15:04 MST")
}
