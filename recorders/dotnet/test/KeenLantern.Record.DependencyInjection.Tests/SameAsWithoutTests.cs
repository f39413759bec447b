using System.Collections.Concurrent;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.DependencyInjection.Extensions;
using Xunit;

namespace KeenLantern.Record.DependencyInjection.Tests;

/// <summary>
/// Each scenario runs on the plain container and on the recorded one, with recording on and off, and with every way of checking
/// registrations: what is constructed and disposed, in which order, what is thrown, and with which words, has to be the same.
/// </summary>
public class SameAsWithoutTests
{
    private static readonly AsyncLocal<List<string>> Log = new();

    private static void Say(string what)
    {
        lock (Log.Value!)
        {
            Log.Value!.Add(what);
        }
    }

    private static readonly Dictionary<string, (Action<IServiceCollection> Register, Action<IServiceProvider> Use)> Scenarios = new()
    {
        ["a cycle"] = (s => s.AddTransient<Ebb>().AddTransient<Flood>().AddTransient<NeedsEbb>(), sp => Try(() => sp.GetService<NeedsEbb>())),
        ["a cycle of singletons"] = (s => s.AddSingleton<Ebb>().AddSingleton<Flood>(), sp => Try(() => sp.GetService<Flood>())),
        ["a missing dependency"] = (s => s.AddScoped<Harbour>().AddScoped<Pilot>(), sp => InScope(sp, at => Try(() => at.GetService<Harbour>()))),
        ["nothing is constructed before a refusal"] = (
            s => s.AddScoped<Gauge>().AddScoped<NeedsTwo>().AddScoped<Pilot>(), sp => InScope(sp, at => Try(() => at.GetService<NeedsTwo>()))),
        ["a missing service"] = (_ => { }, sp => Try(() => sp.GetRequiredService<Gauge>())),
        ["a missing key"] = (s => s.AddKeyedSingleton<Gauge>("north"), sp =>
        {
            Try(() => sp.GetRequiredKeyedService<Gauge>("south"));
            Try(() => sp.GetKeyedService<Gauge>("south"));
        }
        ),
        ["several constructors"] = (s => s.AddSingleton<Gauge>().AddSingleton<Chooses>(), sp => Try(() => sp.GetService<Chooses>())),
        ["several constructors, ambiguous"] = (
            s => s.AddSingleton<Gauge>().AddSingleton<Clock>().AddSingleton<Ambiguous>(), sp => Try(() => sp.GetService<Ambiguous>())),
        ["no public constructor"] = (s => s.AddSingleton<Hidden>(), sp => Try(() => sp.GetService<Hidden>())),
        ["a default value"] = (s => s.AddSingleton<HasDefault>(), sp => Try(() => sp.GetService<HasDefault>())),
        ["scoped in a singleton"] = (s => s.AddScoped<Gauge>().AddSingleton<NeedsGauge>(), sp =>
        {
            Try(() => sp.GetService<NeedsGauge>());
            InScope(sp, at => Try(() => at.GetService<NeedsGauge>()));
        }
        ),
        ["scoped from the root"] = (s => s.AddScoped<Gauge>(), sp => Try(() => sp.GetService<Gauge>())),
        ["a transient that needs a scope, from the root"] = (
            s => s.AddScoped<Gauge>().AddTransient<NeedsGauge>(), sp => Try(() => sp.GetService<NeedsGauge>())),
        ["scoped in a singleton's factory"] = (
            s => s.AddScoped<Gauge>().AddSingleton(sp => new NeedsGauge(sp.GetRequiredService<Gauge>())),
            sp => InScope(sp, at => Try(() => at.GetService<NeedsGauge>()))),
        ["disposal, in reverse order"] = (
            s => s.AddScoped<Gauge>().AddTransient<NeedsGauge>().AddSingleton<Clock>().AddScoped<NeedsClock>(),
            sp => InScope(sp, at =>
            {
                Try(() => at.GetService<NeedsGauge>());
                Try(() => at.GetService<NeedsClock>());
                Try(() => at.GetService<NeedsGauge>());
            })),
        ["a factory twice, a forward, an instance"] = (
            s => s.AddSingleton(_ => new Gauge()).AddSingleton(sp => (object)sp.GetRequiredService<Gauge>()).AddSingleton(new Clock()),
            sp =>
            {
                Same(sp.GetRequiredService<Gauge>(), sp.GetRequiredService<object>());
                Same(sp.GetRequiredService<Clock>(), sp.GetRequiredService<Clock>());
            }
        ),
        ["all of a service, in order"] = (
            s => s.AddSingleton<IWater, River>().AddScoped<IWater, Sea>().AddTransient<IWater, River>().AddSingleton<IWater>(new Sea()),
            sp => InScope(sp, at => Say(string.Join(", ", at.GetServices<IWater>().Select(w => w.GetType().Name))))),
        ["replaced, removed, added once"] = (s =>
        {
            s.AddSingleton<IWater, River>().TryAddSingleton<IWater, Sea>();
            s.Replace(ServiceDescriptor.Scoped<IWater, Sea>());
            s.AddSingleton<Gauge>().RemoveAll<Gauge>();
        }, sp => InScope(sp, at =>
        {
            Say(at.GetRequiredService<IWater>().GetType().Name);
            Say($"{at.GetService<Gauge>() is null}");
        })),
        ["open, with constraints"] = (
            s => s.AddSingleton(typeof(IChart<>), typeof(Chart<>)).AddSingleton(typeof(IChart<>), typeof(WaterChart<>)).AddSingleton<Gauge>(),
            sp =>
            {
                Say(sp.GetRequiredService<IChart<Sea>>().GetType().Name);
                Try(() => sp.GetService<IChart<int>>());
                Say(string.Join(", ", sp.GetServices<IChart<Sea>>().Select(c => c.GetType().Name)));
                Say(string.Join(", ", sp.GetServices<IChart<int>>().Select(c => c.GetType().Name)));
                Same(sp.GetRequiredService<IChart<River>>(), sp.GetRequiredService<IChart<River>>());
            }
        ),
        ["keys"] = (
            s => s.AddKeyedSingleton<IWater, River>("north").AddKeyedScoped<IWater, Sea>("south").AddKeyedTransient<Keyed>(KeyedService.AnyKey)
                .AddTransient<FromKey>(),
            sp => InScope(sp, at =>
            {
                Say(at.GetRequiredKeyedService<IWater>("south").GetType().Name);
                Say(at.GetRequiredKeyedService<Keyed>("pier").Key);
                Try(() => at.GetRequiredKeyedService<Keyed>(7));
                Say(at.GetRequiredService<FromKey>().Water.GetType().Name);
                Say(string.Join(", ", at.GetKeyedServices<IWater>(KeyedService.AnyKey).Select(w => w.GetType().Name)));
            })),
        ["asynchronous disposal only"] = (s => s.AddScoped<Slow>(), sp =>
        {
            Try(() => InScope(sp, at => at.GetService<Slow>()));
            using IServiceScope scope = sp.CreateScope();
            scope.ServiceProvider.GetService<Slow>();
            ((IAsyncDisposable)scope).DisposeAsync().AsTask().GetAwaiter().GetResult();
        }
        ),
        ["a disposal that throws"] = (
            s => s.AddScoped<Gauge>().AddScoped<Breaks>().AddScoped<NeedsGauge>(),
            sp => Try(() => InScope(sp, at =>
            {
                at.GetService<Gauge>();
                at.GetService<Breaks>();
                at.GetService<NeedsGauge>();
            }))),
        ["a constructor that throws"] = (s => s.AddScoped<Throws>().AddScoped<NeedsThrows>(), sp => InScope(sp, at => Try(() => at.GetService<NeedsThrows>()))),
        ["scopes in scopes"] = (s => s.AddScoped<Gauge>(), sp => InScope(sp, outer =>
        {
            Gauge mine = outer.GetRequiredService<Gauge>();
            InScope(outer, inner => Same(mine, inner.GetRequiredService<Gauge>()));
            Same(outer, outer.GetRequiredService<IServiceProvider>());
            Same(outer.GetRequiredService<IServiceScopeFactory>(), outer.GetRequiredService<IServiceScopeFactory>());
        })),
        ["what is a service"] = (s => s.AddSingleton<Gauge>().AddSingleton(typeof(IChart<>), typeof(Chart<>)).AddKeyedSingleton<Clock>("a"), sp =>
        {
            var known = sp.GetRequiredService<IServiceProviderIsKeyedService>();
            Type[] types = [typeof(Gauge), typeof(Clock), typeof(IChart<int>), typeof(IChart<>), typeof(IEnumerable<Sea>), typeof(IServiceProvider)];
            foreach (Type type in types)
            {
                Say($"{known.IsService(type)} {known.IsKeyedService(type, "a")}");
            }
        }
        ),
        ["a provider in a singleton is the root's"] = (s => s.AddSingleton<HasProvider>().AddSingleton<Gauge>(), sp => InScope(sp, at =>
            Same(at.GetRequiredService<HasProvider>().Provider.GetRequiredService<Gauge>(), sp.GetRequiredService<Gauge>()))),
        ["after its end"] = (s => s.AddScoped<Gauge>(), sp =>
        {
            IServiceScope scope = sp.CreateScope();
            scope.Dispose();
            scope.Dispose();
            Try(() => scope.ServiceProvider.GetService<Gauge>());
        }
        ),
        ["built by hand from a provider"] = (s => s.AddScoped<Gauge>(), sp => InScope(sp, at =>
        {
            ActivatorUtilities.CreateInstance<NeedsGauge>(at);
            Try(() => ActivatorUtilities.CreateInstance<Harbour>(at));
        })),
    };

    public static TheoryData<string, bool, bool, bool> Ways()
    {
        var ways = new TheoryData<string, bool, bool, bool>();
        foreach (string scenario in Scenarios.Keys)
        {
            foreach (bool on in (bool[])[true, false])
            {
                ways.Add(scenario, on, false, false);
                ways.Add(scenario, on, true, false);
                ways.Add(scenario, on, true, true);
            }
        }

        return ways;
    }

    [Theory]
    [MemberData(nameof(Ways))]
    public void Behaves_as_without_the_recorder(string scenario, bool on, bool validateScopes, bool validateOnBuild)
    {
        var options = new ServiceProviderOptions { ValidateScopes = validateScopes, ValidateOnBuild = validateOnBuild };
        (Action<IServiceCollection> register, Action<IServiceProvider> use) = Scenarios[scenario];
        using Recorder recorder = Recording.ToNowhere();
        if (!on)
        {
            recorder.Set(Setting.Off);
        }

        List<string> without = Run(register, use, services => services.BuildServiceProvider(options));
        List<string> with = Run(register, use, services => services.BuildRecordedServiceProvider(recorder, options));
        Assert.Equal(without, with);
        Assert.NotEmpty(without);
    }

    private static List<string> Run(Action<IServiceCollection> register, Action<IServiceProvider> use, Func<IServiceCollection, IServiceProvider> build)
    {
        Log.Value = [];
        var services = new ServiceCollection();
        register(services);
        Try(() =>
        {
            IServiceProvider provider = build(services);
            use(provider);
            ((IDisposable)provider).Dispose();
        });
        Say($"{services.Count} registrations");
        return Log.Value;
    }

    // Two ways lead from each layer to the next: a walk along every path would not end.
    [Fact]
    public void Dependencies_that_many_paths_share_are_walked_once()
    {
        using Recorder recorder = Recording.ToNowhere();
        Log.Value = [];
        var services = new ServiceCollection();
        Type type = typeof(Gauge);
        services.AddSingleton(type);
        for (int layer = 0; layer < 40; layer++)
        {
            type = typeof(Both<>).MakeGenericType(type);
            services.AddSingleton(type);
        }

        using RecordedServiceProvider provider = services.BuildRecordedServiceProvider(recorder);
        Assert.IsType(type, provider.GetService(type));
    }

    private sealed class Both<T>(T left, T right)
    {
        public (T, T) Parts => (left, right);
    }

    [Fact]
    public void A_singleton_asked_for_by_many_threads_is_built_once()
    {
        using Recorder recorder = Recording.ToNowhere();
        Log.Value = [];
        using RecordedServiceProvider provider = new ServiceCollection().AddSingleton<Gauge>().AddSingleton<NeedsGauge>().AddScoped<NeedsClock>()
            .AddScoped<Clock>().BuildRecordedServiceProvider(recorder);
        var seen = new ConcurrentDictionary<NeedsGauge, bool>();
        Parallel.For(0, 64, _ => InScope(provider, at =>
        {
            seen[at.GetRequiredService<NeedsGauge>()] = true;
            Same(at.GetRequiredService<NeedsClock>(), at.GetRequiredService<NeedsClock>());
        }));
        Assert.Single(seen);
        Assert.DoesNotContain("not the same", Log.Value);
        Assert.Equal(64, Log.Value.Count(l => l == "made Clock"));
        Assert.Equal(64, Log.Value.Count(l => l == "disposed Clock"));
    }

    private static void Try(Action work)
    {
        try
        {
            work();
        }
        catch (Exception e)
        {
            for (Exception? at = e; at is not null; at = at.InnerException)
            {
                Say($"{at.GetType()}: {at.Message}");
            }
        }
    }

    private static void Try(Func<object?> work) => Try(() => Say($"got {work()?.GetType().Name ?? "nothing"}"));

    private static void InScope(IServiceProvider provider, Action<IServiceProvider> work)
    {
        using IServiceScope scope = provider.CreateScope();
        work(scope.ServiceProvider);
    }

    private static void Same(object a, object b) => Say(ReferenceEquals(a, b) ? "the same" : "not the same");

    private abstract class Part : IDisposable
    {
        protected Part() => Say("made " + GetType().Name);

        public virtual void Dispose()
        {
            Say("disposed " + GetType().Name);
            GC.SuppressFinalize(this);
        }
    }

    private interface IWater;

    private interface IChart<T>;

    private sealed class River : Part, IWater;

    private sealed class Sea : Part, IWater;

    private sealed class Gauge : Part;

    private sealed class Clock : Part;

    private sealed class NeedsGauge(Gauge gauge) : Part
    {
        public Gauge Gauge => gauge;
    }

    private sealed class NeedsClock(Clock clock) : Part
    {
        public Clock Clock => clock;
    }

    private sealed class Pilot(Clock clock) : Part
    {
        public Clock Clock => clock;
    }

    private sealed class Harbour(Pilot pilot) : Part
    {
        public Pilot Pilot => pilot;
    }

    private sealed class NeedsTwo(Gauge gauge, Pilot pilot) : Part
    {
        public (Gauge, Pilot) Both => (gauge, pilot);
    }

    private sealed class Ebb(Flood flood) : Part
    {
        public Flood Flood => flood;
    }

    private sealed class Flood(Ebb ebb) : Part
    {
        public Ebb Ebb => ebb;
    }

    private sealed class NeedsEbb(Ebb ebb) : Part
    {
        public Ebb Ebb => ebb;
    }

    private sealed class Chooses : Part
    {
        public Chooses() => Say("no parameter");

        public Chooses(Gauge gauge) => Say($"one {gauge.GetType().Name}");

        public Chooses(Gauge gauge, Clock clock) => Say($"two {gauge} {clock}");
    }

    private sealed class Ambiguous : Part
    {
        public Ambiguous(Gauge gauge) => Say($"one {gauge}");

        public Ambiguous(Clock clock) => Say($"two {clock}");
    }

    private sealed class Hidden : Part
    {
        private Hidden()
        {
        }
    }

    private sealed class HasDefault : Part
    {
        public HasDefault(int depth = 7, Gauge? gauge = null, DayOfWeek? day = DayOfWeek.Friday, TimeSpan wait = default) =>
            Say($"{depth} {gauge is null} {day} {wait}");
    }

    private sealed class Chart<T>(Gauge gauge) : Part, IChart<T>
    {
        public Gauge Gauge => gauge;
    }

    private sealed class WaterChart<T> : Part, IChart<T>
        where T : IWater;

    private sealed class Keyed([ServiceKey] string key) : Part
    {
        public string Key => key;
    }

    private sealed class FromKey([FromKeyedServices("north")] IWater water) : Part
    {
        public IWater Water => water;
    }

    private sealed class Slow : IAsyncDisposable
    {
        public ValueTask DisposeAsync()
        {
            Say("disposed slowly");
            return default;
        }
    }

    private sealed class Breaks : Part
    {
        public override void Dispose()
        {
            base.Dispose();
            throw new InvalidOperationException("it breaks");
        }
    }

    private sealed class Throws : Part
    {
        public Throws() => throw new InvalidOperationException("it throws");
    }

    private sealed class NeedsThrows(Throws throws) : Part
    {
        public Throws Throws => throws;
    }

    private sealed class HasProvider(IServiceProvider provider) : Part
    {
        public IServiceProvider Provider => provider;
    }
}
