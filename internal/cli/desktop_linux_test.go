package cli

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/godbus/dbus/v5"

	"kettletarn/internal/core/news"
	"kettletarn/internal/workspace/watching"
)

const busConfig = `<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN"
 "http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd">
<busconfig><type>session</type><listen>unix:path=SOCKET</listen><auth>EXTERNAL</auth><policy context="default">
<allow send_destination="*"/><allow receive_sender="*"/><allow own="*"/></policy></busconfig>`

// notifier stands for a desktop's: it keeps what it is told to show.
type notifier struct {
	mu    sync.Mutex
	shown []string
	leads []bool
}

func (n *notifier) Notify(_ string, _ uint32, _, summary, body string, actions []string, _ map[string]dbus.Variant, _ int32) (uint32,
	*dbus.Error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.shown, n.leads = append(n.shown, summary+": "+body), append(n.leads, len(actions) == 2 && actions[0] == "default")
	return uint32(len(n.shown)), nil
}

func (*notifier) GetCapabilities() ([]string, *dbus.Error) {
	return []string{"actions", "body", "body-markup"}, nil
}

// TestANoticeLeadsToItsPage: over a real bus, to a stand-in for a desktop's notifier.
func TestANoticeLeadsToItsPage(t *testing.T) {
	folder := t.TempDir()
	socket := filepath.Join(folder, "bus")
	config := filepath.Join(folder, "bus.conf")
	if err := os.WriteFile(config, []byte(strings.ReplaceAll(busConfig, "SOCKET", socket)), 0o644); err != nil {
		t.Fatal(err)
	}
	daemon := exec.Command("dbus-daemon", "--config-file="+config, "--nofork", "--print-address=1")
	out, err := daemon.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := daemon.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = daemon.Process.Kill()
		_ = daemon.Wait()
	})
	line := bufio.NewScanner(out)
	if !line.Scan() {
		t.Fatal("the bus did not start")
	}
	t.Setenv("DBUS_SESSION_BUS_ADDRESS", line.Text())
	conn, err := dbus.ConnectSessionBus()
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	n := &notifier{}
	const name, path = "org.freedesktop.Notifications", "/org/freedesktop/Notifications"
	if err := conn.Export(n, path, name); err != nil {
		t.Fatal(err)
	}
	if got, err := conn.RequestName(name, dbus.NameFlagDoNotQueue); err != nil || got != dbus.RequestNameReplyPrimaryOwner {
		t.Fatal(got, err)
	}

	opened := make(chan string, 1)
	to := lead{page: "/p/brinelight/asset/a.png", open: func() { opened <- "a.png" }}
	d := newDesktop()
	d.show("brinelight", watching.Notice{Message: `rurik asks for a.png: <a href="x">now</a> & here`, News: news.Asked, Yours: true}, to)
	d.show("brinelight", watching.Notice{Message: "nothing of one's own", News: news.Asked}, to)
	d.show("brinelight", watching.Notice{Message: "it leads nowhere", News: news.Asked, Yours: true}, lead{})
	n.mu.Lock()
	if want := []string{"brinelight: rurik asks for a.png: &lt;a href=&#34;x&#34;&gt;now&lt;/a&gt; &amp; here",
		"brinelight: it leads nowhere"}; strings.Join(n.shown, "\n") != strings.Join(want, "\n") || !n.leads[0] || n.leads[1] {
		t.Errorf("%q, %v", n.shown, n.leads)
	}
	n.mu.Unlock()
	for range 2 { // a second time it leads nowhere
		if err := conn.Emit(path, name+".ActionInvoked", uint32(1), "default"); err != nil {
			t.Fatal(err)
		}
	}
	select {
	case got := <-opened:
		if got != "a.png" {
			t.Error(got)
		}
	case <-time.After(10 * time.Second):
		t.Error("nothing was opened")
	}
	select {
	case <-opened:
		t.Error("it was opened twice")
	case <-time.After(200 * time.Millisecond):
	}
}
