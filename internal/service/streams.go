package service

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"unicode/utf8"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/zstd"
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
	// What comes as zstd is kept as it came.
	var packed bytes.Buffer
	if c.GetHeader("Content-Encoding") == "zstd" {
		c.Request.Body = io.NopCloser(io.TeeReader(c.Request.Body, &packed))
	}
	lines, err := s.body(c)
	if err != nil {
		return err
	}
	accepted, err := s.Hub.PutBatch(c.Request.Context(), stream, n, lines, packed.Bytes())
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, accepted)
	return nil
}

// body reads a batch, unpacked, within its bound.
func (s *service) body(c *gin.Context) ([]byte, error) {
	in := http.MaxBytesReader(c.Writer, c.Request.Body, s.MaxBatch)
	plain, err := decoded(in, c.GetHeader("Content-Encoding"))
	if err != nil {
		return nil, err
	}
	defer plain.Close()
	var buf bytes.Buffer
	if n := c.Request.ContentLength; n > 0 {
		buf.Grow(int(min(n, s.MaxBatch)) + bytes.MinRead)
	}
	n, err := buf.ReadFrom(io.LimitReader(plain, s.MaxBatch+1))
	cut := (*http.MaxBytesError)(nil)
	switch {
	case n > s.MaxBatch || errors.As(err, &cut):
		return nil, &tooLarge{"the batch", s.MaxBatch}
	case err != nil:
		return nil, &badRequest{"the body could not be read: " + err.Error()}
	}
	return buf.Bytes(), nil
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
