using Autofac;

namespace Saltmarsh;

/// <summary>The office's registrations in Autofac, with a mistake.</summary>
internal sealed class OfficeModule(Mistake mistake) : Module
{
    protected override void Load(ContainerBuilder builder)
    {
        builder.RegisterInstance(mistake);
        builder.RegisterType<GaugeLines>().SingleInstance();
        var gauge = builder.RegisterType<GaugeTides>().As<ITides>().InstancePerLifetimeScope();
        builder.RegisterDecorator<AuditedTides, ITides>();
        builder.RegisterType<LogPage>();
        builder.RegisterType<ArrivalDesk>().InstancePerLifetimeScope();
        builder.RegisterType<TugDispatcher>().InstancePerLifetimeScope();
        builder.RegisterType<ReconcileDesk>().InstancePerLifetimeScope();
        builder.RegisterType<NightJob>().SingleInstance();
        builder.RegisterType<RadioDesk>().SingleInstance();

        // It was made to be built for each request, "to have the tides in one place".
        var model = builder.RegisterType<TideModel>();
        _ = mistake.Is("model-rebuilt") ? model.InstancePerLifetimeScope() : model.SingleInstance();

        // It took the tides "to know them at once": those of the first request that asked.
        builder.RegisterType(mistake.Is("roster-keeps-tides") ? typeof(TidalRoster) : typeof(PilotRoster)).As<PilotRoster>().SingleInstance();

        // The author of the night job did not find the office's clock, and registered one.
        if (mistake.Is("two-clocks"))
        {
            builder.RegisterType<HarbourClock>().SingleInstance();
            builder.RegisterType<HarbourClock>().As<IClock>().SingleInstance();
        }
        else
        {
            builder.RegisterType<HarbourClock>().AsSelf().As<IClock>().SingleInstance();
        }

        // "Only until the buoy is back".
        builder.RegisterType(mistake.Is("stand-in-weather") ? typeof(FakeWeather) : typeof(BuoyWeather))
            .Keyed<IWeatherReport>("outer-bar").SingleInstance();
        if (mistake.Is("gauge-read-direct"))
        {
            gauge.AsSelf();
        }

        builder.RegisterType(mistake.Is("gauge-read-direct") ? typeof(GaugePlanner) : typeof(BerthPlanner)).As<BerthPlanner>().InstancePerLifetimeScope();

        // The crew wanted to know which tug it is for, and asked who sends it.
        builder.RegisterType(mistake.Is("crew-waits-for-tug") ? typeof(CrewThatAsks) : typeof(TugCrew)).As<TugCrew>().InstancePerLifetimeScope();
    }
}
