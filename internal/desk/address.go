package desk

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/coder/websocket"

	"kettletarn/internal/workspace/disk"
)

// Address is where a running desk is found by its person's other processes, and the key that it wants to see from them. It lies in the
// person's state folder, in a file that nobody else can read.
type Address struct {
	At      string `json:"at"`
	Key     string `json:"key"`
	Version string `json:"version"`
	Process int    `json:"process"`
	// Program is the file of the program that runs, and Built when that was written, as it started.
	Program string    `json:"program"`
	Built   time.Time `json:"built"`
}

// program is the file of this program, and when it was written.
func program() (file string, built time.Time) {
	file, err := os.Executable()
	if err != nil {
		return "", built
	}
	info, err := os.Stat(file)
	if err != nil {
		return file, built
	}
	return file, info.ModTime().UTC()
}

// Outdated says that a desk is one of another release than this program, or was started from the same file before that was replaced.
func (a Address) Outdated(version string) bool {
	file, built := program()
	return a.Version != version || a.Program == file && !a.Built.Equal(built)
}

// ErrNone says that no desk runs.
var ErrNone = errors.New("your desk does not run on this machine; tarn desk starts it")

func addressFile() string { return filepath.Join(folder(), "address.json") }

func (a Address) write() error {
	text, err := json.Marshal(a)
	if err != nil {
		return err
	}
	return disk.WriteSynced(addressFile(), text)
}

// forgetAddress removes the address, where it is still that of the desk with a key.
func forgetAddress(key string) {
	if a, err := readAddress(); err == nil && a.Key == key {
		_ = os.Remove(addressFile())
	}
}

func readAddress() (a Address, err error) {
	text, err := disk.ReadSmall(addressFile(), 4<<10)
	if err == nil {
		err = json.Unmarshal(text, &a)
	}
	if err != nil || a.At == "" || a.Key == "" {
		return a, ErrNone
	}
	return a, nil
}

// Find is the address of the desk that runs now; ErrNone where none does.
func Find(ctx context.Context) (Address, error) {
	a, err := readAddress()
	if err != nil {
		return a, err
	}
	ctx, stop := context.WithTimeout(ctx, 3*time.Second)
	defer stop()
	var about About
	if err := a.post(ctx, "about", nil, &about); err != nil {
		return a, ErrNone
	}
	return a, nil
}

// Link is an address for a browser that lets whoever opens it first in, once, within a minute; it leads to a page of the console ("/desk").
func (a Address) Link(ctx context.Context, page string) (string, error) {
	var out struct{ Link string }
	err := a.post(ctx, "link", map[string]string{"page": page}, &out)
	return out.Link, err
}

// End ends the desk, and waits until it has.
func (a Address) End(ctx context.Context) error {
	if err := a.post(ctx, "end", nil, nil); err != nil {
		return err
	}
	for range 100 {
		if now, err := readAddress(); err != nil || now.Key != a.Key {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
	return fmt.Errorf("the desk (process %d) does not end", a.Process)
}

func (a Address) post(ctx context.Context, what string, q, out any) error {
	body, err := json.Marshal(q)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, a.At+"/desk/"+what, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+a.Key)
	answer, err := (&http.Client{Transport: &http.Transport{DisableKeepAlives: true}}).Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	if err != nil {
		return err
	}
	if answer.StatusCode != http.StatusOK {
		return fmt.Errorf("the desk answers %s", answer.Status)
	}
	if out == nil {
		return nil
	}
	return json.Unmarshal(text, out)
}

// Dial opens a line of the local interface.
func (a Address) Dial(ctx context.Context) (*Line, error) {
	conn, _, err := websocket.Dial(ctx, a.At+"/desk/line", &websocket.DialOptions{
		HTTPHeader: http.Header{"Authorization": {"Bearer " + a.Key}}, CompressionMode: websocket.CompressionDisabled})
	if err != nil {
		return nil, err
	}
	return newLine(ctx, conn), nil
}
