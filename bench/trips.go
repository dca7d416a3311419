package main

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"sort"
	"sync"
	"sync/atomic"
	"time"

	"kettletarn/internal/rig"
)

// farAway is how long a request and its answer are on their way through the delaying proxy.
const farAway = 80 * time.Millisecond

// between stands between client and service: it may delay each request, and counts requests and bytes.
type between struct {
	url   string
	delay time.Duration
	bytes atomic.Int64
	open  sync.WaitGroup // calls that are not noted yet
	mu    sync.Mutex
	calls [][2]time.Time
	close func()
}

func (b *bench) between(delay time.Duration) (*between, error) {
	target, err := url.Parse(b.daemon.URL)
	if err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	p := &between{url: "http://" + listener.Addr().String(), delay: delay}
	proxy := httputil.NewSingleHostReverseProxy(target)
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p.open.Add(1)
		defer p.open.Done()
		start := time.Now()
		time.Sleep(p.delay)
		proxy.ServeHTTP(w, r)
		p.mu.Lock()
		p.calls = append(p.calls, [2]time.Time{start, time.Now()})
		p.mu.Unlock()
	})}
	go func() { _ = server.Serve(&countingListener{listener, &p.bytes}) }()
	p.close = func() { _ = server.Close() }
	return p, nil
}

// sequential is how many calls of those since the last look had to wait for one another.
func (p *between) sequential() int {
	p.open.Wait()
	p.mu.Lock()
	defer p.mu.Unlock()
	calls := p.calls
	p.calls = nil
	sort.Slice(calls, func(i, j int) bool { return calls[i][1].Before(calls[j][1]) })
	n := 0
	var end time.Time
	for _, c := range calls {
		if !c[0].Before(end) {
			n, end = n+1, c[1]
		}
	}
	return n
}

// countingListener counts what its connections carry, both ways.
type countingListener struct {
	net.Listener
	bytes *atomic.Int64
}

func (l *countingListener) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	return &countingConn{c, l.bytes}, err
}

type countingConn struct {
	net.Conn
	bytes *atomic.Int64
}

func (c *countingConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.bytes.Add(int64(n))
	return n, err
}

func (c *countingConn) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	c.bytes.Add(int64(n))
	return n, err
}

var _ io.ReadWriter = (*countingConn)(nil)

// through is a machine that reaches the service through a proxy only.
func (b *bench) through(p *between, name string) (rig.Machine, error) {
	m := rig.Machine{Bin: b.bin, Home: filepath.Join(b.folder, name), Handle: "odile"}
	if err := os.MkdirAll(m.Home, 0o755); err != nil {
		return m, err
	}
	_, err := b.run(m, m.Home, passphrase+"\n", "sign-in", p.url, "--as", "odile")
	return m, err
}

// trips is S12: how many round trips commands take one after the other.
func (b *bench) trips() error {
	p, err := b.between(farAway)
	if err != nil {
		return err
	}
	defer p.close()
	m, err := b.through(p, "far")
	if err != nil {
		return err
	}
	key := b.freshKey()
	work := filepath.Join(b.folder, key)
	for i := range 50 {
		if err := os.MkdirAll(filepath.Join(work, "levels"), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(work, "levels", fmt.Sprintf("f%02d.txt", i)), []byte(fmt.Sprint("text ", i)), 0o644); err != nil {
			return err
		}
	}
	if _, err := b.run(m, work, "", "start", key, "--yes", "--json"); err != nil {
		return err
	}
	for _, c := range []struct {
		what string
		args []string
		goal int
	}{
		{"`tarn status`", []string{"status"}, 0},
		{"`tarn lock` of 50 assets", []string{"lock", "levels"}, 1},
		{"`tarn unlock` of them", []string{"unlock", "levels"}, 1},
		{"`tarn holders`", []string{"holders"}, 1},
		{"`tarn history` of one asset", []string{"history", "levels/f07.txt"}, 1},
		{"`tarn lock` of them again", []string{"lock", "levels"}, 1},
		{"`tarn send` of a small change", []string{"send", "-m", "a pass"}, 2},
		{"`tarn update` with nothing new", []string{"update"}, 1},
	} {
		if c.args[0] == "send" {
			if err := os.WriteFile(filepath.Join(work, "levels", "f07.txt"), []byte("changed"), 0o644); err != nil {
				return err
			}
		}
		p.sequential()
		start := time.Now()
		if _, err := b.run(m, work, "", c.args...); err != nil {
			return err
		}
		took, n := time.Since(start), p.sequential()
		b.row("S12", c.what+", 80 ms from the service", fmt.Sprintf("%.2f s", took.Seconds()), "none", fmt.Sprintf("%d round trips", n),
			fmt.Sprint(c.goal), n <= c.goal)
	}
	return os.RemoveAll(work)
}
