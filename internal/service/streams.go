package service

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"sync"
	"unicode/utf8"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/zstd"

	"keenlantern.example/internal/ingest"
)

// maxStreamName bounds a stream's name in bytes; a UUID has 36.
const maxStreamName = 200

func (s *service) putBatch(c *gin.Context) error {
	stream := c.Param("stream")
	if len(stream) > maxStreamName || !utf8.ValidString(stream) {
		return &badRequest{fmt.Sprintf("a stream's name has at most %d bytes of UTF-8", maxStreamName)}
	}
	n, err := strconv.ParseInt(c.Param("n"), 10, 64)
	if err != nil {
		return &badRequest{fmt.Sprintf("%q is no batch number; batches are numbered from 1", c.Param("n"))}
	}
	// Before a byte of it is read: a service that is behind must not grow by what it puts off.
	if c.Request.ContentLength > s.MaxBatch {
		return &tooLarge{"the batch", s.MaxBatch}
	}
	room := max(c.Request.ContentLength, min(64<<10, s.MaxBatch))
	if !s.Hub.Reserve(room) {
		return ingest.ErrBusy
	}
	reserved := true
	unreserve := func() {
		if reserved {
			s.Hub.Unreserve(room)
		}
		reserved = false
	}
	defer unreserve()
	// What comes as zstd is kept as it came.
	b := bodies.Get().(*bodyOf)
	b.packed.Reset()
	if c.GetHeader("Content-Encoding") == "zstd" {
		c.Request.Body = io.NopCloser(io.TeeReader(c.Request.Body, &b.packed))
	}
	if err := s.body(c, &b.lines); err != nil {
		bodies.Put(b)
		return err
	}
	unreserve() // the hub counts it from here
	accepted, err := s.Hub.PutBatch(c.Request.Context(), stream, ingest.Batch{
		N: n, Lines: b.lines.Bytes(), Packed: b.packed.Bytes(), Free: func() { bodies.Put(b) },
	})
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, accepted)
	return nil
}

// bodyOf is where a batch is read to, as it came where that was zstd, and plain.
type bodyOf struct{ packed, lines bytes.Buffer }

// bodies are used again and again: there are many, and what they leave behind would double the service's memory.
var bodies = sync.Pool{New: func() any { return &bodyOf{} }}

// body reads a batch into buf, unpacked, within its bound.
func (s *service) body(c *gin.Context, buf *bytes.Buffer) error {
	buf.Reset()
	in := http.MaxBytesReader(c.Writer, c.Request.Body, s.MaxBatch)
	plain, err := decoded(in, c.GetHeader("Content-Encoding"))
	if err != nil {
		return err
	}
	defer plain.Close()
	if n := c.Request.ContentLength; n > 0 {
		buf.Grow(int(min(n, s.MaxBatch)) + bytes.MinRead)
	}
	n, err := buf.ReadFrom(io.LimitReader(plain, s.MaxBatch+1))
	cut := (*http.MaxBytesError)(nil)
	switch {
	case n > s.MaxBatch || errors.As(err, &cut):
		return &tooLarge{"the batch", s.MaxBatch}
	case err != nil:
		return &badRequest{"the body could not be read: " + err.Error()}
	}
	return nil
}

// decoded unpacks a body by its Content-Encoding.
func decoded(in io.Reader, encoding string) (io.ReadCloser, error) {
	switch encoding {
	case "", "identity":
		return io.NopCloser(in), nil
	case "gzip":
		z, err := gzip.NewReader(in)
		if err != nil {
			return nil, &badRequest{"the body is said to be gzip and is not: " + err.Error()}
		}
		return z, nil
	case "zstd":
		z, err := zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(32<<20))
		if err != nil {
			return nil, &badRequest{"the body is said to be zstd and is not: " + err.Error()}
		}
		return z.IOReadCloser(), nil
	}
	return nil, &badRequest{fmt.Sprintf("content encoding %q is not known; use gzip, zstd or none", encoding)}
}

func (s *service) postRecording(c *gin.Context) error {
	in := http.MaxBytesReader(c.Writer, c.Request.Body, s.MaxFile)
	plain, err := decoded(in, c.GetHeader("Content-Encoding"))
	if err != nil {
		return err
	}
	defer plain.Close()
	summary, err := s.Hub.PutFile(c.Request.Context(), plain)
	if err != nil {
		return err
	}
	c.Header("Location", "/api/v1/recordings/"+summary.ID)
	c.JSON(http.StatusCreated, summary)
	return nil
}
