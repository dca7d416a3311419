package api

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"kettletarn/internal/core/chunk"
)

// page is a file of the console as it is sent: its digest as ETag, and packed where that makes it smaller.
type page struct {
	kind, tag    string
	data, packed []byte
}

// pages serves the console's files; every address that is none of them is the console's own, which looks at it itself. Files below assets/
// have their digest in their names, and never change.
func pages(console fs.FS) echo.HandlerFunc {
	var kept sync.Map
	return func(c *echo.Context) error {
		name := strings.TrimPrefix(c.Request().URL.Path, "/")
		if info, err := fs.Stat(console, name); name == "" || err != nil || info.IsDir() {
			if strings.HasPrefix(name, "assets/") {
				return echo.ErrNotFound
			}
			name = "index.html"
		}
		read, _ := kept.LoadOrStore(name, sync.OnceValues(func() (*page, error) { return readPage(console, name) }))
		p, err := read.(func() (*page, error))()
		if err != nil {
			kept.Delete(name)
			return fmt.Errorf("this tarnd was built without the console: %w", err)
		}
		h := c.Response().Header()
		h.Set("Cache-Control", "no-cache")
		if strings.HasPrefix(name, "assets/") {
			h.Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		h.Set("Content-Type", p.kind)
		h.Set("Vary", "Accept-Encoding")
		data, tag := p.data, p.tag
		if p.packed != nil && acceptsGzip(c.Request()) {
			h.Set("Content-Encoding", "gzip")
			data, tag = p.packed, p.tag+"-gzip"
		}
		h.Set("ETag", `"`+tag+`"`)
		http.ServeContent(c.Response(), c.Request(), "", time.Time{}, bytes.NewReader(data))
		return nil
	}
}

func readPage(console fs.FS, name string) (*page, error) {
	data, err := fs.ReadFile(console, name)
	if err != nil {
		return nil, err
	}
	p := &page{kind: mime.TypeByExtension(path.Ext(name)), tag: chunk.Sum(data).String()[:32], data: data}
	if p.kind == "" {
		p.kind = http.DetectContentType(data)
	}
	var packed bytes.Buffer
	w, err := gzip.NewWriterLevel(&packed, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(data); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	if packed.Len() < len(data)*9/10 {
		p.packed = packed.Bytes()
	}
	return p, nil
}

func acceptsGzip(r *http.Request) bool {
	for _, part := range strings.Split(r.Header.Get("Accept-Encoding"), ",") {
		if coding, weight, _ := strings.Cut(strings.TrimSpace(part), ";"); coding == "gzip" && strings.TrimSpace(weight) != "q=0" {
			return true
		}
	}
	return false
}

// packed packs answers in JSON to the console, where a browser far away waits for them; the client's are small or packed already, and what
// is streamed, or is a picture, is left as it is.
func packed() echo.MiddlewareFunc {
	return middleware.GzipWithConfig(middleware.GzipConfig{Level: 5, MinLength: 1400, Skipper: func(c *echo.Context) bool {
		r := c.Request()
		if _, err := r.Cookie(cookie); err != nil || r.Method != http.MethodGet {
			return true
		}
		for _, end := range []string{"/news", "/file", "/thumbnail", "/archive"} {
			if strings.HasSuffix(r.URL.Path, end) {
				return true
			}
		}
		return !strings.HasPrefix(r.URL.Path, Prefix)
	}})
}
