package news

import (
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"

	"kettletarn/internal/core/model"
)

// Subject is what the record can be asked about: it stands for all kinds of event whose names begin so.
type Subject struct {
	Name   string
	begins []string
}

// Subjects are all of them.
var Subjects = []Subject{
	{"handoffs", []string{"handoff.", "past."}},
	{"locks", []string{"lock."}},
	{"branches", []string{"branch."}},
	{"milestones", []string{"milestone."}},
	{"reviews", []string{"review."}},
	{"kits", []string{"kit."}},
	{"rules", []string{"rules."}},
	{"people", []string{"member.", "invitation.", "person."}},
	{"sign-ins", []string{"signed-", "passkey.", "token.", "house."}},
	{"project", []string{"project."}},
	{"outside", []string{"showing", "hook."}},
	{"workspaces", []string{"workspace.", "pins."}},
	{"content", []string{"content."}},
}

// SubjectWords are their names.
func SubjectWords() []string {
	words := make([]string, len(Subjects))
	for i, s := range Subjects {
		words[i] = s.Name
	}
	return words
}

// unrecorded are kinds of event that are passed on, and are nothing that anybody did.
var unrecorded = map[string]bool{UnsentChanged: true, NewsSettings: true}

// Before stands before the kind of what was done in a project before it came to this service. It is on record, with the words that it came
// with, and is told to nobody.
const Before = "before."

// Recorded are the kinds of event of a subject ("" for all) that the record has; closed says whether those are among them that are not for
// everybody. It is empty where there is no such subject.
func Recorded(about string, closed bool) (kinds []string) {
	for _, e := range Events {
		if unrecorded[e.Kind] || !e.Open && !closed {
			continue
		}
		if about == "" {
			kinds = append(kinds, e.Kind, Before+e.Kind)
			continue
		}
		for _, s := range Subjects {
			if s.Name != about {
				continue
			}
			for _, b := range s.begins {
				if strings.HasPrefix(e.Kind, b) {
					kinds = append(kinds, e.Kind, Before+e.Kind)
				}
			}
		}
	}
	return kinds
}

// Says is an event in words, for the record: also one that nobody needs to hear of.
func Says(e model.Event) string {
	if text := Of(e).Text; text != "" {
		return text
	}
	about := subject(e.Subject)
	if strings.HasPrefix(e.Kind, Before) {
		return about.text("said")
	}
	who := e.Person
	if who == "" {
		who = "whoever runs the service"
	}
	handle := about.text("handle")
	switch e.Kind {
	case ReviewSettled:
		word := "settled"
		if settled, _ := e.Subject["settled"].(bool); !settled {
			word = "opened again"
		}
		return fmt.Sprintf("%s %s a remark in r%d", who, word, about.number("review"))
	case PinsTold:
		return who + " told of pins in the main history"
	case WorkspaceAdded:
		return fmt.Sprintf("%s made the workspace %s", who, about.text("name"))
	case FalseClaim:
		return fmt.Sprintf("content that %s sent is not what it was said to be", who)
	case ProjectStarted:
		return fmt.Sprintf("%s started the project %s", who, about.text("key"))
	case ProjectImported:
		return fmt.Sprintf("%s brought %s in from a file of %s", who, about.text("key"), about.text("from"))
	case ProjectRemoved:
		return fmt.Sprintf("the project %s was removed for good", about.text("key"))
	case ProjectLimit:
		return fmt.Sprintf("%s set the limit to %s (%s before)", who, limit(e.Subject["limit"]), limit(e.Subject["before"]))
	case MemberSet:
		if about.text("by") == "group" {
			who = "a group of the house"
		}
		if before := about.text("before"); before != "" {
			return fmt.Sprintf("%s made %s, who was %s, %s", who, handle, before, about.text("role"))
		}
		return fmt.Sprintf("%s added %s as %s", who, handle, about.text("role"))
	case MemberRemoved:
		if handle == e.Person {
			return fmt.Sprintf("%s left", who)
		}
		return fmt.Sprintf("%s took %s out", who, handle)
	case InvitationMade:
		to := ""
		if mail := about.text("mail"); mail != "" {
			to = ", for " + mail
		}
		return fmt.Sprintf("%s made invitation %d, as %s%s", who, about.number("invitation"), about.text("role"), to)
	case InvitationEnded:
		return fmt.Sprintf("%s ended invitation %d", who, about.number("invitation"))
	case InvitationUsed:
		return fmt.Sprintf("%s joined as %s, by invitation %d of %s", handle, about.text("role"), about.number("invitation"), about.text("by"))
	case TokenMade:
		return fmt.Sprintf("%s made the token %s, as %s", who, about.text("label"), about.text("role"))
	case TokenEnded:
		return fmt.Sprintf("%s ended the token %s of %s", who, about.text("label"), about.text("person"))
	case PersonAdded:
		return fmt.Sprintf("%s came to the service", handle)
	case PersonEnded:
		return fmt.Sprintf("%s let %s go", who, handle)
	case PersonPassphrase:
		return fmt.Sprintf("%s got another passphrase", handle)
	case PersonLink:
		return fmt.Sprintf("%s made a link by which %s chooses another passphrase", who, handle)
	case PasskeyAdded:
		return fmt.Sprintf("%s added the passkey %s", who, about.text("name"))
	case PasskeyRemoved:
		return fmt.Sprintf("%s took the passkey %s away", who, about.text("name"))
	case HouseTied:
		return fmt.Sprintf("%s is %s at the sign-on of the house from now on", handle, about.text("shown"))
	case HouseUntied:
		return fmt.Sprintf("%s is not %s at the sign-on of the house any more", handle, about.text("shown"))
	case PersonSteward:
		if is, _ := e.Subject["steward"].(bool); !is {
			return fmt.Sprintf("%s made %s no steward any more", who, handle)
		}
		return fmt.Sprintf("%s made %s a steward", who, handle)
	case SignedIn:
		return fmt.Sprintf("%s signed in from %s", who, about.text("from"))
	case SignedOut:
		return fmt.Sprintf("%s ended a sign-in", who)
	case HookAdded:
		return fmt.Sprintf("%s sends news to %s", who, about.text("url"))
	case HookRemoved:
		return fmt.Sprintf("%s ended sending news to a web hook", who)
	}
	return who + ": " + e.Kind
}

func limit(v any) string {
	n, _ := v.(float64)
	if whole, ok := v.(int64); ok {
		n = float64(whole)
	}
	if n <= 0 {
		return "none"
	}
	return humanize.IBytes(uint64(n))
}
