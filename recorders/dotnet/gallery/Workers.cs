using System.Threading.Channels;
using KeenLantern.Record;

namespace Gallery;

internal sealed class Bell : CountedDisposable
{
    public void Ring()
    {
    }
}

/// <summary>The bells of a tower, rung by workers.</summary>
internal static class Workers
{
    // The worker takes something scoped in its constructor.
    public static Task Queue(Recorder recorder, bool mistaken) => Applications.Host(recorder, services =>
    {
        services.AddSingleton(Channel.CreateUnbounded<string>());
        services.AddScoped<Bell>();
        _ = mistaken ? services.AddHostedService<KeepsBell>() : services.AddHostedService<Ringers>();
    });

    // A scope for each tick; the mistake asks the root for something disposable at each.
    public static Task Timer(Recorder recorder, bool mistaken) => Applications.Host(recorder, services =>
    {
        services.AddTransient<Bell>();
        _ = mistaken ? services.AddHostedService<AsksRoot>() : services.AddHostedService<Hours>();
    });
}

internal sealed class Ringers(Channel<string> queue, IServiceScopeFactory scopes, IHostApplicationLifetime life) : BackgroundService
{
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        for (int n = 0; n < 20; n++)
        {
            await queue.Writer.WriteAsync("peal", stoppingToken);
        }

        queue.Writer.Complete();
        await foreach (string _ in queue.Reader.ReadAllAsync(stoppingToken))
        {
            await using AsyncServiceScope scope = scopes.CreateAsyncScope();
            scope.ServiceProvider.GetRequiredService<Bell>().Ring();
        }

        life.StopApplication();
    }
}

internal sealed class KeepsBell(Bell bell, IHostApplicationLifetime life) : BackgroundService
{
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        await Task.Yield();
        bell.Ring();
        life.StopApplication();
    }
}

internal sealed class Hours(IServiceScopeFactory scopes, IHostApplicationLifetime life) : BackgroundService
{
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var timer = new PeriodicTimer(TimeSpan.FromMilliseconds(10));
        for (int n = 0; n < 20 && await timer.WaitForNextTickAsync(stoppingToken); n++)
        {
            using IServiceScope scope = scopes.CreateScope();
            scope.ServiceProvider.GetRequiredService<Bell>().Ring();
        }

        life.StopApplication();
    }
}

internal sealed class AsksRoot(IServiceProvider root, IHostApplicationLifetime life) : BackgroundService
{
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        using var timer = new PeriodicTimer(TimeSpan.FromMilliseconds(1));
        for (int n = 0; n < 300 && await timer.WaitForNextTickAsync(stoppingToken); n++)
        {
            root.GetRequiredService<Bell>().Ring();
        }

        life.StopApplication();
    }
}
