package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// Objects is a Store in a bucket of an S3-compatible object store.
type Objects struct {
	client *minio.Client
	bucket string
	prefix string
	spool  string
}

// ObjectsOptions say where the bucket is. URL is http or https, host, and the bucket as the path, with a prefix for names behind it
// where one is wanted.
type ObjectsOptions struct {
	URL, Region, AccessKey, SecretKey string
	// Spool is a folder for a pack while it is written: an object has to have its size said first.
	Spool string
	// Transport may be nil.
	Transport http.RoundTripper
}

// OpenObjects opens the store. The bucket has to be there.
func OpenObjects(ctx context.Context, o ObjectsOptions) (*Objects, error) {
	u, err := url.Parse(o.URL)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil || u.RawQuery != "" {
		return nil, fmt.Errorf("%q is not the address of a bucket; it looks like https://objects.example:9000/tarn-packs", o.URL)
	}
	bucket, prefix, _ := strings.Cut(strings.Trim(u.Path, "/"), "/")
	if bucket == "" {
		return nil, fmt.Errorf("the address %s names no bucket; it looks like https://objects.example:9000/tarn-packs", o.URL)
	}
	if prefix != "" {
		prefix += "/"
	}
	if err := os.MkdirAll(o.Spool, 0o700); err != nil {
		return nil, fmt.Errorf("the folder %s for packs on their way can't be made: %w", o.Spool, reason(err))
	}
	client, err := minio.New(u.Host, &minio.Options{Creds: credentials.NewStaticV4(o.AccessKey, o.SecretKey, ""), Secure: u.Scheme == "https",
		Region: o.Region, Transport: o.Transport, BucketLookup: minio.BucketLookupPath, MaxRetries: 4})
	if err != nil {
		return nil, fmt.Errorf("the object store %s can't be used: %w", o.URL, err)
	}
	s := &Objects{client: client, bucket: bucket, prefix: prefix, spool: o.Spool}
	there, err := client.BucketExists(ctx, bucket)
	if err != nil {
		return nil, fmt.Errorf("the object store at %s can't be used: %w", u.Host, err)
	}
	if !there {
		return nil, fmt.Errorf("the object store at %s has no bucket %s; make it first", u.Host, bucket)
	}
	return s, nil
}

// Put writes to a file first, then sends it whole: an object appears at once or not at all, and the store has it durable when it says so.
func (s *Objects) Put(ctx context.Context, name string, write func(io.Writer) error) (err error) {
	if err := checkName(name); err != nil {
		return err
	}
	f, err := os.CreateTemp(s.spool, "put-")
	if err != nil {
		return full(err)
	}
	defer func() {
		_ = f.Close()
		_ = os.Remove(f.Name())
	}()
	if err := write(f); err != nil {
		return full(err)
	}
	size, err := f.Seek(0, io.SeekCurrent)
	if err != nil {
		return err
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	// The condition is the store's to check; one that does not know it is asked before.
	if _, err := s.client.StatObject(ctx, s.bucket, s.prefix+name, minio.StatObjectOptions{}); err == nil {
		return fmt.Errorf("%s is in the store already", name)
	}
	options := minio.PutObjectOptions{ContentType: "application/octet-stream", DisableMultipart: true}
	options.SetMatchETagExcept("*")
	_, err = s.client.PutObject(ctx, s.bucket, s.prefix+name, f, size, options)
	return fullStore(err)
}

// fullStore recognises the ways in which object stores say that there is no room.
func fullStore(err error) error {
	if err == nil {
		return nil
	}
	switch r := minio.ToErrorResponse(err); {
	case r.StatusCode == http.StatusInsufficientStorage, r.Code == "XMinioStorageFull", r.Code == "QuotaExceeded":
		return fmt.Errorf("%w (%w)", ErrFull, err)
	}
	return err
}

func notFound(err error) bool {
	var r minio.ErrorResponse
	return errors.As(err, &r) && (r.Code == minio.NoSuchKey || r.StatusCode == http.StatusNotFound)
}

// object is one that is being read, with a request for every read.
type object struct {
	ctx  context.Context
	s    *Objects
	name string
	size int64
}

// Open asks for the object's size.
func (s *Objects) Open(ctx context.Context, name string) (Object, error) {
	if err := checkName(name); err != nil {
		return nil, err
	}
	info, err := s.client.StatObject(ctx, s.bucket, s.prefix+name, minio.StatObjectOptions{})
	if notFound(err) {
		return nil, fmt.Errorf("%s: %w", name, ErrNotFound)
	}
	if err != nil {
		return nil, err
	}
	return &object{ctx: ctx, s: s, name: name, size: info.Size}, nil
}

func (o *object) Size() int64  { return o.size }
func (o *object) Close() error { return nil }

func (o *object) ReadAt(p []byte, at int64) (int, error) {
	if at < 0 || at >= o.size {
		return 0, io.EOF
	}
	if len(p) == 0 {
		return 0, nil
	}
	options := minio.GetObjectOptions{}
	if err := options.SetRange(at, min(at+int64(len(p)), o.size)-1); err != nil {
		return 0, err
	}
	body, _, _, err := (&minio.Core{Client: o.s.client}).GetObject(o.ctx, o.s.bucket, o.s.prefix+o.name, options)
	if notFound(err) {
		return 0, fmt.Errorf("%s: %w", o.name, ErrNotFound)
	}
	if err != nil {
		return 0, err
	}
	defer body.Close()
	n, err := io.ReadFull(body, p[:min(int64(len(p)), o.size-at)])
	if err == nil && n < len(p) {
		err = io.EOF
	}
	return n, err
}

// Remove deletes an object.
func (s *Objects) Remove(ctx context.Context, name string) error {
	if err := checkName(name); err != nil {
		return err
	}
	if err := s.client.RemoveObject(ctx, s.bucket, s.prefix+name, minio.RemoveObjectOptions{}); err != nil && !notFound(err) {
		return err
	}
	return nil
}

// List asks page by page.
func (s *Objects) List(ctx context.Context, prefix string, each func(Info) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	for o := range s.client.ListObjects(ctx, s.bucket, minio.ListObjectsOptions{Prefix: s.prefix + prefix, Recursive: true}) {
		if o.Err != nil {
			return o.Err
		}
		name := strings.TrimPrefix(o.Key, s.prefix)
		if checkName(name) != nil {
			continue
		}
		if err := each(Info{Name: name, Size: o.Size, Modified: o.LastModified}); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// Free is not known of an object store; whether it can be reached at all is looked at here.
func (s *Objects) Free(ctx context.Context) (int64, error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	_, err := s.client.BucketExists(ctx, s.bucket)
	return -1, err
}
