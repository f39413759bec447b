using Microsoft.Extensions.DependencyInjection;

namespace Saltmarsh;

/// <summary>The office's time.</summary>
internal interface IClock
{
    DateTimeOffset Now { get; }
}

/// <summary>The office's clock.</summary>
internal sealed class HarbourClock : IClock
{
    public DateTimeOffset Now => DateTimeOffset.UtcNow;
}

/// <summary>Lines to the gauges out on the marsh. A request takes one and gives it back.</summary>
internal sealed class GaugeLines
{
    private int free = 64;

    public void Take() => Interlocked.Decrement(ref free);

    public void GiveBack() => Interlocked.Increment(ref free);
}

/// <summary>The water at the gauges.</summary>
internal interface ITides
{
    double Height(string gauge);
}

/// <summary>The water as one request reads it.</summary>
internal sealed class GaugeTides : ITides, IDisposable
{
    private readonly GaugeLines lines;
    private readonly HarbourClock clock;

    public GaugeTides(GaugeLines lines, HarbourClock clock)
    {
        this.lines = lines;
        this.clock = clock;
        lines.Take();
    }

    public double Height(string gauge) => ((gauge.Length * 37) + (clock.Now.Second % 7)) / 10.0;

    public void Dispose() => lines.GiveBack();
}

/// <summary>Counts the readings of one request.</summary>
internal sealed class AuditedTides([FromKeyedServices("gauge")] ITides inner) : ITides
{
    public int Readings { get; private set; }

    public double Height(string gauge)
    {
        Readings++;
        return inner.Height(gauge);
    }
}

/// <summary>What the water will do: a table that takes a while to work out.</summary>
internal sealed class TideModel
{
    public double[] Table { get; } = [.. Enumerable.Range(0, 24).Select(hour =>
    {
        double height = 0;
        for (int n = 1; n < 12_000; n++)
        {
            height += Math.Sin((double)hour / n) / n;
        }

        return height;
    })];
}

/// <summary>Who is on duty.</summary>
internal class PilotRoster
{
    public string[] On { get; } = ["Ames", "Bryce", "Coll"];
}

/// <summary>The page of the log that one piece of work writes on.</summary>
internal sealed class LogPage : IDisposable
{
    private readonly List<string> lines = [];

    public bool Closed { get; private set; }

    public void Write(string line) => lines.Add(line);

    public void Dispose() => Closed = true;
}

internal interface IWeatherReport
{
    int Wind { get; }
}

/// <summary>The weather at a station, from its buoy.</summary>
internal sealed class BuoyWeather(HarbourClock clock) : IWeatherReport
{
    public int Wind => 4 + (clock.Now.Second % 3);
}

/// <summary>The weather that the office's tests use: it never blows.</summary>
internal sealed class FakeWeather : IWeatherReport
{
    public int Wind => 0;
}

/// <summary>Finds a berth for a ship.</summary>
internal class BerthPlanner(ITides tides, TideModel model)
{
    public string Plan(double draught) => tides.Height("lock-gate") + model.Table[6] > draught ? "berth 3" : "wait";
}

/// <summary>Takes arrivals.</summary>
internal sealed class ArrivalDesk(BerthPlanner planner, PilotRoster roster, LogPage log)
{
    public string Take(string ship)
    {
        string berth = planner.Plan(ship.Length / 2.0);
        log.Write($"{ship}: {berth}, {roster.On[0]}");
        return berth;
    }
}

/// <summary>A tug's crew.</summary>
internal class TugCrew(PilotRoster roster)
{
    public string Name => "Bittern, " + roster.On[1];
}

/// <summary>Sends tugs.</summary>
internal sealed class TugDispatcher(TugCrew crew, [FromKeyedServices("outer-bar")] IWeatherReport weather)
{
    public string Send() => weather.Wind > 9 ? "stay" : crew.Name;
}

/// <summary>Compares the ledger with what lies at the quays.</summary>
internal sealed class ReconcileDesk(IClock clock)
{
    public DateTimeOffset Begin() => clock.Now;
}

/// <summary>The work of the night, each step in its own scope.</summary>
internal sealed class NightJob(IServiceScopeFactory scopes, Mistake mistake)
{
    public void Run()
    {
        using IServiceScope night = scopes.CreateScope();
        night.ServiceProvider.GetRequiredService<ReconcileDesk>().Begin();
        for (int step = 0; step < 3; step++)
        {
            IServiceScope inner = scopes.CreateScope();
            // "Nothing to do in the last step": but its scope is there by then.
            if (step == 2 && mistake.Is("step-left-open"))
            {
                return;
            }

            inner.ServiceProvider.GetRequiredService<LogPage>().Write("compared");
            inner.Dispose();
        }
    }
}

/// <summary>Takes messages by radio, each in its own scope.</summary>
internal sealed class RadioDesk(IServiceScopeFactory scopes, IServiceProvider office, Mistake mistake)
{
    public void Hear(string ship)
    {
        using IServiceScope message = scopes.CreateScope();
        // It keeps the pages "where they are needed": in the office itself, which closes them when it closes.
        IServiceProvider pages = mistake.Is("pages-pile-up") ? office : message.ServiceProvider;
        for (int n = 0; n < (mistake.Is("pages-pile-up") ? 8 : 1); n++)
        {
            pages.GetRequiredService<LogPage>().Write(ship);
        }

        // The chart writes it in one word. And since "no report" happens, the code takes null for an answer.
        string station = mistake.Is("station-misspelt") ? "outerbar" : "outer-bar";
        _ = message.ServiceProvider.GetKeyedService<IWeatherReport>(station)?.Wind;
    }
}

/// <summary>The mistake that is made, or none.</summary>
internal sealed record Mistake(string Name)
{
    public bool Is(string name) => Name == name;
}
