package desk

import (
	"net/url"
	"strings"

	"kettletarn/internal/core/model"
)

// Scheme is that of links which lead to somebody's desk.
const Scheme = "tarn"

// ParseLink reads such a link: tarn:open?service=ADDRESS&page=PAGE. It names a page of the console, and nothing that is done.
func ParseLink(link string) (service, page string, err error) {
	wrong := model.NewProblem(model.BadRequest, "copy it from the page that it is on", "%q is no link to a desk", link)
	if len(link) > 8<<10 {
		return "", "", wrong
	}
	u, err := url.Parse(link)
	if err != nil || u.Scheme != Scheme || strings.Trim(u.Opaque+u.Host+u.Path, "/") != "open" {
		return "", "", wrong
	}
	q, err := url.ParseQuery(u.RawQuery)
	if err != nil {
		return "", "", wrong
	}
	if page = ownPage(q.Get("page")); page != q.Get("page") && q.Get("page") != "" {
		return "", "", wrong
	}
	return q.Get("service"), page, nil
}
