package service

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

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
	b, room, err := s.body(c)
	if err != nil {
		return err
	}
	var packed []byte
	if c.GetHeader("Content-Encoding") == "zstd" {
		packed = b.wire.Bytes() // it is kept as it came
	}
	room.Free() // the hub counts it from here
	accepted, err := s.Hub.PutBatch(c.Request.Context(), stream, ingest.Batch{
		N: n, Lines: b.lines(), Packed: packed, Owner: owner(c), Free: b.free,
	})
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, accepted)
	return nil
}

// postRecording takes a whole trace. It may be packed once: by its Content-Encoding, or as a file that is.
func (s *service) postRecording(c *gin.Context) error {
	patient, _ := c.Request.Body.(*patientBody)
	in := &file{bufio.NewReaderSize(http.MaxBytesReader(c.Writer, c.Request.Body, s.MaxFile), 4<<10), patient}
	if err := saidPacking(in.Reader, c.GetHeader("Content-Encoding")); err != nil {
		return err
	}
	summary, err := s.Hub.PutFile(c.Request.Context(), in, s.MaxFile)
	if err != nil {
		return err
	}
	c.Header("Location", "/api/v1/recordings/"+summary.ID)
	c.JSON(http.StatusCreated, summary)
	return nil
}

// file is a trace on its way in, whose sender need not be waited for.
type file struct {
	*bufio.Reader
	body *patientBody // nil for an empty one
}

// Abort ends reading, also one that is waiting.
func (f *file) Abort() {
	if f.body != nil {
		f.body.abort()
	}
}

// saidPacking checks that a file is packed as its Content-Encoding.
func saidPacking(in *bufio.Reader, encoding string) error {
	magic := ""
	switch encoding {
	case "", "identity":
		return nil
	case "gzip":
		magic = "\x1f\x8b"
	case "zstd":
		magic = "\x28\xb5\x2f\xfd"
	default:
		return &badRequest{fmt.Sprintf("content encoding %q is not known; use gzip, zstd or none", encoding)}
	}
	head, err := in.Peek(len(magic))
	if err != nil && !errors.Is(err, io.EOF) {
		return &badRequest{"the body could not be read: " + err.Error()}
	}
	if string(head) != magic {
		return &badRequest{fmt.Sprintf("the body is not %s, as its Content-Encoding", encoding)}
	}
	return nil
}
