package desk

import (
	"context"
	"errors"
	"io"

	"github.com/coder/websocket"
)

// maxMessage is how long one message may be, in bytes: a list of a hundred thousand paths fits.
const maxMessage = 64 << 20

// Line carries messages of the local interface over a web socket: the channel.Channel of package jrpc2.
type Line struct {
	ctx  context.Context
	conn *websocket.Conn
}

func newLine(ctx context.Context, conn *websocket.Conn) *Line {
	conn.SetReadLimit(maxMessage)
	return &Line{ctx: ctx, conn: conn}
}

// Send sends one message.
func (l *Line) Send(message []byte) error { return l.conn.Write(l.ctx, websocket.MessageText, message) }

// Recv waits for one; io.EOF says that the other side has closed the line.
func (l *Line) Recv() ([]byte, error) {
	_, message, err := l.conn.Read(l.ctx)
	var closed websocket.CloseError
	if errors.As(err, &closed) || errors.Is(err, io.EOF) || l.ctx.Err() != nil {
		err = io.EOF
	}
	return message, err
}

// Close closes it.
func (l *Line) Close() error {
	_ = l.conn.Close(websocket.StatusNormalClosure, "")
	return nil
}
