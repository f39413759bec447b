using KeenLantern.Record;

namespace Gallery;

internal interface IAnswers<TQuestion>
{
    string Answer(TQuestion question);
}

internal sealed record WhereIs(string Ship);

internal sealed record HowDeep(string Place);

internal sealed class AnswersWhere(Atlas atlas) : Counted, IAnswers<WhereIs>
{
    public string Answer(WhereIs question) => atlas.Of(question.Ship);
}

internal sealed class AnswersDepth(Atlas atlas) : Counted, IAnswers<HowDeep>
{
    public string Answer(HowDeep question) => atlas.Of(question.Place);
}

internal sealed class Enquiries(IServiceProvider provider) : Counted
{
    public string Ask(object question)
    {
        Type type = typeof(IAnswers<>).MakeGenericType(question.GetType());
        object answers = provider.GetRequiredService(type);
        return (string)type.GetMethod("Answer")!.Invoke(answers, [question])!;
    }
}

internal class Atlas : CountedDisposable
{
    public virtual string Of(string what) => "north of " + what;
}

internal interface IPlotter
{
    int Plot(int course);
}

internal sealed class Compass : Counted, IPlotter
{
    public int Plot(int course) => course;
}

internal sealed class Gyro : Counted, IPlotter
{
    public int Plot(int course) => course + 1;
}

internal sealed class Navigator(IEnumerable<IPlotter> plotters, IServiceProvider provider) : Counted
{
    public int Plot(string by) => plotters.Sum(p => p.Plot(1)) + (provider.GetKeyedService<IPlotter>(by)?.Plot(2) ?? 0);
}

internal interface ISoundings
{
    int At(string place);
}

internal sealed class Lead : CountedDisposable, ISoundings
{
    public int At(string place) => place.Length;
}

internal sealed class Remembered([FromKeyedServices("lead")] ISoundings inner) : Counted, ISoundings
{
    private readonly Dictionary<string, int> known = [];

    public int At(string place) => known.TryGetValue(place, out int depth) ? depth : known[place] = inner.At(place);
}

internal class Chartroom(ISoundings soundings) : Counted
{
    public int Depth => soundings.At("bar");
}

internal sealed class DirectChartroom([FromKeyedServices("lead")] ISoundings soundings) : Chartroom(soundings);

/// <summary>Applications that choose at run time who answers.</summary>
internal static class Dispatching
{
    // A handler is not registered.
    public static Task Dispatcher(Recorder recorder, bool mistaken) => Applications.Web(
        recorder,
        services =>
        {
            services.AddScoped<Atlas>().AddScoped<Enquiries>().AddScoped<IAnswers<WhereIs>, AnswersWhere>();
            if (!mistaken)
            {
                services.AddScoped<IAnswers<HowDeep>, AnswersDepth>();
            }
        },
        app =>
        {
            app.MapGet("/where/{ship}", (string ship, Enquiries desk) => desk.Ask(new WhereIs(ship)));
            app.MapGet("/depth/{place}", (string place, Enquiries desk) =>
            {
                try
                {
                    return desk.Ask(new HowDeep(place));
                }
                catch (InvalidOperationException)
                {
                    return "unknown";
                }
            });
        },
        10,
        "/where/gull",
        "/depth/bar");

    // The key is spelt otherwise.
    public static Task Strategies(Recorder recorder, bool mistaken) => Applications.Web(
        recorder,
        services => services.AddSingleton<IPlotter, Compass>().AddSingleton<IPlotter, Gyro>().AddKeyedSingleton<IPlotter, Gyro>("gyro")
            .AddKeyedScoped<IPlotter, Compass>("compass").AddScoped<Navigator>(),
        app => app.MapGet("/plot", (Navigator navigator) => navigator.Plot(mistaken ? "Gyro" : "gyro") + navigator.Plot("compass")),
        10,
        "/plot");

    // A consumer bypasses the layer that remembers.
    public static Task Decorated(Recorder recorder, bool mistaken) => Applications.Web(
        recorder,
        services =>
        {
            services.AddKeyedScoped<ISoundings, Lead>("lead").AddScoped<ISoundings, Remembered>();
            services.AddScoped(typeof(Chartroom), mistaken ? typeof(DirectChartroom) : typeof(Chartroom));
        },
        app =>
        {
            app.MapGet("/depth", (Chartroom room) => room.Depth);
            app.MapGet("/bar", (ISoundings soundings) => soundings.At("bar"));
        },
        10,
        "/depth",
        "/bar");
}
