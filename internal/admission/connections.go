package admission

import (
	"net"
	"sync"
)

// Limit is a listener of which no more than most connections are open at once; others wait. Its connections are those of l in full, so that
// the system may send files into them.
func Limit(l *net.TCPListener, most int) net.Listener {
	return &limited{TCPListener: l, open: make(chan struct{}, most), closed: make(chan struct{})}
}

type limited struct {
	*net.TCPListener
	open   chan struct{}
	closed chan struct{}
	once   sync.Once
}

// Accept waits for room, and for a connection.
func (l *limited) Accept() (net.Conn, error) {
	select {
	case l.open <- struct{}{}:
	case <-l.closed:
		return nil, net.ErrClosed
	}
	c, err := l.AcceptTCP()
	if err != nil {
		<-l.open
		return nil, err
	}
	return &counted{TCPConn: c, leave: sync.OnceFunc(func() { <-l.open })}, nil
}

// Close ends it, and whoever waits for room.
func (l *limited) Close() error {
	l.once.Do(func() { close(l.closed) })
	return l.TCPListener.Close()
}

type counted struct {
	*net.TCPConn
	leave func()
}

// Close makes room for another one.
func (c *counted) Close() error {
	err := c.TCPConn.Close()
	c.leave()
	return err
}
