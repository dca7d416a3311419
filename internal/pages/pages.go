// Package pages serves the console's files, to whoever looks at it at the service or at the desk.
package pages

import (
	"bytes"
	"compress/gzip"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"
	"sync"
	"time"

	"kettletarn/internal/core/chunk"
)

// Headers are those of every answer that a browser gets: what a page may load and run is this program's own.
func Headers(h http.Header) {
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "same-origin")
	h.Set("Content-Security-Policy", "default-src 'self'; script-src 'self' 'wasm-unsafe-eval'; img-src 'self' data: blob:; "+
		"style-src 'self' 'unsafe-inline'; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
}

// page is a file of the console as it is sent: its digest as ETag, and packed where that makes it smaller.
type page struct {
	kind, tag    string
	data, packed []byte
}

// Serve serves the console's files; every address that is none of them is the console's own, which looks at it itself. Files below assets/
// have their digest in their names, and never change. index, where not nil, changes the page that all begins with.
func Serve(console fs.FS, index func([]byte) []byte) http.Handler {
	var kept sync.Map
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(r.URL.Path, "/")
		if info, err := fs.Stat(console, name); name == "" || err != nil || info.IsDir() {
			if strings.HasPrefix(name, "assets/") {
				http.NotFound(w, r)
				return
			}
			name = "index.html"
		}
		read, _ := kept.LoadOrStore(name, sync.OnceValues(func() (*page, error) { return readPage(console, name, index) }))
		p, err := read.(func() (*page, error))()
		if err != nil {
			kept.Delete(name)
			http.Error(w, "this program was built without the console", http.StatusInternalServerError)
			return
		}
		h := w.Header()
		h.Set("Cache-Control", "no-cache")
		if strings.HasPrefix(name, "assets/") {
			h.Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		h.Set("Content-Type", p.kind)
		h.Set("Vary", "Accept-Encoding")
		data, tag := p.data, p.tag
		if p.packed != nil && acceptsGzip(r) {
			h.Set("Content-Encoding", "gzip")
			data, tag = p.packed, p.tag+"-gzip"
		}
		h.Set("ETag", `"`+tag+`"`)
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(data))
	})
}

func readPage(console fs.FS, name string, index func([]byte) []byte) (*page, error) {
	data, err := fs.ReadFile(console, name)
	if err != nil {
		return nil, err
	}
	if name == "index.html" && index != nil {
		data = index(data)
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
