using System.Diagnostics;
using System.Globalization;
using KeenLantern.Record;
using KeenLantern.Record.DependencyInjection;
using Microsoft.Extensions.DependencyInjection;

namespace KeenLantern.Benchmarks;

/// <summary>Times a scope in which six instances are built, two of them disposable, as a request of the office has.</summary>
internal static class Scopes
{
    private const int Times = 150;
    private const int Rounds = 600;

    internal static void Measure()
    {
        using var on = new Recorder(new RecorderOptions { App = "scopes", Output = Stream.Null });
        using var off = new Recorder(new RecorderOptions { App = "scopes", Output = Stream.Null, Setting = Setting.Off });
        (string Name, IServiceProvider Of)[] kinds =
        [
            ("without", Services().BuildServiceProvider()),
            ("off", Services().BuildRecordedServiceProvider(off)),
            ("on", Services().BuildRecordedServiceProvider(on)),
        ];
        var took = kinds.Select(_ => new List<double>()).ToArray();
        var bytes = new double[kinds.Length];
        for (int round = -300; round < Rounds; round++)
        {
            for (int n = 0; n < kinds.Length; n++)
            {
                on.Flush(TimeSpan.FromSeconds(5));
                long allocated = GC.GetAllocatedBytesForCurrentThread();
                long began = Stopwatch.GetTimestamp();
                for (int time = 0; time < Times; time++)
                {
                    using IServiceScope scope = kinds[n].Of.CreateScope();
                    scope.ServiceProvider.GetRequiredService<Desk>();
                }

                if (round >= 0)
                {
                    took[n].Add(Stopwatch.GetElapsedTime(began).TotalNanoseconds / Times);
                    bytes[n] = (double)(GC.GetAllocatedBytesForCurrentThread() - allocated) / Times;
                }
            }
        }

        for (int n = 0; n < kinds.Length; n++)
        {
            Console.WriteLine(string.Create(
                CultureInfo.InvariantCulture, $"{kinds[n].Name,-8} {took[n].Order().ElementAt(Rounds / 2),7:0} ns, {bytes[n],6:0} bytes allocated"));
        }

        Console.WriteLine($"lost: {on.Totals.Lost}");
    }

    private static ServiceCollection Services()
    {
        var services = new ServiceCollection();
        services.AddSingleton<Clock>().AddScoped<Gauge>().AddScoped<Tides>().AddTransient<Page>().AddScoped<Planner>().AddSingleton<Roster>()
            .AddScoped<Desk>().AddScoped<Crew>();
        return services;
    }

    private sealed class Clock;

    private sealed class Roster;

    private sealed class Gauge(Clock clock) : IDisposable
    {
        public Clock Clock => clock;

        public void Dispose()
        {
        }
    }

    private sealed class Tides(Gauge gauge)
    {
        public Gauge Gauge => gauge;
    }

    private sealed class Page : IDisposable
    {
        public void Dispose()
        {
        }
    }

    private sealed class Planner(Tides tides, Clock clock)
    {
        public Tides Tides => tides;

        public Clock Clock => clock;
    }

    private sealed class Crew(Roster roster)
    {
        public Roster Roster => roster;
    }

    private sealed class Desk(Planner planner, Roster roster, Page page, Crew crew)
    {
        public Planner Planner => planner;

        public Roster Roster => roster;

        public Page Page => page;

        public Crew Crew => crew;
    }
}
