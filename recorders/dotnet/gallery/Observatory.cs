using System.Net.ServerSentEvents;
using System.Runtime.CompilerServices;
using KeenLantern.Record;
using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.Filters;
using Microsoft.Extensions.Options;

namespace Gallery;

internal sealed class Sky : CountedDisposable
{
    public int Stars => 7;
}

internal sealed class Dome : Counted
{
    public bool Open => true;
}

/// <summary>Keeps the first sky that it is given, where it is a singleton.</summary>
internal sealed class StarChart(Sky sky) : Counted
{
    public int Stars => sky.Stars;
}

internal sealed class Telescope(Sky sky, Dome dome) : Counted
{
    public int Look => dome.Open ? sky.Stars : 0;
}

/// <summary>Web applications of an observatory.</summary>
internal static class Observatory
{
    // A singleton takes something scoped.
    public static Task Minimal(Recorder recorder, bool mistaken) => Applications.Web(
        recorder,
        services =>
        {
            services.AddScoped<Sky>().AddSingleton<Dome>().AddScoped<Telescope>();
            services.Add(new ServiceDescriptor(typeof(StarChart), typeof(StarChart), mistaken ? ServiceLifetime.Singleton : ServiceLifetime.Scoped));
        },
        app =>
        {
            app.MapGet("/look", (Telescope telescope) => telescope.Look);
            app.MapGet("/chart/{page:int}", (int page, [FromServices] StarChart chart) => chart.Stars + page);
            app.MapGet("/dome", (HttpContext context) => context.RequestServices.GetRequiredService<Dome>().Open);
        },
        10,
        "/look",
        "/chart/3",
        "/dome",
        "/nowhere");

    // A filter that is registered as a singleton takes something scoped.
    public static Task Controllers(Recorder recorder, bool mistaken) => Applications.Web(
        recorder,
        services =>
        {
            services.AddScoped<Sky>().AddSingleton<Dome>().AddScoped<Telescope>();
            services.Add(new ServiceDescriptor(typeof(NightOnly), typeof(NightOnly), mistaken ? ServiceLifetime.Singleton : ServiceLifetime.Scoped));
            services.AddControllers().AddApplicationPart(typeof(Observatory).Assembly)
                .ConfigureApplicationPartManager(parts => parts.FeatureProviders.Add(new Internals()));
        },
        app => app.MapControllers(),
        10,
        "/telescopes/east",
        "/telescopes");

    // The constructor of a middleware takes something scoped: it comes from the root.
    public static Task Middleware(Recorder recorder, bool mistaken) => Applications.Web(
        recorder,
        services => services.AddScoped<Sky>(),
        app =>
        {
            _ = mistaken ? app.UseMiddleware<KeepsSky>() : app.UseMiddleware<AsksForSky>();
            app.MapGet("/", () => "clear");
        },
        10,
        "/");

    // The scopes of parallel work are not disposed.
    public static Task Parallel(Recorder recorder, bool mistaken) => Applications.Web(
        recorder,
        services => services.AddScoped<Sky>().AddSingleton<Dome>().AddScoped<Telescope>(),
        app => app.MapGet("/survey", async (IServiceScopeFactory scopes) =>
        {
            int[] seen = await Task.WhenAll(Enumerable.Range(0, 4).Select(async _ =>
            {
                AsyncServiceScope scope = scopes.CreateAsyncScope();
                await Task.Yield();
                int stars = scope.ServiceProvider.GetRequiredService<Telescope>().Look;
                if (!mistaken)
                {
                    await scope.DisposeAsync();
                }

                return stars;
            }));
            return seen.Sum();
        }),
        10,
        "/survey");

    // A typed client; its handlers live longer than a request.
    public static Task Clients(Recorder recorder, bool mistaken)
    {
        _ = mistaken; // no container sees a client that is made by hand
        string address = "";
        return Applications.Web(
            recorder,
            services =>
            {
                services.AddTransient<SlowHandler>();
                services.AddHttpClient<Almanac>((_, client) => client.BaseAddress = new Uri(address)).AddHttpMessageHandler<SlowHandler>();
            },
            app =>
            {
                app.MapGet("/moon", () => "waning");
                app.MapGet("/night", async (Almanac almanac, HttpContext context) =>
                {
                    address = $"http://{context.Request.Host}";
                    return await almanac.Moon();
                });
                app.Use((context, next) =>
                {
                    address = $"http://{context.Request.Host}";
                    return next(context);
                });
            },
            10,
            "/moon",
            "/night");
    }

    // A singleton takes a snapshot of options, which is one request's.
    public static Task Options(Recorder recorder, bool mistaken) => Applications.Web(
        recorder,
        services =>
        {
            services.Configure<DomeOptions>(options => options.Width = 4);
            _ = mistaken ? services.AddSingleton<IShutter, FrozenShutter>() : services.AddSingleton<IShutter, Shutter>();
        },
        app => app.MapGet("/shutter", (IShutter shutter, IOptionsSnapshot<DomeOptions> now) => shutter.Width + now.Value.Width),
        10,
        "/shutter");

    // A request that lasts; something scoped goes on being used until it ends.
    public static Task EventStream(Recorder recorder, bool mistaken)
    {
        _ = mistaken; // what can go wrong is found by calls alone
        return Applications.Web(
            recorder,
            services => services.AddScoped<Sky>(),
            app => app.MapGet("/stars", (Sky sky) => TypedResults.ServerSentEvents(Stars(sky))),
            3,
            "/stars");
    }

    private static async IAsyncEnumerable<SseItem<int>> Stars(Sky sky, [EnumeratorCancellation] CancellationToken stop = default)
    {
        for (int n = 0; n < 5; n++)
        {
            await Task.Delay(20, stop);
            yield return new SseItem<int>(sky.Stars + n);
        }
    }
}

internal sealed class Internals : Microsoft.AspNetCore.Mvc.Controllers.ControllerFeatureProvider
{
    protected override bool IsController(System.Reflection.TypeInfo typeInfo) => typeInfo == typeof(TelescopesController);
}

[ApiController]
[Route("telescopes")]
[ServiceFilter(typeof(NightOnly))]
internal sealed class TelescopesController(Telescope telescope) : ControllerBase
{
    [HttpGet("{name}")]
    public string One(string name) => $"{name} {telescope.Look}";

    [HttpGet]
    public int All([FromServices] Dome dome) => dome.Open ? telescope.Look : 0;
}

internal sealed class NightOnly(Sky sky) : Counted, IActionFilter
{
    public void OnActionExecuting(ActionExecutingContext context) => _ = sky.Stars;

    public void OnActionExecuted(ActionExecutedContext context)
    {
    }
}

internal sealed class AsksForSky(RequestDelegate next)
{
    public Task InvokeAsync(HttpContext context, Sky sky)
    {
        _ = sky.Stars;
        return next(context);
    }
}

internal sealed class KeepsSky(RequestDelegate next, Sky sky)
{
    public Task InvokeAsync(HttpContext context)
    {
        _ = sky.Stars;
        return next(context);
    }
}

internal sealed class Almanac(HttpClient client) : Counted
{
    public Task<string> Moon() => client.GetStringAsync(new Uri("/moon", UriKind.Relative));
}

internal sealed class SlowHandler : DelegatingHandler;

internal sealed class DomeOptions
{
    public int Width { get; set; }
}

internal interface IShutter
{
    int Width { get; }
}

internal sealed class Shutter(IOptionsMonitor<DomeOptions> options) : Counted, IShutter
{
    public int Width => options.CurrentValue.Width;
}

internal sealed class FrozenShutter(IOptionsSnapshot<DomeOptions> options) : Counted, IShutter
{
    public int Width => options.Value.Width;
}
