package service

import (
	"bytes"
	"crypto/sha1"
	"encoding/json"
	"fmt"
	"io/fs"
	"net/http"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
)

// tree is a folder of packed recorders that is served as its package manager asks for it.
type tree struct {
	folder  string
	holds   string                   // for those who ask for something else
	kind    func(name string) string // the content type of a file
	changes func(name string) bool   // whether another version of the service has another one under this name
}

// goModules is what a Go module proxy serves (https://go.dev/ref/mod#goproxy-protocol), all in this service's own version. The Go
// command asks the next proxy for anything else.
var goModules = tree{
	"go", "keenlantern.example/record and the adapters in it",
	func(name string) string {
		switch {
		case strings.HasSuffix(name, ".zip"):
			return "application/zip"
		case strings.HasSuffix(name, ".info"), strings.HasSuffix(name, "@latest"):
			return "application/json"
		}
		return "text/plain; charset=utf-8"
	},
	func(name string) bool { return strings.HasSuffix(name, "/list") || strings.HasSuffix(name, "@latest") },
}

// mavenRepository is laid out as Maven, Gradle and the like ask for it.
var mavenRepository = tree{
	"maven", "example.keenlantern:keenlantern-record and the adapters beside it",
	func(name string) string {
		switch path.Ext(name) {
		case ".jar":
			return "application/java-archive"
		case ".pom", ".xml":
			return "application/xml"
		}
		return "text/plain; charset=utf-8"
	},
	func(name string) bool { return strings.HasPrefix(path.Base(name), "maven-metadata.") },
}

// getFileOf serves the files of a tree.
func (s *service) getFileOf(of tree) func(c *gin.Context) error {
	return func(c *gin.Context) error {
		name := path.Clean(strings.TrimPrefix(c.Param("file"), "/"))
		var file []byte
		err := fs.ErrNotExist
		if s.Recorders != nil && fs.ValidPath(name) {
			file, err = fs.ReadFile(s.Recorders, of.folder+"/"+name)
		}
		if err != nil {
			return &notHere{fmt.Sprintf("this service does not have the file %s; it hands out %s, in its own version", name, of.holds)}
		}
		c.Header("Content-Type", of.kind(name))
		if of.changes(name) {
			c.Header("Cache-Control", "no-cache")
		}
		http.ServeContent(c.Writer, c.Request, "", time.Time{}, bytes.NewReader(file))
		return nil
	}
}

// packages are the recorders that are one file each, by runtime: how their names begin and end.
var packages = map[string]struct{ name, ending, kind string }{
	"node": {"keenlantern-record", ".tgz", "application/gzip"},
	"php":  {"keenlantern-record", ".zip", "application/zip"},
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

// getComposer lists the PHP recorder as a Composer repository does, in this service's own version. Composer wants whole addresses:
// they are those that this service was asked under.
func (s *service) getComposer(c *gin.Context) error {
	name := s.packageOf("php")
	if name == "" {
		return &notHere{"this service hands out no recorder for PHP"}
	}
	about, err := fs.ReadFile(s.Recorders, "php/composer.json")
	if err != nil {
		return fmt.Errorf("read a recorder: %w", err)
	}
	file, err := fs.ReadFile(s.Recorders, "php/"+name)
	if err != nil {
		return fmt.Errorf("read a recorder: %w", err)
	}
	var of map[string]any
	if err := json.Unmarshal(about, &of); err != nil {
		return fmt.Errorf("read a recorder: %w", err)
	}
	version := strings.TrimSuffix(strings.TrimPrefix(name, packages["php"].name+"-"), packages["php"].ending)
	scheme := "http"
	if c.Request.TLS != nil || c.GetHeader("X-Forwarded-Proto") == "https" {
		scheme = "https"
	}
	of["version"] = version
	of["dist"] = map[string]string{
		"type": "zip", "url": scheme + "://" + c.Request.Host + "/recorders/php/" + name, "shasum": fmt.Sprintf("%x", sha1.Sum(file)), //nolint:gosec // it is what Composer compares
	}
	c.Header("Cache-Control", "no-cache")
	c.JSON(http.StatusOK, map[string]any{"packages": map[string]any{of["name"].(string): map[string]any{version: of}}})
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
	if jars, err := fs.Glob(s.Recorders, "maven/example/keenlantern/keenlantern-record/*/keenlantern-record-*.jar"); err == nil && len(jars) > 0 {
		// Its sources and documentation lie beside it, under longer names.
		list["jvm"] = "/" + slices.MinFunc(jars, func(a, b string) int { return len(a) - len(b) })
	}
	for runtime := range packages {
		if name := s.packageOf(runtime); name != "" {
			list[runtime] = "/recorders/" + runtime + "/" + name
		}
	}
	return list
}
