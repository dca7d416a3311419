package api

import (
	"bufio"
	"errors"
	"io"
	"net/http"
	"strconv"
	"strings"

	"github.com/fxamacker/cbor/v2"
	"github.com/labstack/echo/v5"

	"kettletarn/internal/core/chunk"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/pack"
)

// maxUpload is the most bytes of one request that brings content.
const maxUpload = 32 << 20

// incoming reads the records of a request.
func incoming(d *pack.Reader) func() (pack.Record, error) {
	return func() (pack.Record, error) {
		record, err := d.Next()
		return record, malformed(err)
	}
}

func malformed(err error) error {
	var tooLarge *http.MaxBytesError
	switch {
	case err == nil || err == io.EOF || errors.As(err, &tooLarge):
		return err
	case errors.Is(err, io.ErrUnexpectedEOF):
		return model.NewProblem(model.BadRequest, "send it again", "the body was cut off")
	}
	return model.NewProblem(model.BadRequest, "", "the body is not the CBOR sequence that is expected here: %v", err)
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
	d := pack.NewReader(c.Request().Body)
	defer d.Free()
	n, err := s.service.StoreChunks(c.Request().Context(), c.actor, c.project(), incoming(d))
	if err != nil {
		return err
	}
	return c.answer(model.Stored{Chunks: n})
}

// suspect looks at chunks that somebody could not read.
func (s *Server) suspect(c *call) error {
	var q model.Digests
	if err := c.decode(&q); err != nil {
		return err
	}
	damaged, err := s.service.Suspect(c.Request().Context(), c.actor, c.project(), q.Digests)
	if err != nil {
		return err
	}
	return c.answer(model.Digests{Digests: append([]chunk.Digest{}, damaged...)})
}

func (s *Server) fetchChunks(c *call) error {
	var q model.Digests
	if err := c.decode(&q); err != nil {
		return err
	}
	if !strings.Contains(c.Request().Header.Get("Accept"), model.RecordsAccepted) {
		return s.fetchPlain(c, q)
	}
	f, err := s.service.Fetch(c.Request().Context(), c.actor, c.project(), q.Digests)
	if err != nil {
		return err
	}
	defer f.Close()
	response, err := echo.UnwrapResponse(c.Response())
	if err != nil {
		return err
	}
	response.Header().Set("Content-Type", model.CBORSequence)
	if f.Size() >= 0 {
		response.Header().Set("Content-Length", strconv.FormatInt(f.Size(), 10))
	}
	err = f.WriteTo(c.Request().Context(), direct{response})
	if err != nil && !response.Committed {
		response.Header().Del("Content-Length")
	}
	return err
}

// direct is a response into which the system may send files by itself.
type direct struct{ *echo.Response }

// ReadFrom passes a part of a file on to the connection.
func (d direct) ReadFrom(src io.Reader) (int64, error) {
	to, can := d.ResponseWriter.(io.ReaderFrom)
	if !can {
		return io.Copy(struct{ io.Writer }{d.Response}, src)
	}
	if !d.Committed {
		d.WriteHeader(http.StatusOK)
	}
	n, err := to.ReadFrom(src)
	d.Size += n
	return n, err
}

// fetchPlain is fetchChunks for a client of an earlier release, which knows no S2 and tells of no damage.
func (s *Server) fetchPlain(c *call, q model.Digests) error {
	out := bufio.NewWriterSize(c.Response(), 256<<10)
	var head []byte
	c.Response().Header().Set("Content-Type", model.CBORSequence)
	if err := s.service.FetchChunks(c.Request().Context(), c.actor, c.project(), q.Digests, func(r pack.Record) error {
		plain, err := r.Decode(nil)
		if err != nil {
			return s.damagedFor(c, r.Digest)
		}
		if r.Codec == pack.S2 {
			r.Codec, r.Data = pack.Plain, plain
		}
		head = pack.AppendHead(head[:0], r)
		if _, err := out.Write(head); err != nil {
			return err
		}
		_, err = out.Write(r.Data)
		return err
	}); err != nil {
		return err
	}
	return out.Flush()
}

// damagedFor does for a client that knows no better what others do for themselves: it has the damage looked at.
func (s *Server) damagedFor(c *call, d chunk.Digest) error {
	if _, err := s.service.Suspect(c.Request().Context(), c.actor, c.project(), []chunk.Digest{d}); err != nil {
		return err
	}
	return model.NewProblem(model.Damaged, "a workspace that has the file can give it back: ask your team to run tarn heal",
		"the service can't read chunk %s back as it was stored", d)
}

// sendBody reads a send: a JSON object, or a CBOR sequence whose first item is that object in a text string, and which brings content
// behind it.
func (s *Server) sendBody(c *call) (q model.SendRequest, bring func() (pack.Record, error), err error) {
	if !strings.HasPrefix(c.Request().Header.Get("Content-Type"), model.CBORSequence) {
		return q, nil, c.decode(&q)
	}
	body := bufio.NewReaderSize(http.MaxBytesReader(c.Response(), c.Request().Body, maxUpload), 64<<10)
	var text string
	d := cbor.NewDecoder(body)
	if err := d.Decode(&text); err != nil {
		return q, nil, malformed(err)
	}
	if err := strictly([]byte(text), &q); err != nil {
		return q, nil, err
	}
	return q, incoming(pack.NewReader(io.MultiReader(d.Buffered(), body))), nil
}

// wanted lists content that the service lost.
func (s *Server) wanted(c *call) error {
	list, err := s.service.Wanted(c.Request().Context(), c.actor, c.project())
	if err != nil {
		return err
	}
	return c.answer(model.Digests{Digests: append([]chunk.Digest{}, list...)})
}
