package ground

import (
	"context"
	"net/mail"
	"strings"

	"kettletarn/internal/core/model"
)

// Courier takes news out of the house. Its methods return within half a minute, and are safe for concurrent use.
type Courier interface {
	// Mails reports whether it can send mail.
	Mails() bool
	// Mail sends a letter; key stays the same however often it is tried.
	Mail(ctx context.Context, key, to, subject, text string) error
	// Call posts a body to a hook, signed with its secret.
	Call(ctx context.Context, url, secret, key string, body []byte) error
	// Hosts are where hooks may go, as HOST or HOST:PORT.
	Hosts() []string
	// Address is where people reach the console, "" where that is not known.
	Address() string
}

// Deliver makes the service take news out of the house, too. It is called before Run.
func (s *Ground) Deliver(c Courier) { s.Courier = c }

// MailWorks reports whether the service can send letters.
func (s *Ground) MailWorks() bool { return s.Courier != nil && s.Courier.Mails() }

// MailAddress tidies a mail address (RFC 5322, an address alone), or refuses what is none.
func MailAddress(typed string) (string, error) {
	address := strings.TrimSpace(typed)
	parsed, err := mail.ParseAddress(address)
	if err != nil || parsed.Address != address || len(address) > 254 || Printable(address) != address && len(address) <= 80 {
		return "", model.NewProblem(model.BadRequest, "take for example: tamsin@saltpan.example", "%q is not a mail address", Printable(address))
	}
	return address, nil
}
