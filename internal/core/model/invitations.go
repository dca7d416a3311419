package model

import "time"

// Invitation is a link by which people join a project with a role: at most Uses of them, until Until. Joined are those who have. Mail is
// where it was to be sent, "" for nowhere, and Sent, told once, that a mail server took it. Holds says that it still lets somebody in.
// Address, from the root of the service, is told once, to who makes it; its secret is behind the #, so that no server gets to see it before
// somebody uses it.
type Invitation struct {
	Number  int        `json:"number"`
	Role    string     `json:"role"`
	By      string     `json:"by"`
	Mail    string     `json:"mail,omitempty"`
	Made    time.Time  `json:"made"`
	Until   time.Time  `json:"until"`
	Uses    int        `json:"uses"`
	Joined  []string   `json:"joined"`
	Holds   bool       `json:"holds"`
	Ended   *time.Time `json:"ended,omitempty"`
	EndedBy string     `json:"ended_by,omitempty"`
	Address string     `json:"address,omitempty"`
	Sent    bool       `json:"sent,omitempty"`
}

// Invitations are those of a project, the newest first. MailWorks says that the service can send them.
type Invitations struct {
	Invitations []Invitation `json:"invitations"`
	MailWorks   bool         `json:"mail_works"`
}

// InvitationRequest asks for an invitation, which holds for Days.
type InvitationRequest struct {
	Role string `json:"role"`
	Mail string `json:"mail,omitempty"`
	Uses int    `json:"uses"`
	Days int    `json:"days"`
}

// InvitedPath is where the console shows an invitation; its secret comes behind, and a #.
const InvitedPath = "/invited"

// InvitedLook asks what an invitation is, by its secret.
type InvitedLook struct {
	Secret string `json:"secret"`
}

// Invited is what an invitation offers: to whom, by whom. Over says why it lets nobody in any more ("" where it does): used, expired,
// ended.
type Invited struct {
	Project string    `json:"project"`
	Role    string    `json:"role"`
	By      string    `json:"by"`
	Until   time.Time `json:"until"`
	Over    string    `json:"over,omitempty"`
}

// InvitedJoin takes an invitation as somebody new, who chooses a handle and a passphrase; From says from where, and Console asks for a
// cookie in place of a token.
type InvitedJoin struct {
	Secret     string `json:"secret"`
	Handle     string `json:"handle"`
	Passphrase string `json:"passphrase"`
	From       string `json:"from"`
	Console    bool   `json:"console,omitempty"`
}

// Joined is who has joined a project by an invitation, and as what; SignIn is that of somebody new.
type Joined struct {
	Project string  `json:"project"`
	Role    string  `json:"role"`
	SignIn  *SignIn `json:"sign_in,omitempty"`
}

// Leaving is what it would touch that somebody leaves a project: what they hold and wait for, changes that they are known to have and
// did not send, tokens and links for people outside that would end. Only says that they are its only owner, who can't.
type Leaving struct {
	Handle      string   `json:"handle"`
	Role        string   `json:"role"`
	Only        bool     `json:"only_owner"`
	Locks       []string `json:"locks"`
	Waiting     int      `json:"waiting"`
	Unsent      []string `json:"unsent"`
	Tokens      int      `json:"tokens"`
	Showings    int      `json:"showings"`
	Invitations int      `json:"invitations"`
}
