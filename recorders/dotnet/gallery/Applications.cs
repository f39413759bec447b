using KeenLantern.Record;
using KeenLantern.Record.AspNetCore;
using KeenLantern.Record.DependencyInjection;

namespace Gallery;

/// <summary>The applications, by name.</summary>
internal static class Applications
{
    public static readonly Dictionary<string, Func<Recorder, bool, Task>> All = new()
    {
        ["minimal"] = Observatory.Minimal,
        ["controllers"] = Observatory.Controllers,
        ["middleware"] = Observatory.Middleware,
        ["worker"] = Workers.Queue,
        ["timer"] = Workers.Timer,
        ["parallel"] = Observatory.Parallel,
        ["database"] = Databases.Contexts,
        ["pool"] = Databases.Pool,
        ["clients"] = Observatory.Clients,
        ["options"] = Observatory.Options,
        ["dispatcher"] = Dispatching.Dispatcher,
        ["strategies"] = Dispatching.Strategies,
        ["decorated"] = Dispatching.Decorated,
        ["stream"] = Observatory.EventStream,
        ["console"] = Consoles.Scopes,
        ["function"] = Consoles.Function,
        ["refused"] = Consoles.Refused,
        ["generics"] = Kilns.Shelves,
        ["twice"] = Kilns.Twice,
        ["asynchronous"] = Kilns.Doors,
        ["captured"] = Kilns.Captured,
        ["views"] = Kilns.Views,
        ["hub"] = Kilns.Hubs,
        ["tests"] = Kilns.Tests,
        ["owned"] = Kilns.Owned,
    };

    /// <summary>Builds a web application, starts it, asks it for each path some times, and ends it.</summary>
    public static async Task Web(
        Recorder recorder, Action<IServiceCollection> register, Action<WebApplication> map, int times, params string[] paths)
    {
        WebApplicationBuilder builder = WebApplication.CreateBuilder(new WebApplicationOptions { EnvironmentName = "Production" });
        builder.Host.UseServiceProviderFactory(recorder.ForRequests());
        builder.Logging.ClearProviders();
        builder.WebHost.UseUrls("http://127.0.0.1:0");
        register(builder.Services);
        await using WebApplication app = builder.Build();
        map(app);
        await app.StartAsync();
        using var client = new HttpClient { BaseAddress = new Uri(app.Urls.First()) };
        for (int n = 0; n < times; n++)
        {
            foreach (string path in paths)
            {
                using HttpResponseMessage answer = await client.GetAsync(new Uri(path, UriKind.Relative));
                await answer.Content.ReadAsStringAsync();
            }
        }

        await app.StopAsync();
    }

    /// <summary>Builds a host without a web server, and runs it until it ends itself.</summary>
    public static async Task Host(Recorder recorder, Action<IServiceCollection> register)
    {
        HostApplicationBuilder builder = Microsoft.Extensions.Hosting.Host.CreateApplicationBuilder(
            new HostApplicationBuilderSettings { EnvironmentName = "Production" });
        builder.ConfigureContainer(new RecordedServiceProviderFactory(recorder));
        builder.Logging.ClearProviders();
        register(builder.Services);
        using IHost host = builder.Build();
        await host.RunAsync();
    }
}
