using Microsoft.Extensions.DependencyInjection;

namespace Saltmarsh;

/// <summary>The office's registrations, with a mistake.</summary>
internal static class Mistakes
{
    /// <summary>The mistakes that can be made, each with a description.</summary>
    public static readonly Dictionary<string, string> All = new()
    {
        ["roster-keeps-tides"] = "the pilot roster, a singleton, keeps the tide readings of the first request that needed them",
        ["step-left-open"] = "a step of the night job that finds nothing to do returns before its scope is disposed",
        ["model-rebuilt"] = "the tide model was registered as scoped, and takes a while to build",
        ["two-clocks"] = "the clock was registered once more under its interface, instead of forwarding to the one there is",
        ["station-misspelt"] = "the radio desk asks for the weather of a station whose name is spelt otherwise",
        ["gauge-read-direct"] = "the berth planner asks for the gauge itself and bypasses the layer that audits it",
        ["crew-waits-for-tug"] = "the tug's crew asks for the dispatcher, who asks for the crew",
        ["stand-in-weather"] = "the weather that tests use was left in place of the buoy's",
        ["pages-pile-up"] = "the radio desk keeps asking the office itself for log pages, which closes them when it closes",
    };

    public static IServiceCollection AddOffice(this IServiceCollection services, Mistake mistake, bool layersByScrutor)
    {
        services.AddSingleton(mistake);
        services.AddSingleton<HarbourClock>();
        services.AddSingleton<GaugeLines>();
        if (layersByScrutor)
        {
            services.AddScoped<ITides, GaugeTides>();
            services.Decorate<ITides, AuditedTides>();
        }
        else
        {
            services.AddKeyedScoped<ITides, GaugeTides>("gauge");
            services.AddScoped<ITides, AuditedTides>();
        }

        services.AddTransient<LogPage>();
        services.AddScoped<ArrivalDesk>();
        services.AddScoped<TugDispatcher>();
        services.AddScoped<ReconcileDesk>();
        services.AddSingleton<NightJob>();
        services.AddSingleton<RadioDesk>();

        // It was made to be built for each request, "to have the tides in one place".
        services.Add(new ServiceDescriptor(
            typeof(TideModel), typeof(TideModel), mistake.Is("model-rebuilt") ? ServiceLifetime.Scoped : ServiceLifetime.Singleton));

        // It took the tides "to know them at once": those of the first request that asked.
        services.AddSingleton(typeof(PilotRoster), mistake.Is("roster-keeps-tides") ? typeof(TidalRoster) : typeof(PilotRoster));

        // The author of the night job did not find the office's clock, and registered one.
        _ = mistake.Is("two-clocks")
            ? services.AddSingleton<IClock, HarbourClock>()
            : services.AddSingleton<IClock>(office => office.GetRequiredService<HarbourClock>());

        // "Only until the buoy is back".
        services.AddKeyedSingleton(
            typeof(IWeatherReport), "outer-bar", mistake.Is("stand-in-weather") ? typeof(FakeWeather) : typeof(BuoyWeather));
        services.AddScoped(typeof(BerthPlanner), mistake.Is("gauge-read-direct") ? typeof(DirectPlanner) : typeof(BerthPlanner));

        // The crew wanted to know which tug it is for, and asked who sends it.
        services.AddScoped(typeof(TugCrew), mistake.Is("crew-waits-for-tug") ? typeof(CrewThatAsks) : typeof(TugCrew));
        return services;
    }
}

internal sealed class TidalRoster(ITides tides) : PilotRoster
{
    public ITides Tides => tides;
}

internal sealed class DirectPlanner([FromKeyedServices("gauge")] ITides tides, TideModel model) : BerthPlanner(tides, model);

internal sealed class GaugePlanner(GaugeTides tides, TideModel model) : BerthPlanner(tides, model);

internal sealed class CrewThatAsks(PilotRoster roster, TugDispatcher dispatcher) : TugCrew(roster)
{
    public TugDispatcher Dispatcher => dispatcher;
}
