package model

import "time"

// HouseWay is where a browser goes that signs in by the sign-on of the house (OpenID Connect Core 1.0, by code with PKCE, RFC 7636). State
// comes back with the code; a page that did not keep it did not ask.
type HouseWay struct {
	Address string `json:"address"`
	State   string `json:"state"`
}

// HouseAnswer is what the browser came back with; From says from where somebody signs in, and Console asks for a cookie in place of a
// token.
type HouseAnswer struct {
	State   string `json:"state"`
	Code    string `json:"code"`
	From    string `json:"from"`
	Console bool   `json:"console,omitempty"`
}

// HouseSignIn is a sign-in, or an arrival of somebody whom the service does not know yet.
type HouseSignIn struct {
	SignIn  *SignIn       `json:"sign_in,omitempty"`
	Arrival *HouseArrival `json:"arrival,omitempty"`
}

// HouseArrival is somebody whom the house knows, and the service does not: Secret holds for ten minutes, and is used once. Shown is how
// the house calls them, Handle one that they could take, and New says that they may come in as somebody new.
type HouseArrival struct {
	Secret string `json:"secret"`
	Shown  string `json:"shown"`
	Handle string `json:"handle"`
	New    bool   `json:"new"`
}

// HouseTie says who somebody is who arrived: by handle and passphrase, or, with no handle, whoever is signed in, by their passphrase where
// they have one.
type HouseTie struct {
	Secret     string `json:"secret"`
	Handle     string `json:"handle,omitempty"`
	Passphrase string `json:"passphrase"`
	From       string `json:"from"`
	Console    bool   `json:"console,omitempty"`
}

// HouseNew is the handle that somebody takes who arrived, and is new. Invitation is the secret of one that they join by, where they have
// one.
type HouseNew struct {
	Secret     string `json:"secret"`
	Handle     string `json:"handle"`
	Invitation string `json:"invitation,omitempty"`
	From       string `json:"from"`
	Console    bool   `json:"console,omitempty"`
}

// Tie is an account at the house that signs in as oneself. Shown is how the house calls it.
type Tie struct {
	Number int64      `json:"number"`
	Shown  string     `json:"shown"`
	Made   time.Time  `json:"made"`
	Used   *time.Time `json:"used,omitempty"`
}

// Ties are one's own; House is what the house's sign-on is called, "" where there is none.
type Ties struct {
	House string `json:"house"`
	Ties  []Tie  `json:"ties"`
}

// ElsewhereBegin asks for a sign-in that somebody says yes to with a browser (after RFC 8628); From says from where.
type ElsewhereBegin struct {
	From string `json:"from"`
}

// Elsewhere is what a program shows and asks with that waits for that: the page Path at the service, Code to type there, the Secret that
// it asks with, no sooner than Every seconds after it asked before, and until when.
type Elsewhere struct {
	Path   string    `json:"path"`
	Code   string    `json:"code"`
	Secret string    `json:"secret"`
	Every  int       `json:"every"`
	Until  time.Time `json:"until"`
}

// ElsewhereAsk is a program that asks whether somebody said yes.
type ElsewhereAsk struct {
	Secret string `json:"secret"`
}

// ElsewhereAnswer is the sign-in, or none yet.
type ElsewhereAnswer struct {
	SignIn *SignIn `json:"sign_in,omitempty"`
}

// ElsewhereCode names a program that waits. Yes, and no else, is what one says to it.
type ElsewhereCode struct {
	Code string `json:"code"`
	Yes  bool   `json:"yes,omitempty"`
}

// ElsewhereFor is the program that waits: what it says of itself, and the address that it asks from.
type ElsewhereFor struct {
	From    string `json:"from"`
	Address string `json:"address"`
}

// ConfirmPath is the page where one says yes to a program that waits.
const ConfirmPath = "/confirm"

// HouseBackPath is the page that the sign-on of the house sends people back to.
const HouseBackPath = "/sign-in/house"

// Account is somebody as the sign-on of the house knows them. Issuer and Subject are who they are; all else changes. MailChecked says that
// the house says that the mail address is theirs.
type Account struct {
	Issuer, Subject string
	Handle, Name    string
	Mail            string
	MailChecked     bool
	Groups          []string
}
