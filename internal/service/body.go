package service

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"net/http"
	"sync"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/zstd"

	"keenlantern.example/internal/ingest"
)

// bodyOf is where a batch is read to, as it came and plain.
type bodyOf struct{ wire, unpacked bytes.Buffer }

// lines returns the plain lines.
func (b *bodyOf) lines() []byte {
	if b.unpacked.Len() > 0 {
		return b.unpacked.Bytes()
	}
	return b.wire.Bytes()
}

// bodies are used again and again: there are many, and what they leave behind would double the service's memory. Large buffers
// are kept apart, for large batches only: many small ones that wait must not hold more than is accounted for. The largest are not
// kept.
var (
	bodies = sync.Pool{New: func() any { return &bodyOf{} }}
	large  = sync.Pool{New: func() any { return &bytes.Buffer{} }}
)

// What is large, in bytes, and how much of it is kept: twice what recorders send at once.
const (
	largeFrom = 512 << 10
	keptLarge = 2 << 20
)

// makeLarge gets a kept buffer for so many bytes, if they are many.
func makeLarge(b *bytes.Buffer, size int64) {
	if size >= largeFrom {
		*b = *large.Get().(*bytes.Buffer)
	}
}

func (b *bodyOf) free() {
	for _, buffer := range []*bytes.Buffer{&b.wire, &b.unpacked} {
		buffer.Reset()
		if buffer.Cap() < largeFrom {
			continue
		}
		if kept := *buffer; kept.Cap() <= keptLarge {
			large.Put(&kept)
		}
		*buffer = bytes.Buffer{}
	}
	bodies.Put(b)
}

// maxWindow bounds what a zstd frame may ask for before its first byte comes out.
const maxWindow = 8 << 20

// body reads a batch as it comes, and unpacks it when it is there as a whole: a sender that stalls holds what it has sent
// and no more. Everything is accounted for in the room that is returned; the caller frees both.
func (s *service) body(c *gin.Context) (b *bodyOf, room *ingest.Room, err error) {
	length := c.Request.ContentLength
	// Before a byte of it is read: a service that is behind must not grow by what it rejects.
	if length > s.MaxBatch {
		return nil, nil, &tooLarge{"the batch", s.MaxBatch}
	}
	encoding := c.GetHeader("Content-Encoding")
	switch encoding {
	case "", "identity", "gzip", "zstd":
	default:
		return nil, nil, &badRequest{fmt.Sprintf("content encoding %q is not known; use gzip, zstd or none", encoding)}
	}
	room, ok := s.Hub.Room(max(length, 4<<10))
	if !ok {
		return nil, nil, ingest.ErrBusy
	}
	b = bodies.Get().(*bodyOf)
	makeLarge(&b.wire, length)
	defer func() {
		if err != nil {
			room.Free()
			b.free()
			b, room = nil, nil
		}
	}()
	if err := read(&b.wire, c.Request.Body, room, 0, s.MaxBatch); err != nil {
		return b, room, err
	}
	wire := int64(b.wire.Cap())
	switch encoding {
	case "gzip":
		z, err := gzip.NewReader(bytes.NewReader(b.wire.Bytes()))
		if err != nil {
			return b, room, &badRequest{"the body is not gzip, as its Content-Encoding: " + err.Error()}
		}
		if err := read(&b.unpacked, z, room, wire, s.MaxBatch); err != nil {
			return b, room, err
		}
	case "zstd":
		if err := s.unzstd(b, room, wire); err != nil {
			return b, room, err
		}
	}
	return b, room, nil
}

// read reads all of in, at most most bytes, and has room for it beside what is held already.
func read(into *bytes.Buffer, in io.Reader, room *ingest.Room, held, most int64) error {
	piece := make([]byte, 16<<10)
	for {
		n, err := in.Read(piece)
		if int64(into.Len()+n) > most {
			return &tooLarge{"the batch", most}
		}
		if into.Available() < n {
			// A buffer that has to grow doubles.
			next := max(int64(into.Len()+n), min(2*int64(into.Cap()), most))
			if !room.Grow(held + next) {
				return ingest.ErrBusy
			}
			into.Grow(int(next) - into.Len())
		}
		into.Write(piece[:n])
		cut := (*http.MaxBytesError)(nil)
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case errors.As(err, &cut):
			return &tooLarge{"the batch", most}
		case err != nil:
			return &badRequest{"the body could not be read: " + err.Error()}
		}
	}
}

// unzstd unpacks a body that is there as a whole.
func (s *service) unzstd(b *bodyOf, room *ingest.Room, held int64) error {
	var head zstd.Header
	size := s.MaxBatch
	if err := head.Decode(b.wire.Bytes()); err == nil && head.HasFCS && int64(head.FrameContentSize) < size {
		size = int64(head.FrameContentSize)
	}
	if !room.Grow(held + size) {
		return ingest.ErrBusy
	}
	makeLarge(&b.unpacked, size)
	if int64(b.unpacked.Cap()) < size {
		b.unpacked = bytes.Buffer{} // one that grows doubles
	}
	b.unpacked.Grow(int(size))
	plain, err := s.unzip.DecodeAll(b.wire.Bytes(), b.unpacked.AvailableBuffer())
	switch {
	case errors.Is(err, zstd.ErrDecoderSizeExceeded), int64(len(plain)) > s.MaxBatch:
		return &tooLarge{"the batch", s.MaxBatch}
	case errors.Is(err, zstd.ErrWindowSizeExceeded):
		return &badRequest{fmt.Sprintf("the body's zstd window is larger than %d bytes", maxWindow)}
	case err != nil:
		return &badRequest{"the body is not zstd, as its Content-Encoding: " + err.Error()}
	}
	if !room.Grow(held + int64(cap(plain))) { // more frames than the first one announced
		return ingest.ErrBusy
	}
	b.unpacked.Write(plain)
	return nil
}
