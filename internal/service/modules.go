package service

import (
	"bytes"
	"crypto/sha1"
	"encoding/json"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
)

// tree is a folder of packed recorders that is served as its package manager asks for it.
type tree struct {
	folder  string
	holds   string                   // for other requests
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

// nugetSource holds the packages of a NuGet source; its index is getNuGet's.
var nugetSource = tree{
	"nuget", "KeenLantern.Record and the packages beside it",
	func(name string) string {
		if path.Ext(name) == ".json" {
			return "application/json"
		}
		return "application/octet-stream"
	},
	func(name string) bool { return path.Ext(name) == ".json" || path.Ext(name) == ".gz" },
}

// getProgram serves this very program, for tests and for the command line of machines of the same system.
func (s *service) getProgram(c *gin.Context) error {
	own := runtime.GOOS + "-" + runtime.GOARCH
	if c.Param("system") != own {
		return &notHere{fmt.Sprintf("this service has the program for %s alone, and not for %s; build it from its sources there", own, c.Param("system"))}
	}
	path, err := os.Executable()
	if err != nil {
		return err
	}
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return err
	}
	c.Header("Content-Type", "application/octet-stream")
	c.Header("Content-Disposition", "attachment; filename=keenlantern")
	c.Header("Cache-Control", "no-cache")
	http.ServeContent(c.Writer, c.Request, "", info.ModTime(), file)
	return nil
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
	of["version"] = version
	of["dist"] = map[string]string{
		"type": "zip", "url": origin(c) + "/recorders/php/" + name, "shasum": fmt.Sprintf("%x", sha1.Sum(file)), //nolint:gosec // it is what Composer compares
	}
	c.Header("Cache-Control", "no-cache")
	c.JSON(http.StatusOK, map[string]any{"packages": map[string]any{of["name"].(string): map[string]any{version: of}}})
	return nil
}

// origin is the address that this service was asked under.
func origin(c *gin.Context) string {
	if c.Request.TLS != nil || c.GetHeader("X-Forwarded-Proto") == "https" {
		return "https://" + c.Request.Host
	}
	return "http://" + c.Request.Host
}

// getNuGet serves the .NET recorder's packages as a NuGet source does (https://learn.microsoft.com/nuget/api/overview): all in this
// service's own version.
func (s *service) getNuGet(c *gin.Context) error {
	base := origin(c) + "/nuget"
	id, of := strings.CutPrefix(c.Param("file"), "/registration/")
	id, index := strings.CutSuffix(id, "/index.json")
	switch {
	case c.Param("file") == "/index.json":
		c.Header("Cache-Control", "no-cache")
		c.JSON(http.StatusOK, map[string]any{"version": "3.0.0", "resources": []map[string]string{
			{"@id": base + "/flat/", "@type": "PackageBaseAddress/3.0.0"},
			{"@id": base + "/registration/", "@type": "RegistrationsBaseUrl/3.6.0"},
		}})
		return nil
	case of && index && s.nuGetVersion(id) != "":
		// One version, on one page: by this the newest version is found where none is named.
		version := s.nuGetVersion(id)
		content := base + "/flat/" + id + "/" + version + "/" + id + "." + version + ".nupkg"
		about := base + "/registration/" + id + "/" + version + ".json"
		entry := map[string]any{"@id": about, "id": id, "version": version, "listed": true, "packageContent": content}
		leaf := map[string]any{"@id": about, "catalogEntry": entry, "packageContent": content}
		page := map[string]any{"@id": base + c.Param("file"), "count": 1, "lower": version, "upper": version, "items": []any{leaf}}
		c.Header("Cache-Control", "no-cache")
		c.JSON(http.StatusOK, map[string]any{"count": 1, "items": []any{page}})
		return nil
	}
	return s.getFileOf(nugetSource)(c)
}

// nuGetVersion returns the version of a package of .NET, "" where there is none.
func (s *service) nuGetVersion(id string) string {
	if s.Recorders == nil || strings.ContainsAny(id, `/\*?[`) {
		return ""
	}
	list, err := fs.Glob(s.Recorders, "nuget/flat/"+id+"/*/*.nupkg")
	if err != nil || len(list) == 0 {
		return ""
	}
	return path.Base(path.Dir(list[0]))
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
	if version := s.nuGetVersion("keenlantern.record"); version != "" {
		list["dotnet"] = "/nuget/flat/keenlantern.record/" + version + "/keenlantern.record." + version + ".nupkg"
	}
	for runtime := range packages {
		if name := s.packageOf(runtime); name != "" {
			list[runtime] = "/recorders/" + runtime + "/" + name
		}
	}
	return list
}
