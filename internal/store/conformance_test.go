package store_test

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"kettletarn/internal/store"
	"kettletarn/internal/store/storetest"
)

func TestDirectory(t *testing.T) {
	s, err := store.OpenDirectory(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	if err := storetest.Run(t.Context(), s); err != nil {
		t.Error(err)
	}
}

// bucket starts an S3 server on loopback and makes a bucket. make test builds the server.
func bucket(t *testing.T) store.ObjectsOptions {
	t.Helper()
	server, err := filepath.Abs("../../bin/tools/versitygw")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(server); err != nil {
		t.Skip("the S3 server is not built; make test builds it")
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := listener.Addr().String()
	_ = listener.Close()
	root := t.TempDir()
	data, meta := filepath.Join(root, "data"), filepath.Join(root, "meta")
	for _, folder := range []string{data, meta} {
		if err := os.Mkdir(folder, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	key, secret := "tarn-"+rand.Text()[:8], rand.Text()
	cmd := exec.Command(server, "--quiet", "--port", address, "--access", key, "--secret", secret, "posix", "--sidecar", meta, data)
	cmd.Env = append(os.Environ(), "HOME="+root)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	client, err := minio.New(address, &minio.Options{Creds: credentials.NewStaticV4(key, secret, ""), Region: "us-east-1"})
	if err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		if err = client.MakeBucket(t.Context(), "packs", minio.MakeBucketOptions{}); err == nil {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("the S3 server does not come up: %v", err)
		}
	}
	return store.ObjectsOptions{URL: "http://" + address + "/packs", Region: "us-east-1", AccessKey: key, SecretKey: secret,
		Spool: filepath.Join(root, "spool")}
}

func TestObjects(t *testing.T) {
	options := bucket(t)
	for _, prefix := range []string{"", "/team/one"} {
		with := options
		with.URL += prefix
		s, err := store.OpenObjects(t.Context(), with)
		if err != nil {
			t.Fatal(err)
		}
		if err := storetest.Run(t.Context(), s); err != nil {
			t.Errorf("prefix %q: %v", prefix, err)
		}
		// What the next prefix lists is its own; without one, everything would be.
		if err := s.List(t.Context(), "", func(i store.Info) error { return s.Remove(t.Context(), i.Name) }); err != nil {
			t.Error(err)
		}
		if left, _ := os.ReadDir(options.Spool); len(left) > 0 {
			t.Errorf("%d files are left on their way", len(left))
		}
	}
}

func TestObjectsSayWhatIsWrong(t *testing.T) {
	options := bucket(t)
	for name, c := range map[string]struct {
		change func(*store.ObjectsOptions)
		says   string
	}{
		"no bucket":    {func(o *store.ObjectsOptions) { o.URL = strings.TrimSuffix(o.URL, "/packs") }, "names no bucket"},
		"other bucket": {func(o *store.ObjectsOptions) { o.URL += "-others" }, "has no bucket"},
		"no address":   {func(o *store.ObjectsOptions) { o.URL = "packs" }, "not the address"},
		"wrong secret": {func(o *store.ObjectsOptions) { o.SecretKey = "wrong" }, "can't be used"},
	} {
		with := options
		c.change(&with)
		if _, err := store.OpenObjects(t.Context(), with); err == nil || !strings.Contains(err.Error(), c.says) ||
			strings.Contains(err.Error(), "\n") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// failing is a network that breaks.
type failing struct {
	http.RoundTripper
	broken bool
	full   bool
}

func (f *failing) RoundTrip(r *http.Request) (*http.Response, error) {
	if f.broken {
		return nil, errors.New("no way there")
	}
	if f.full && r.Method == http.MethodPut {
		body := `<?xml version="1.0"?><Error><Code>QuotaExceeded</Code><Message>no room</Message></Error>`
		return &http.Response{StatusCode: http.StatusForbidden, Header: http.Header{"Content-Type": {"application/xml"}},
			Body: io.NopCloser(strings.NewReader(body)), Request: r}, nil
	}
	return f.RoundTripper.RoundTrip(r)
}

func TestAnObjectStoreThatFailsIsNoLoss(t *testing.T) {
	options := bucket(t)
	network := &failing{RoundTripper: http.DefaultTransport}
	options.Transport = network
	s, err := store.OpenObjects(t.Context(), options)
	if err != nil {
		t.Fatal(err)
	}
	put := func(name string) error {
		return s.Put(t.Context(), name, func(w io.Writer) error {
			_, err := fmt.Fprint(w, "brine")
			return err
		})
	}
	if err := put("p1/a.pack"); err != nil {
		t.Fatal(err)
	}
	network.full = true
	if err := put("p1/b.pack"); !errors.Is(err, store.ErrFull) {
		t.Errorf("a full store says %v", err)
	}
	network.full, network.broken = false, true
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
	defer cancel()
	if _, err := s.Open(ctx, "p1/a.pack"); err == nil || errors.Is(err, store.ErrNotFound) {
		t.Errorf("an object that can't be asked for: %v", err)
	}
	network.broken = false
	if o, err := s.Open(t.Context(), "p1/a.pack"); err != nil || o.Size() != 5 {
		t.Errorf("afterwards: %v", err)
	}
	if _, err := s.Open(t.Context(), "p1/b.pack"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("what was refused: %v", err)
	}
}
