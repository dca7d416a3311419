package admission

import (
	"io"
	"net"
	"testing"
	"time"
)

func TestOnlySoManyConnectionsAreOpen(t *testing.T) {
	below, err := net.ListenTCP("tcp", &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	l := Limit(below, 2)
	taken := make(chan net.Conn)
	ended := make(chan error, 1)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				ended <- err
				return
			}
			taken <- c
		}
	}()
	for range 3 {
		c, err := net.Dial("tcp", below.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
	}
	first, second := <-taken, <-taken
	if _, can := first.(io.ReaderFrom); !can {
		t.Error("files can't be sent into a connection")
	}
	select {
	case <-taken:
		t.Fatal("a third one was let in")
	case <-time.After(50 * time.Millisecond):
	}
	if err := first.Close(); err != nil {
		t.Fatal(err)
	}
	_ = first.Close() // makes room once only
	third := <-taken
	defer third.Close()
	defer second.Close()
	if len(l.(*limited).open) != 2 {
		t.Errorf("%d count as open", len(l.(*limited).open))
	}
	// It ends while it waits for room.
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	if err := <-ended; err == nil {
		t.Error("it has no end")
	}
}
