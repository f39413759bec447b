package service

import (
	"bytes"
	"fmt"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
)

// getGoModule serves the Go recorder's modules as the Go command asks a module proxy for them
// (https://go.dev/ref/mod#goproxy-protocol), all in this service's own version.
func (s *service) getGoModule(c *gin.Context) error {
	name := path.Clean(strings.TrimPrefix(c.Param("file"), "/"))
	var file []byte
	err := fs.ErrNotExist
	if s.Recorders != nil && fs.ValidPath(name) {
		file, err = fs.ReadFile(s.Recorders, "go/"+name)
	}
	if err != nil {
		// The Go command then asks the next proxy.
		return &notHere{fmt.Sprintf("this service does not have the module file %s; it hands out keenlantern.example/record and the adapters in it, in its own version", name)}
	}
	kind := "text/plain; charset=utf-8"
	switch {
	case strings.HasSuffix(name, ".zip"):
		kind = "application/zip"
	case strings.HasSuffix(name, ".info"), strings.HasSuffix(name, "@latest"):
		kind = "application/json"
	}
	c.Header("Content-Type", kind)
	if strings.HasSuffix(name, "/list") || strings.HasSuffix(name, "@latest") {
		c.Header("Cache-Control", "no-cache") // another version of the service has another one
	}
	http.ServeContent(c.Writer, c.Request, "", time.Time{}, bytes.NewReader(file))
	return nil
}

// packages are the recorders that are one file each, by runtime: how their names begin and end.
var packages = map[string]struct{ name, ending, kind string }{
	"node": {"keenlantern-record", ".tgz", "application/gzip"},
}

// packageOf returns the file with a runtime's recorder, "" where there is none.
func (s *service) packageOf(runtime string) string {
	of, known := packages[runtime]
	if s.Recorders == nil || !known {
		return ""
	}
	list, err := fs.Glob(s.Recorders, runtime+"/"+of.name+"-*"+of.ending)
	if err != nil || len(list) == 0 {
		return ""
	}
	return path.Base(list[0])
}

// getRecorder serves a recorder as its runtime's package manager installs it: under the name of its version, which never means
// another one, and under one without a version.
func (s *service) getRecorder(c *gin.Context) error {
	runtime, name := c.Param("runtime"), c.Param("file")
	of, have := packages[runtime], s.packageOf(runtime)
	if have == "" || name != have && name != of.name+of.ending {
		return &notHere{fmt.Sprintf("this service hands out no recorder %s/%s; GET /api/v1/service lists those it does", runtime, name)}
	}
	file, err := fs.ReadFile(s.Recorders, runtime+"/"+have)
	if err != nil {
		return fmt.Errorf("read a recorder: %w", err)
	}
	c.Header("Content-Type", of.kind)
	if name != have {
		c.Header("Cache-Control", "no-cache")
	}
	http.ServeContent(c.Writer, c.Request, "", time.Time{}, bytes.NewReader(file))
	return nil
}

// recorders lists where this service hands out which recorder.
func (s *service) recorders() map[string]string {
	list := map[string]string{}
	if s.Recorders == nil {
		return list
	}
	if _, err := fs.Stat(s.Recorders, "go"); err == nil {
		list["go"] = "/go"
	}
	for runtime := range packages {
		if name := s.packageOf(runtime); name != "" {
			list[runtime] = "/recorders/" + runtime + "/" + name
		}
	}
	return list
}
