package cli

import (
	"net/url"

	"git.sr.ht/~jackmordaunt/go-toast"
	"github.com/gen2brain/beeep"

	"kettletarn/internal/desk"
	"kettletarn/internal/startmenu"
)

// harmless is what of a text goes into a notice: see notice.
func harmless(words string) string { return notice(words) }

// showNotice shows a notice. One that leads somewhere does so by a link of the scheme tarn:, where the desk is the program for those.
func showNotice(title, body string, to lead) {
	beeep.AppName = appName
	if to.page != "" && startmenu.HasLinks() {
		n := toast.Notification{AppID: appName, Title: title, Body: body, Audio: toast.Silent, Duration: toast.Short,
			ActivationType: toast.Protocol, ActivationArguments: desk.Scheme + ":open?" + url.Values{"page": {to.page}}.Encode()}
		if n.Push() == nil {
			return
		}
	}
	_ = beeep.Notify(title, body, "")
}
