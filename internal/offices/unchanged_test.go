package offices_test

import (
	"bytes"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/browser"
	"keenlantern.example/internal/runtimes"
)

// TestUnchanged checks that a web application of .NET which knows nothing of the recorder is recorded with what the service hands out.
func TestUnchanged(t *testing.T) {
	runtimes.Need(t, "dotnet", "dotnet", root+"/recorders/dist/nuget/start.tar.gz")
	if testing.Short() {
		t.Skip("it starts processes")
	}
	folder := t.TempDir()
	bin, err := browser.Build(folder)
	require.NoError(t, err)
	service, err := browser.Serve(bin, "serve", filepath.Join(folder, "data"))
	require.NoError(t, err)
	defer func() { assert.NoError(t, service.Stop()) }()
	app := t.TempDir()
	for name, text := range map[string]string{
		"wharf.csproj": `<Project Sdk="Microsoft.NET.Sdk.Web"><PropertyGroup>
			<TargetFramework>net10.0</TargetFramework><ImplicitUsings>enable</ImplicitUsings><UseAppHost>false</UseAppHost>
		</PropertyGroup></Project>`,
		"nuget.config": `<configuration><packageSources><clear /></packageSources></configuration>`,
		"Program.cs": `
			var builder = WebApplication.CreateBuilder(args);
			builder.Services.AddScoped<Berth>();
			builder.Services.AddSingleton<Office>();
			var wharf = builder.Build();
			wharf.MapGet("/berths/{number}", (int number, Office office) => office.Berth.ToString());
			wharf.Urls.Add("http://127.0.0.1:0");
			await wharf.StartAsync();
			Console.WriteLine(await new HttpClient().GetStringAsync(wharf.Urls.First() + "/berths/3"));
			await wharf.DisposeAsync();
			class Berth;
			class Office(Berth berth) { public Berth Berth => berth; }`,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(app, name), []byte(text), 0o600))
	}
	packed, err := http.Get(service.URL + "/nuget/start.tar.gz")
	require.NoError(t, err)
	defer packed.Body.Close()
	require.Equal(t, http.StatusOK, packed.StatusCode)
	unpack := exec.Command("tar", "xz")
	unpack.Dir, unpack.Stdin = t.TempDir(), packed.Body
	require.NoError(t, unpack.Run())
	for _, args := range [][]string{{"build", "-v", "quiet", "-o", "out"}, {"out/wharf.dll"}} {
		cmd := exec.Command("dotnet", args...)
		cmd.Dir = app
		if args[0] != "build" {
			cmd.Env = append(os.Environ(), "ASPNETCORE_ENVIRONMENT=Production", "KEENLANTERN_SERVICE="+service.URL, "DOTNET_STARTUP_HOOKS="+filepath.Join(unpack.Dir, "KeenLantern.Record.Start.dll"))
		}
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.NotContains(t, string(out), "recording for Keen Lantern:")
	}
	assert.Eventually(t, func() bool {
		findings, err := http.Get(service.URL + "/api/v1/recordings/latest/findings")
		require.NoError(t, err)
		defer findings.Body.Close()
		text, err := io.ReadAll(findings.Body)
		require.NoError(t, err)
		return bytes.Contains(text, []byte("captive/scoped")) && bytes.Contains(text, []byte("Program.cs:4"))
	}, 10*time.Second, 100*time.Millisecond)
}
