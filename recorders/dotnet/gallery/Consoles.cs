using KeenLantern.Record;
using KeenLantern.Record.DependencyInjection;

namespace Gallery;

internal sealed class Loom : CountedDisposable
{
    public string Weave(string thread) => thread;
}

internal sealed class Pattern(Loom loom) : Counted
{
    public string Of(string thread) => loom.Weave(thread);
}

internal sealed class Weaver(Pattern pattern) : Counted
{
    public string Work() => pattern.Of("flax");
}

/// <summary>A weaving mill's tools, without a web server.</summary>
internal static class Consoles
{
    // A scope is not disposed.
    public static async Task Scopes(Recorder recorder, bool mistaken)
    {
        await using RecordedServiceProvider provider = new ServiceCollection().AddScoped<Loom>().AddTransient<Pattern>().AddScoped<Weaver>()
            .BuildRecordedServiceProvider(recorder);
        for (int n = 0; n < 10; n++)
        {
            IServiceScope scope = provider.CreateScope();
            scope.ServiceProvider.GetRequiredService<Weaver>().Work();
            if (!mistaken || n < 9)
            {
                scope.Dispose();
            }
        }
    }

    // The registrations are checked when the container is built; with the mistake it is not.
    public static async Task Refused(Recorder recorder, bool mistaken)
    {
        IServiceCollection services = new ServiceCollection().AddTransient<Pattern>().AddScoped<Weaver>();
        if (!mistaken)
        {
            services.AddScoped<Loom>();
        }

        try
        {
            await using RecordedServiceProvider provider = services.BuildRecordedServiceProvider(
                recorder, new ServiceProviderOptions { ValidateOnBuild = true, ValidateScopes = true });
            await using AsyncServiceScope scope = provider.CreateAsyncScope();
            scope.ServiceProvider.GetRequiredService<Weaver>().Work();
        }
        catch (AggregateException refused)
        {
            recorder.Close(TimeSpan.FromSeconds(2), "the application does not start: " + refused.GetType());
        }
    }

    // One scope for each invocation; the mistake keeps a scoped instance in a singleton's factory.
    public static async Task Function(Recorder recorder, bool mistaken)
    {
        IServiceCollection services = new ServiceCollection().AddScoped<Loom>().AddTransient<Pattern>();
        _ = mistaken
            ? services.AddSingleton(provider => new Weaver(provider.GetRequiredService<Pattern>()))
            : services.AddScoped(provider => new Weaver(provider.GetRequiredService<Pattern>()));
        await using RecordedServiceProvider provider = services.BuildRecordedServiceProvider(recorder);
        for (int n = 0; n < 10; n++)
        {
            await recorder.RunAsync("invocation", "weave", async () =>
            {
                await using AsyncServiceScope scope = provider.CreateAsyncScope();
                await Task.Yield();
                scope.ServiceProvider.GetRequiredService<Weaver>().Work();
            });
        }
    }
}
