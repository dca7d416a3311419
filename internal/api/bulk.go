package api

import (
	"errors"
	"io"
	"net/http"

	"github.com/fxamacker/cbor/v2"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
)

// Bounds of bulk bodies in bytes: an upload of chunks, and manifests (the manifest of 400 GiB has about 64 MiB).
const (
	maxUpload    = 32 << 20
	maxManifests = 64 << 20
)

// decMode reads CBOR from outside: nothing nested deeply, no indefinite lengths, arrays up to the size of a large manifest.
var decMode = func() cbor.DecMode {
	m, err := cbor.DecOptions{MaxNestedLevels: 8, MaxArrayElements: 1 << 21, IndefLength: cbor.IndefLengthForbidden, TagsMd: cbor.TagsForbidden}.DecMode()
	if err != nil {
		panic(err)
	}
	return m
}()

// sequence reads a CBOR sequence item by item; after the last one it gives io.EOF.
func sequence(w http.ResponseWriter, r *http.Request, limit int64) func(any) error {
	d := decMode.NewDecoder(http.MaxBytesReader(w, r.Body, limit))
	return func(into any) error {
		err := d.Decode(into)
		var tooLarge *http.MaxBytesError
		switch {
		case err == nil || err == io.EOF || errors.As(err, &tooLarge):
			return err
		case errors.Is(err, io.ErrUnexpectedEOF):
			return model.NewProblem(model.BadRequest, "send it again", "the body was cut off")
		}
		return model.NewProblem(model.BadRequest, "", "the body is not the CBOR sequence that is expected here: %v", err)
	}
}

func (s *Server) missingChunks(c *call) error {
	var q model.Digests
	if err := c.decode(&q); err != nil {
		return err
	}
	missing, err := s.service.MissingChunks(c.Request().Context(), c.actor, c.project(), q.Digests)
	if err != nil {
		return err
	}
	return c.answer(model.Digests{Digests: missing})
}

func (s *Server) storeChunks(c *call) error {
	next := sequence(c.Response(), c.Request(), maxUpload)
	n, err := s.service.StoreChunks(c.Request().Context(), c.actor, c.project(), func() (r pack.Record, err error) {
		err = next(&r)
		return r, err
	})
	if err != nil {
		return err
	}
	return c.answer(model.Stored{Chunks: n})
}

func (s *Server) fetchChunks(c *call) error {
	var q model.Digests
	if err := c.decode(&q); err != nil {
		return err
	}
	e := cbor.NewEncoder(c.Response())
	c.Response().Header().Set("Content-Type", model.CBORSequence)
	return s.service.FetchChunks(c.Request().Context(), c.actor, c.project(), q.Digests, func(r pack.Record) error { return e.Encode(r) })
}

func (s *Server) declareContents(c *call) error {
	next := sequence(c.Response(), c.Request(), maxManifests)
	var manifests []chunk.Manifest
	for {
		var m chunk.Manifest
		err := next(&m)
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		manifests = append(manifests, m)
	}
	if err := s.service.DeclareContents(c.Request().Context(), c.actor, c.project(), manifests); err != nil {
		return err
	}
	return c.answer(nil)
}

func (s *Server) manifests(c *call) error {
	var q model.Digests
	if err := c.decode(&q); err != nil {
		return err
	}
	list, err := s.service.Manifests(c.Request().Context(), c.actor, c.project(), q.Digests)
	if err != nil {
		return err
	}
	c.Response().Header().Set("Content-Type", model.CBORSequence)
	e := cbor.NewEncoder(c.Response())
	for i := range list {
		if err := e.Encode(list[i]); err != nil {
			return err
		}
	}
	return nil
}
