package desk

import (
	"net/url"
	"strconv"
	"strings"

	"kettletarn/internal/signins"
	"kettletarn/internal/workspace/watching"
)

// Shown is a notice for the desktop: what a watch had to say of a project, and the page of the desk that it speaks of.
type Shown struct {
	Project string
	Access  signins.Access
	watching.Notice
	Page string
	// Open opens that page in the browser.
	Open func()
}

// pageOf is the page that a notice speaks of: one asset, one handoff, or else the work at hand.
func pageOf(project string, n watching.Notice) string {
	at := "/p/" + url.PathEscape(project)
	switch {
	case len(n.Paths) == 1:
		parts := strings.Split(n.Paths[0], "/")
		for i, p := range parts {
			parts[i] = url.PathEscape(p)
		}
		return at + "/asset/" + strings.Join(parts, "/")
	case n.Handoff > 0:
		return at + "/handoffs/" + strconv.Itoa(n.Handoff)
	}
	return "/desk"
}

// shown is a notice as it is shown. Where nobody is signed in to its service at the desk now, it leads to the work at hand.
func (d *Desk) shown(project string, access signins.Access, n watching.Notice) Shown {
	page := pageOf(project, n)
	if now, err := signins.For(""); err != nil || now.URL != access.URL {
		page = "/desk"
	}
	return Shown{Project: project, Access: access, Notice: n, Page: page, Open: func() {
		if err := d.o.Open(d.link(page)); err != nil {
			d.o.Log.Warn("no browser could be opened", "error", err)
		}
	}}
}
