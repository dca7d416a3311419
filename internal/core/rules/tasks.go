package rules

import (
	"fmt"
	"net/url"
	"strings"
)

// TaskLink says where the ids of tasks lead that match: "BRL-*" to "https://tasks.example/{task}". In Match, * is anything.
type TaskLink struct {
	Match string `json:"match"`
	Link  string `json:"link"`
}

// taskPlace stands in a link where the id goes.
const taskPlace = "{task}"

func (l TaskLink) check() error {
	u, err := url.Parse(strings.ReplaceAll(l.Link, taskPlace, "x"))
	switch {
	case l.Match == "" || len(l.Match) > 60:
		return fmt.Errorf(`match is how ids of tasks look, like "BRL-*"; this is %q`, l.Match)
	case err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || len(l.Link) > 500:
		return fmt.Errorf(`link is an address that starts with https:// or http://, like "https://tasks.example/{task}"; this is %q`, l.Link)
	case !strings.Contains(l.Link, taskPlace):
		return fmt.Errorf("link has {task} where the id of the task goes; this is %q", l.Link)
	}
	return nil
}

func (l TaskLink) matches(task string) bool {
	parts := strings.Split(strings.ToLower(l.Match), "*")
	task = strings.ToLower(task)
	rest, ok := strings.CutPrefix(task, parts[0])
	if len(parts) == 1 {
		return ok && rest == ""
	}
	for _, part := range parts[1 : len(parts)-1] {
		i := strings.Index(rest, part)
		if !ok || i < 0 {
			return false
		}
		rest = rest[i+len(part):]
	}
	return ok && strings.HasSuffix(rest, parts[len(parts)-1])
}

// FollowTask is the address that the id of a task leads to, by the last of links that matches, or "" where none does.
func FollowTask(links []TaskLink, task string) string {
	for i := len(links) - 1; i >= 0; i-- {
		if links[i].check() == nil && links[i].matches(task) {
			return strings.ReplaceAll(links[i].Link, taskPlace, url.PathEscape(task))
		}
	}
	return ""
}
