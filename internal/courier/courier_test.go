package courier

import (
	"context"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"kettletarn/internal/postbox"
)

func TestSettingsThatCanNotWorkAreRefused(t *testing.T) {
	for name, o := range map[string]Options{
		"no mail server":   {Mail: "mail.example:587", From: "a@b.example"},
		"another protocol": {Mail: "http://mail.example", From: "a@b.example"},
		"no sender":        {Mail: "smtp://mail.example"},
		"no address":       {Address: "tarn.example"},
		"a URL for a host": {Hosts: []string{"https://chat.example"}},
		"a path":           {Hosts: []string{"chat.example/x"}},
	} {
		if _, err := New(o); err == nil || strings.Contains(err.Error(), "\n") {
			t.Errorf("%s: %v", name, err)
		}
	}
	c, err := New(Options{Address: "https://tarn.example/", Hosts: []string{"chat.example", "127.0.0.1:7444"}})
	if err != nil || c.Mails() || c.Address() != "https://tarn.example" {
		t.Errorf("%+v, %v", c, err)
	}
	if err := c.Mail(t.Context(), "k", "a@b.example", "s", "t"); err == nil {
		t.Error("without a mail server a letter goes out")
	}
}

// What people write can't make headers of a letter, and a password never goes over an open line.
func TestALetterIsWhatItSays(t *testing.T) {
	box, address, err := postbox.Open("127.0.0.1:0", t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer box.Close()
	c, err := New(Options{Mail: "smtp://" + address, From: "Kettle Tarn <tarn@saltpan.example>"})
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Mail(t.Context(), "key-1", "tamsin@saltpan.example", "rocks\r\nBcc: everybody@saltpan.example",
		"one\r\n.\r\nRSET\r\ntwo — three"); err != nil {
		t.Fatal(err)
	}
	letters, err := box.Letters()
	if err != nil || len(letters) != 1 {
		t.Fatalf("%q, %v", letters, err)
	}
	head, body, _ := strings.Cut(letters[0], "\n\n")
	if strings.Contains(head, "\nBcc:") || !strings.Contains(head, "Message-ID: <key-1@kettle-tarn>") ||
		!strings.Contains(body, "one\n.\nRSET\ntwo") {
		t.Errorf("%s", letters[0])
	}
	for _, to := range []string{"no address", "a@b.example\r\nBcc: c@d.example", ""} {
		if err := c.Mail(t.Context(), "k", to, "s", "t"); err == nil {
			t.Errorf("a letter goes to %q", to)
		}
	}
	open, err := New(Options{Mail: "smtp://tarn:secret@" + address, From: "tarn@saltpan.example"})
	if err != nil {
		t.Fatal(err)
	}
	if err := open.Mail(t.Context(), "k", "tamsin@saltpan.example", "s", "t"); err == nil {
		t.Error("a password goes over an open line")
	}
	if letters, _ := box.Letters(); len(letters) != 1 {
		t.Errorf("%d letters", len(letters))
	}
}

func TestAPostGoesNowhereElse(t *testing.T) {
	inner := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { t.Error("a redirect is followed") }))
	defer inner.Close()
	outer := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, inner.URL, http.StatusTemporaryRedirect)
	}))
	defer outer.Close()
	c, err := New(Options{Hosts: []string{strings.TrimPrefix(outer.URL, "http://")}})
	if err != nil {
		t.Fatal(err)
	}
	const secret = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"
	if err := c.Call(context.Background(), outer.URL+"/x", secret, "k", []byte("{}")); err == nil ||
		!strings.Contains(err.Error(), "status 307") {
		t.Errorf("a redirect: %v", err)
	}
	if err := c.Call(context.Background(), inner.URL, secret, "k", []byte("{}")); err == nil {
		t.Error("a post goes to a host that is not listed")
	}
}
