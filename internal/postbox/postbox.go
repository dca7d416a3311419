// Package postbox is a mail server (SMTP, RFC 5321) that delivers nothing: each letter becomes a file in a folder. It stands in for a real
// one in tests and in the demo, on loopback.
package postbox

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
)

// MaxLetter is the largest letter that is taken, in bytes.
const MaxLetter = 1 << 20

// Box takes letters until it is closed. Refuse, where it is set, says why a letter is not taken.
type Box struct {
	Folder string

	mu     sync.Mutex
	count  int
	refuse error
	server *smtp.Server
	done   chan struct{}
}

// Open listens on an address of loopback and keeps letters in a folder.
func Open(address, folder string) (*Box, string, error) {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, "", err
	}
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, "", err
	}
	b := &Box{Folder: folder, done: make(chan struct{})}
	b.server = smtp.NewServer(b)
	b.server.Domain, b.server.MaxMessageBytes, b.server.MaxRecipients = "postbox", MaxLetter, 10
	b.server.ReadTimeout, b.server.WriteTimeout = 10*time.Second, 10*time.Second
	b.server.ErrorLog = quiet{}
	go func() {
		defer close(b.done)
		_ = b.server.Serve(listener)
	}()
	return b, listener.Addr().String(), nil
}

type quiet struct{}

func (quiet) Printf(string, ...any) {}
func (quiet) Println(...any)        {}

// Close ends it.
func (b *Box) Close() error {
	err := b.server.Close()
	<-b.done
	return err
}

// Refuse makes it refuse every letter, or, with nil, take them again.
func (b *Box) Refuse(why error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.refuse = why
}

// Letters reads what has come, the oldest first.
func (b *Box) Letters() ([]string, error) {
	names, err := filepath.Glob(filepath.Join(b.Folder, "*.eml"))
	if err != nil {
		return nil, err
	}
	var out []string
	for _, n := range names {
		text, err := os.ReadFile(n)
		if err != nil {
			return nil, err
		}
		out = append(out, string(text))
	}
	return out, nil
}

// NewSession makes Box an smtp.Backend.
func (b *Box) NewSession(*smtp.Conn) (smtp.Session, error) { return &session{box: b}, nil }

type session struct {
	box *Box
	to  []string
}

func (s *session) Mail(string, *smtp.MailOptions) error {
	s.box.mu.Lock()
	defer s.box.mu.Unlock()
	return s.box.refuse
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.to = append(s.to, to)
	return nil
}

func (s *session) Data(r io.Reader) error {
	text, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	s.box.mu.Lock()
	defer s.box.mu.Unlock()
	s.box.count++
	who := "nobody"
	if len(s.to) > 0 {
		who, _, _ = strings.Cut(s.to[0], "@")
	}
	clean := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-' {
			return r
		}
		return '_'
	}, strings.ToLower(who))
	name := fmt.Sprintf("%04d-%s.eml", s.box.count, clean[:min(len(clean), 40)])
	return os.WriteFile(filepath.Join(s.box.Folder, name), bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n")), 0o644)
}

func (s *session) Reset()        { s.to = nil }
func (s *session) Logout() error { return nil }

var code = regexp.MustCompile(`(?m)^  ([A-Z2-7]{8})$`)

// Code is the code in the last letter to an address that has one, "" where none has.
func (b *Box) Code(to string) string {
	letters, err := b.Letters()
	if err != nil {
		return ""
	}
	for _, l := range slices.Backward(letters) {
		if m := code.FindStringSubmatch(l); m != nil && strings.Contains(l, "To: <"+to+">") {
			return m[1]
		}
	}
	return ""
}
