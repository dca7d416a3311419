package model

import "time"

// WayIn is a link by which somebody chooses a passphrase, good once. Its address, from the root of the service, is told once.
type WayIn struct {
	Handle  string    `json:"handle"`
	Until   time.Time `json:"until"`
	Address string    `json:"address"`
}

// WayInPath is where the console lets somebody choose a passphrase; the secret comes behind, and a #.
const WayInPath = "/forgotten"

// Forgotten asks for such a link by mail.
type Forgotten struct {
	Handle string `json:"handle"`
}

// WayInFor is whose passphrase a link is for.
type WayInFor struct {
	Handle string `json:"handle"`
}

// WayInTaken chooses a passphrase by such a link, which signs in; From says from where, and Console asks for a cookie in place of a token.
type WayInTaken struct {
	Secret     string `json:"secret"`
	Passphrase string `json:"passphrase"`
	From       string `json:"from"`
	Console    bool   `json:"console,omitempty"`
}

// NameRequest changes how one is called.
type NameRequest struct {
	Name string `json:"name"`
}

// PersonNew makes somebody, who chooses a passphrase by a link.
type PersonNew struct {
	Handle  string `json:"handle"`
	Steward bool   `json:"steward,omitempty"`
}

// StewardRequest makes somebody a steward, or takes that back.
type StewardRequest struct {
	Steward bool `json:"steward"`
}

// People are those of the service.
type People struct {
	People []PersonRow `json:"people"`
}

// Failing is news that could not be delivered yet, or was given up: to whom, and why.
type Failing struct {
	To      string     `json:"to"`
	Project string     `json:"project,omitempty"`
	Kind    string     `json:"kind"`
	At      time.Time  `json:"at"`
	Tries   int        `json:"tries"`
	Error   string     `json:"error"`
	Next    *time.Time `json:"next,omitempty"`
}

// Damage is what a project lost: chunks of content that can't be read, since when the first.
type Damage struct {
	Project string    `json:"project"`
	Chunks  int       `json:"chunks"`
	Since   time.Time `json:"since"`
}

// Setting is one that is in force, in words; secrets are left out.
type Setting struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Health is how the service is: what it is, how much room it has (Free, -1 where that is not known), what waits and what fails, what is
// damaged, and what it goes by.
type Health struct {
	Failing  []Failing `json:"failing"`
	Version  string    `json:"version"`
	Since    time.Time `json:"since"`
	Schema   int       `json:"schema"`
	Database string    `json:"database"`
	DataSize int64     `json:"database_size"`
	Packs    int       `json:"packs"`
	Stored   int64     `json:"stored"`
	Free     int64     `json:"free"`
	Waiting  int       `json:"deliveries_waiting"`
	Unsealed int       `json:"contents_unsealed"`
	Damage   []Damage  `json:"damage"`
	Settings []Setting `json:"settings"`
	LastLife time.Time `json:"life_since"`
}

// Freeable is what could be freed: What is deleted (projects, in their days of grace or past them), given-up (uploads that no version came
// of; Bytes as files, which is more than they take), condemned (chunks that nothing refers to), thin (packs of which less than half is in
// use) or rewritten (packs whose content lies in others by now). Now says that a collection frees it at once, and not later.
type Freeable struct {
	What  string `json:"what"`
	Bytes int64  `json:"bytes"`
	Count int    `json:"count"`
	Now   bool   `json:"now"`
}

// Collecting is what could be freed, whether this service is at it, and what its last collection from the console did: Freed bytes, or
// Trouble in words.
type Collecting struct {
	Freeable []Freeable `json:"freeable"`
	Since    *time.Time `json:"since,omitempty"`
	Done     *time.Time `json:"done,omitempty"`
	Freed    int64      `json:"freed"`
	Trouble  string     `json:"trouble,omitempty"`
}

// Passkey is a way in beside the passphrase (W3C Web Authentication).
type Passkey struct {
	Number int64      `json:"number"`
	Name   string     `json:"name"`
	Made   time.Time  `json:"made"`
	Used   *time.Time `json:"used,omitempty"`
}

// Passkeys are one's own.
type Passkeys struct {
	Passkeys []Passkey `json:"passkeys"`
}

// PasskeyBegin asks for a ceremony that adds a passkey; the passphrase says that it is oneself who asks.
type PasskeyBegin struct {
	Passphrase string `json:"passphrase"`
}

// Ceremony is what a browser is asked, once, within five minutes: Options is the JSON text of PublicKeyCredentialCreationOptions or
// PublicKeyCredentialRequestOptions, as parseCreationOptionsFromJSON and parseRequestOptionsFromJSON take it; ID goes with the answer.
type Ceremony struct {
	ID      string `json:"id"`
	Options string `json:"options"`
}

// PasskeyNew is what the browser answered, the JSON text of its credential, and what the passkey is to be called.
type PasskeyNew struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	Answer string `json:"answer"`
}

// PasskeySignIn is what the browser of somebody answered who signs in; From says from where, and Console asks for a cookie in place of a
// token.
type PasskeySignIn struct {
	ID      string `json:"id"`
	Answer  string `json:"answer"`
	From    string `json:"from"`
	Console bool   `json:"console,omitempty"`
}
