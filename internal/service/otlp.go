package service

import (
	"errors"
	"fmt"
	"mime"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	collector "go.opentelemetry.io/proto/otlp/collector/logs/v1"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/proto"

	"keenlantern.example/internal/ingest"
	"keenlantern.example/internal/otlp"
)

// postLogs takes a trace as OpenTelemetry logs (OTLP/HTTP, protobuf or JSON). Records that are none of ours, and streams
// whose hello has not come, are reported as rejected, as the protocol has it; an exporter does not send those again.
func (s *service) postLogs(c *gin.Context) error {
	kind, _, _ := mime.ParseMediaType(c.GetHeader("Content-Type"))
	asJSON := kind == "application/json"
	if !asJSON && kind != "application/x-protobuf" {
		return &badRequest{fmt.Sprintf("the content type is %q; OTLP logs come as application/x-protobuf or application/json", kind)}
	}
	b, room, err := s.body(c)
	if err != nil {
		return err
	}
	defer room.Free()
	defer b.free()
	started := func(name string) (time.Time, bool) { return s.Hub.Started(c.Request.Context(), name) }
	read := otlp.Protobuf
	if asJSON {
		read = otlp.JSON
	}
	streams, rejected, why, err := read(b.lines(), started)
	if err != nil {
		return &badRequest{"the body is no ExportLogsServiceRequest: " + strings.ReplaceAll(err.Error(), "\u00a0", " ")}
	}
	for _, one := range streams {
		err := s.Hub.Append(c.Request.Context(), one.Name, owner(c), one.Lines)
		var unusable *ingest.Unusable
		var turn *ingest.OutOfTurn
		switch {
		case errors.As(err, &unusable), errors.As(err, &turn):
			rejected += one.Records
			if turn != nil {
				err = fmt.Errorf("no hello of stream %q has come", one.Name)
			}
			if why == "" {
				why = err.Error()
			}
		case err != nil:
			return err
		}
	}
	res := &collector.ExportLogsServiceResponse{}
	if rejected > 0 {
		res.PartialSuccess = &collector.ExportLogsPartialSuccess{RejectedLogRecords: rejected, ErrorMessage: why}
	}
	var said []byte
	if asJSON {
		said, err = protojson.Marshal(res)
	} else {
		said, err = proto.Marshal(res)
	}
	if err != nil {
		return fmt.Errorf("answer: %w", err)
	}
	c.Data(http.StatusOK, kind, said)
	return nil
}
