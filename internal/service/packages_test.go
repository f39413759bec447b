package service_test

import (
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/runtimes"
)

// TestNodePackage checks that an application elsewhere gets the Node recorder from the service with npm, imports and requires it, and
// records.
func TestNodePackage(t *testing.T) {
	const built = "../../recorders/node"
	runtimes.Need(t, "node", "node", built+"/dist/esm/index.js")
	folder := t.TempDir()
	out, err := exec.Command("node", built+"/scripts/pack.mjs", "dev", filepath.Join(folder, "node")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	r := startWith(t, folder, true) // no token is needed
	app := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(app, "package.json"), []byte(`{"name":"harbour","private":true}`), 0o600))
	run := func(name string, args ...string) string {
		cmd := exec.Command(name, args...)
		cmd.Dir = app
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	run("npm", "install", "--silent", "--no-audit", "--no-fund", "--omit=optional", r.URL+"/recorders/node/keenlantern-record.tgz")
	for file, text := range map[string]string{
		"app.mjs": `import { Recorder } from 'keenlantern-record'; import { serve } from 'keenlantern-record/http'; go(Recorder, serve)`,
		"app.cjs": `const { Recorder } = require('keenlantern-record'); const { serve } = require('keenlantern-record/http'); go(Recorder, serve)`,
	} {
		text += `
			function go(Recorder, serve) {
				const recorder = new Recorder({ app: 'harbour', output: process.stdout })
				recorder.close(recorder.open({ kind: 'job', name: typeof serve }))
			}`
		require.NoError(t, os.WriteFile(filepath.Join(app, file), []byte(text), 0o600))
		assert.Contains(t, run("node", file), `"name":"function"`)
	}
	for _, path := range []string{"/recorders/node/other.tgz", "/recorders/node/..%2f..%2fkeenlantern.db", "/recorders/perl/keenlantern-record.tgz"} {
		status, _, _ := r.do(http.MethodGet, path, nil)
		assert.Equal(t, http.StatusNotFound, status, path)
	}
	status, h, _ := r.do(http.MethodGet, "/recorders/node/keenlantern-record.tgz", nil)
	assert.Equal(t, http.StatusOK, status)
	assert.Equal(t, "application/gzip", h.Get("Content-Type"))
	assert.Equal(t, "no-cache", h.Get("Cache-Control"))

	versioned, err := filepath.Glob(filepath.Join(folder, "node", "keenlantern-record-*.tgz"))
	require.NoError(t, err)
	require.Len(t, versioned, 1)
	status, h, _ = r.do(http.MethodGet, "/recorders/node/"+filepath.Base(versioned[0]), nil)
	assert.Equal(t, http.StatusOK, status)
	assert.Empty(t, h.Get("Cache-Control"))
}

// offline fills a local repository with what the machine's own has, but for the recorder, where Maven's settings allow no other
// repository can be reached, and returns the arguments with which Maven asks the service all the same.
func offline(t *testing.T, local string) []string {
	t.Helper()
	home, err := os.UserHomeDir()
	require.NoError(t, err)
	settings, err := os.ReadFile(filepath.Join(home, ".m2", "settings.xml"))
	if err != nil || !strings.Contains(string(settings), "<offline>true</offline>") {
		return nil
	}
	require.NoError(t, os.CopyFS(local, os.DirFS(filepath.Join(home, ".m2", "repository"))))
	require.NoError(t, os.RemoveAll(filepath.Join(local, "example", "keenlantern")))
	empty := filepath.Join(t.TempDir(), "settings.xml")
	require.NoError(t, os.WriteFile(empty, []byte("<settings/>"), 0o600))
	return []string{"-s", empty}
}

// TestMavenRepository checks that an application elsewhere, on a machine whose local repository is empty, gets the JVM recorder from
// the service with Maven, compiles with it and records.
func TestMavenRepository(t *testing.T) {
	const packed = "../../recorders/dist/maven"
	runtimes.Need(t, "jvm", "mvn", packed)
	folder := t.TempDir()
	require.NoError(t, os.CopyFS(filepath.Join(folder, "maven"), os.DirFS(packed)))
	r := startWith(t, folder, true) // no token is needed
	jars, err := filepath.Glob(packed + "/example/keenlantern/keenlantern-record/*")
	require.NoError(t, err)
	version := filepath.Base(jars[0])
	app := t.TempDir()
	source := filepath.Join(app, "src", "main", "java", "Harbour.java")
	require.NoError(t, os.MkdirAll(filepath.Dir(source), 0o755))
	require.NoError(t, os.WriteFile(source, []byte(`
		import example.keenlantern.record.Event;
		import example.keenlantern.record.Recorder;
		import example.keenlantern.record.spring.SpringRecording;
		public class Harbour {
			public static void main(String[] args) throws Exception {
				try (Recorder recorder = Recorder.forApplication("harbour").output(System.out).start()) {
					recorder.run("job", SpringRecording.class.getSimpleName(), () -> {});
				}
			}
		}`), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(app, "pom.xml"), []byte(`<project>
		<modelVersion>4.0.0</modelVersion>
		<groupId>harbour</groupId><artifactId>harbour</artifactId><version>1</version>
		<properties><maven.compiler.release>17</maven.compiler.release></properties>
		<repositories><repository><id>lantern</id><url>`+r.URL+`/maven</url></repository></repositories>
		<dependencies><dependency>
			<groupId>example.keenlantern</groupId><artifactId>keenlantern-record-spring</artifactId><version>`+version+`</version>
		</dependency></dependencies>
		<build><plugins>
			<plugin><artifactId>maven-resources-plugin</artifactId><version>3.5.0</version></plugin>
			<plugin><artifactId>maven-compiler-plugin</artifactId><version>3.15.0</version></plugin>
			<plugin><artifactId>maven-dependency-plugin</artifactId><version>3.9.0</version></plugin>
		</plugins></build></project>`), 0o600))
	local := filepath.Join(app, "local")
	args := []string{"-q", "-B", "compile", "dependency:copy-dependencies", "-Dmaven.repo.local=" + local}
	cmd := exec.Command("mvn", append(args, offline(t, local)...)...)
	cmd.Dir = app
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.DirExists(t, filepath.Join(local, "example", "keenlantern", "keenlantern-record", version))
	cmd = exec.Command("java", "-cp", "target/classes"+string(os.PathListSeparator)+"target/dependency/*", "Harbour")
	cmd.Dir = app
	out, err = cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), `"name":"SpringRecording"`)

	base := "/maven/example/keenlantern/keenlantern-record/"
	for path, want := range map[string]string{
		base + "maven-metadata.xml":                                     "application/xml",
		base + version + "/keenlantern-record-" + version + ".jar":      "application/java-archive",
		base + version + "/keenlantern-record-" + version + ".jar.sha1": "text/plain; charset=utf-8",
	} {
		status, h, _ := r.do(http.MethodGet, path, nil)
		assert.Equal(t, http.StatusOK, status, path)
		assert.Equal(t, want, h.Get("Content-Type"))
	}
	for _, path := range []string{base, "/maven/..%2fkeenlantern.db", "/maven/org/other/1/other-1.jar"} {
		status, _, _ := r.do(http.MethodGet, path, nil)
		assert.Equal(t, http.StatusNotFound, status, path)
	}
}

// TestComposer checks that an application elsewhere gets the PHP recorder from the service with Composer, and records.
func TestComposer(t *testing.T) {
	const source = "../../recorders/php"
	runtimes.Need(t, "php", "composer", source+"/composer.json")
	folder := t.TempDir()
	out, err := exec.Command("go", "run", "../../recorders/packphp", source, filepath.Join(folder, "php")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	r := startWith(t, folder, true) // no token is needed
	app, traces := t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(app, "composer.json"), []byte(`{"repositories": [{"packagist.org": false}]}`), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(app, "app.php"), []byte(`<?php
		require 'vendor/autoload.php';
		$recorder = new KeenLantern\Record\Recorder(new KeenLantern\Record\Settings('harbour', $argv[1]));
		$recorder->close($recorder->open('command', 'tides'));
	`), 0o600))
	// By the page's own words.
	page, err := os.ReadFile("../../docs/recording/php.md")
	require.NoError(t, err)
	_, words, found := strings.Cut(string(page), "```\ncomposer ")
	require.True(t, found)
	words, _, _ = strings.Cut("composer "+words, "```")
	home := t.TempDir()
	for _, line := range append(strings.Split(strings.TrimSpace(words), "\n"), "php app.php "+traces) {
		args := strings.Fields(strings.ReplaceAll(line, "http://127.0.0.1:7460", r.URL))
		cmd := exec.Command(args[0], args[1:]...)
		cmd.Dir = app
		cmd.Env = append(os.Environ(), "COMPOSER_HOME="+home, "COMPOSER_ALLOW_SUPERUSER=1", "COMPOSER_NO_INTERACTION=1", "COMPOSER_NO_AUDIT=1")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", line, out)
	}
	files, err := filepath.Glob(filepath.Join(traces, "*.requests.ndjson"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	text, err := os.ReadFile(files[0])
	require.NoError(t, err)
	assert.Contains(t, string(text), `"kind":"command"`)
}

// TestNuGet checks that an application elsewhere, with no packages yet, gets the .NET recorder from the service, and records.
func TestNuGet(t *testing.T) {
	const packed = "../../recorders/dist/nuget"
	runtimes.Need(t, "dotnet", "dotnet", packed)
	folder := t.TempDir()
	require.NoError(t, os.CopyFS(filepath.Join(folder, "nuget"), os.DirFS(packed)))
	r := startWith(t, folder, true) // no token is needed
	app := t.TempDir()
	for name, text := range map[string]string{
		"nuget.config": `<configuration>
			<config><add key="globalPackagesFolder" value="packages" /></config>
			<packageSources><clear /><add key="lantern" value="` + r.URL + `/nuget/index.json" allowInsecureConnections="true" /></packageSources>
		</configuration>`,
		"harbour.csproj": `<Project Sdk="Microsoft.NET.Sdk"><PropertyGroup>
			<OutputType>Exe</OutputType><TargetFramework>net10.0</TargetFramework><ImplicitUsings>enable</ImplicitUsings><UseAppHost>false</UseAppHost>
		</PropertyGroup></Project>`,
		"Program.cs": `using KeenLantern.Record;
			using var recorder = new Recorder(new RecorderOptions { App = "harbour", Output = Console.OpenStandardOutput() });
			recorder.Run("job", "night watch", () => { });`,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(app, name), []byte(text), 0o600))
	}
	run := func(args ...string) string {
		cmd := exec.Command("dotnet", args...)
		cmd.Dir = app
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	run("add", "package", "KeenLantern.Record", "--prerelease")
	run("build", "-v", "quiet", "-o", "out")
	assert.Contains(t, run("out/harbour.dll"), `"name":"night watch"`)

	status, _, body := r.do(http.MethodGet, "/nuget/index.json", nil)
	assert.Equal(t, http.StatusOK, status)
	assert.Contains(t, string(body), r.URL+"/nuget/flat/")
	for _, path := range []string{"/nuget/flat/other/index.json", "/nuget/..%2fkeenlantern.db", "/nuget/"} {
		status, _, _ := r.do(http.MethodGet, path, nil)
		assert.Equal(t, http.StatusNotFound, status, path)
	}
}
