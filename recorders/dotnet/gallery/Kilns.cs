using Autofac;
using Autofac.Features.OwnedInstances;
using KeenLantern.Record;
using KeenLantern.Record.AspNetCore;
using KeenLantern.Record.Autofac;
using KeenLantern.Record.DependencyInjection;
using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.ViewComponents;
using Microsoft.AspNetCore.SignalR;
using Microsoft.AspNetCore.SignalR.Client;
using Microsoft.AspNetCore.TestHost;

namespace Gallery;

internal sealed class Clay : CountedDisposable
{
    public string Colour => "ochre";
}

internal interface IShelf<T>
{
    string First { get; }
}

internal sealed class Shelf<T>(Clay clay) : CountedDisposable, IShelf<T>
{
    public string First => clay.Colour + typeof(T).Name;
}

internal sealed class Jug;

internal sealed class Potter(IShelf<Jug> shelf) : Counted
{
    public string Turn() => shelf.First;
}

internal sealed class Glazes(Clay clay) : Counted
{
    public string Mix() => clay.Colour;
}

internal interface IFire
{
    int Heat { get; }
}

internal sealed class WoodFire : Counted, IFire
{
    public int Heat => 900;
}

internal sealed class GasFire : Counted, IFire
{
    public int Heat => 1200;
}

internal sealed class Kiln(IFire fire) : Counted
{
    public int Heat => fire.Heat;
}

/// <summary>Closes a door, which takes a while.</summary>
internal sealed class Door : Counted, IAsyncDisposable
{
    public async ValueTask DisposeAsync()
    {
        await Task.Yield();
        Counts.Disposed.AddOrUpdate(nameof(Door), 1, (_, n) => n + 1);
    }
}

/// <summary>Keeps the provider of the first request that it sees, with the mistake.</summary>
internal sealed class Ledger(IHttpContextAccessor accessor) : Counted
{
    private IServiceProvider? services;

    public string Write(bool keeps)
    {
        services = keeps ? services ?? accessor.HttpContext!.RequestServices : accessor.HttpContext!.RequestServices;
        return services.GetRequiredService<Glazes>().Mix();
    }
}

internal sealed class Firing(Glazes glazes) : Hub
{
    public string Watch() => glazes.Mix();
}

/// <summary>A part of a page.</summary>
internal sealed class Today(Glazes glazes) : ViewComponent
{
    public IViewComponentResult Invoke() => Content(glazes.Mix());
}

/// <summary>A pottery, with web applications and tools.</summary>
internal static class Kilns
{
    // A singleton keeps a closed form that is scoped.
    public static async Task Shelves(Recorder recorder, bool mistaken)
    {
        IServiceCollection services = new ServiceCollection();
        services.AddScoped<Clay>().AddScoped(typeof(IShelf<>), typeof(Shelf<>));
        services.Add(new ServiceDescriptor(typeof(Potter), typeof(Potter), mistaken ? ServiceLifetime.Singleton : ServiceLifetime.Scoped));
        await using RecordedServiceProvider provider = services.BuildRecordedServiceProvider(recorder);
        for (int n = 0; n < 5; n++)
        {
            await using AsyncServiceScope scope = provider.CreateAsyncScope();
            scope.ServiceProvider.GetRequiredService<Potter>().Turn();
        }
    }

    // A service is registered twice, and the last registration answers.
    public static async Task Twice(Recorder recorder, bool mistaken)
    {
        IServiceCollection services = new ServiceCollection().AddSingleton<IFire, WoodFire>().AddTransient<Kiln>();
        if (mistaken)
        {
            services.AddSingleton<IFire, GasFire>();
        }

        await using RecordedServiceProvider provider = services.BuildRecordedServiceProvider(recorder);
        _ = provider.GetRequiredService<Kiln>().Heat;
    }

    // An async-only disposable is in a scope that is disposed synchronously: the container refuses.
    public static async Task Doors(Recorder recorder, bool mistaken)
    {
        await using RecordedServiceProvider provider = new ServiceCollection().AddScoped<Door>().AddScoped<Clay>().BuildRecordedServiceProvider(recorder);
        for (int n = 0; n < 5; n++)
        {
            AsyncServiceScope scope = provider.CreateAsyncScope();
            scope.ServiceProvider.GetRequiredService<Clay>();
            scope.ServiceProvider.GetRequiredService<Door>();
            if (!mistaken)
            {
                await scope.DisposeAsync();
                continue;
            }

            try
            {
                scope.Dispose();
            }
            catch (InvalidOperationException)
            {
                // "It closes anyway."
            }
        }
    }

    // A singleton keeps a request's provider, and uses it when the request has ended.
    public static Task Captured(Recorder recorder, bool mistaken) => Applications.Web(
        recorder,
        services => services.AddHttpContextAccessor().AddScoped<Clay>().AddScoped<Glazes>().AddSingleton<Ledger>(),
        app => app.MapGet("/ledger", (Ledger ledger) =>
        {
            try
            {
                return ledger.Write(mistaken);
            }
            catch (ObjectDisposedException)
            {
                return "try again";
            }
        }),
        5,
        "/ledger");

    // A component of views takes what a singleton keeps.
    public static Task Views(Recorder recorder, bool mistaken) => Applications.Web(
        recorder,
        services =>
        {
            services.AddScoped<Clay>();
            services.Add(new ServiceDescriptor(typeof(Glazes), typeof(Glazes), mistaken ? ServiceLifetime.Singleton : ServiceLifetime.Scoped));
            services.AddControllersWithViews().AddApplicationPart(typeof(Kilns).Assembly)
                .ConfigureApplicationPartManager(parts =>
                {
                    parts.FeatureProviders.Add(new Parts());
                    parts.FeatureProviders.Add(new Pages());
                });
        },
        app => app.MapControllerRoute("pages", "/pages/{action}", new { controller = "Pages" }),
        5,
        "/pages/today");

    // A hub takes what a singleton keeps.
    public static async Task Hubs(Recorder recorder, bool mistaken)
    {
        WebApplicationBuilder builder = WebApplication.CreateBuilder(new WebApplicationOptions { EnvironmentName = "Production" });
        builder.Host.UseServiceProviderFactory(recorder.ForRequests());
        builder.Logging.ClearProviders();
        builder.WebHost.UseUrls("http://127.0.0.1:0");
        builder.Services.AddScoped<Clay>().AddSignalR();
        builder.Services.Add(new ServiceDescriptor(typeof(Glazes), typeof(Glazes), mistaken ? ServiceLifetime.Singleton : ServiceLifetime.Scoped));
        await using WebApplication app = builder.Build();
        app.MapHub<Firing>("/firing");
        await app.StartAsync();
        await using (HubConnection connection = new HubConnectionBuilder().WithUrl(app.Urls.First() + "/firing").Build())
        {
            await connection.StartAsync();
            for (int n = 0; n < 5; n++)
            {
                await connection.InvokeAsync<string>(nameof(Firing.Watch));
            }
        }

        await app.StopAsync();
    }

    // An integration test, with the test server in the place of a socket.
    public static async Task Tests(Recorder recorder, bool mistaken)
    {
        WebApplicationBuilder builder = WebApplication.CreateBuilder(new WebApplicationOptions { EnvironmentName = "Production" });
        builder.Host.UseServiceProviderFactory(recorder.ForRequests());
        builder.Logging.ClearProviders();
        builder.WebHost.UseTestServer();
        builder.Services.AddScoped<Clay>();
        builder.Services.Add(new ServiceDescriptor(typeof(Glazes), typeof(Glazes), mistaken ? ServiceLifetime.Singleton : ServiceLifetime.Scoped));
        await using WebApplication app = builder.Build();
        app.MapGet("/mix", (Glazes glazes) => glazes.Mix());
        await app.StartAsync();
        using HttpClient client = app.GetTestClient();
        for (int n = 0; n < 5; n++)
        {
            await client.GetStringAsync(new Uri("/mix", UriKind.Relative));
        }

        await app.StopAsync();
    }

    // Autofac: owned instances are not disposed.
    public static async Task Owned(Recorder recorder, bool mistaken)
    {
        var builder = new ContainerBuilder();
        builder.RegisterType<Clay>().InstancePerLifetimeScope();
        builder.RegisterType<Glazes>().InstancePerLifetimeScope();
        builder.RegisterType<Workshop>().SingleInstance();
        await using IContainer container = builder.RecordWith(recorder).Build();
        for (int n = 0; n < 5; n++)
        {
            container.Resolve<Workshop>().Glaze(disposes: !mistaken);
        }
    }

    private sealed class Workshop(Func<Owned<Glazes>> glazes) : Counted
    {
        public string Glaze(bool disposes)
        {
            Owned<Glazes> owned = glazes();
            string mixed = owned.Value.Mix();
            if (disposes)
            {
                owned.Dispose();
            }

            return mixed;
        }
    }

    private sealed class Parts : Microsoft.AspNetCore.Mvc.ApplicationParts.IApplicationFeatureProvider<ViewComponentFeature>
    {
        public void PopulateFeature(IEnumerable<Microsoft.AspNetCore.Mvc.ApplicationParts.ApplicationPart> parts, ViewComponentFeature feature) =>
            feature.ViewComponents.Add(System.Reflection.IntrospectionExtensions.GetTypeInfo(typeof(Today)));
    }

    private sealed class Pages : Microsoft.AspNetCore.Mvc.Controllers.ControllerFeatureProvider
    {
        protected override bool IsController(System.Reflection.TypeInfo typeInfo) => typeInfo == typeof(PagesController);
    }
}

internal sealed class PagesController : Controller
{
    public IActionResult Today() => ViewComponent(typeof(Today));
}
