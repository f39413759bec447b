using System.Runtime.CompilerServices;
using System.Text.Json;
using KeenLantern.Record.Tests;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.DependencyInjection.Extensions;
using Xunit;

namespace KeenLantern.Record.DependencyInjection.Tests;

/// <summary>What a recording says of containers whose instances, layers and ends are known.</summary>
public class RecordingTests
{
    private const string File = "KeenLantern.Record.DependencyInjection.Tests/RecordingTests.cs:";

    private static int Line([CallerLineNumber] int line = 0) => line;

    // Records a container, its use, and its disposal, which may throw.
    private static RecordedTrace Recorded(Action<IServiceCollection> register, Action<RecordedServiceProvider> use) => RecordedTrace.Of(recorder =>
    {
        var services = new ServiceCollection();
        register(services);
        RecordedServiceProvider provider = services.BuildRecordedServiceProvider(recorder);
        use(provider);
        try
        {
            provider.Dispose();
        }
        catch (InvalidOperationException)
        {
        }
    });

    [Fact]
    public void Registrations_have_the_place_of_the_call()
    {
        int first = 0;
        RecordedTrace recording = Recorded(
            services =>
            {
                first = Line();
                services.AddScoped<Lamp>();
                services.Add(ServiceDescriptor.Singleton(typeof(IBeam), typeof(Beam)));
                services.AddKeyedTransient<IBeam, Beam>("red");
                services.TryAddSingleton<Tower>();
                services.AddSingleton<Keeper>(sp =>
                    new Keeper(sp.GetRequiredService<IServiceScopeFactory>()));
                services.Add(ServiceDescriptor.Scoped<Log, Log>());
                services.AddTransient(typeof(IStore<>), typeof(Store<>));
                services.AddWicks();
            },
            _ => { });
        string? At(string service, string? key = null) => RecordedTrace.Text(recording.Registered(service, key), "at");
        Assert.Equal(File + (first + 1), At("Lamp"));
        Assert.Equal(File + (first + 2), At("IBeam"));
        Assert.Equal(File + (first + 3), At("IBeam", "red"));
        Assert.Equal(File + (first + 4), At("Tower"));
        Assert.Equal(File + (first + 6), At("Keeper"));
        Assert.Equal(File + (first + 7), At("Log"));
        Assert.Equal(File + (first + 8), At("IStore<>"));
        Assert.Equal(File + RecordingRegistrations.WickLine, At("Wick"));
    }

    [Fact]
    public void Scopes_have_the_place_at_which_they_are_opened()
    {
        int line = 0;
        RecordedTrace recording = Recorded(
            services => services.AddSingleton(sp => new Keeper(sp.GetRequiredService<IServiceScopeFactory>())),
            provider =>
            {
                for (int n = 0; n < 1000; n++)
                {
                    provider.GetRequiredService<Keeper>().Watch();
                }

                line = Line() + 1;
                provider.CreateScope().Dispose();
            });
        // Of many, the first 256 and every sixteenth have one.
        List<string?> places = [.. recording.All("open").Select(open => RecordedTrace.Text(open, "at"))];
        Assert.Equal(1001, places.Count);
        Assert.All(places.Take(256), place => Assert.Equal(File + Keeper.Line, place));
        Assert.Equal(256 + ((1000 - 256) / 16), places.Count(place => place == File + Keeper.Line));
        Assert.True(places[1000] == File + line || places[1000] is null);
    }

    [Fact]
    public void A_factory_that_hands_on_is_an_alias()
    {
        bool forwards = true;
        RecordedTrace recording = Recorded(
            services => services.AddSingleton<Beam>().AddSingleton<IBeam>(sp => sp.GetRequiredService<Beam>())
                .AddTransient(sp => forwards ? sp.GetRequiredService<Lamp>() : new BrightLamp()).AddSingleton<Lamp>(),
            provider =>
            {
                provider.GetRequiredService<IBeam>();
                IEnumerable<Lamp> lamps = provider.GetServices<Lamp>();
                forwards = false;
                Assert.NotSame(lamps.First(), provider.GetServices<Lamp>().First());
            });
        Assert.Equal(RecordedTrace.Id(recording.Registered("Beam"), "reg"), RecordedTrace.Id(recording.Registered("IBeam"), "alias"));
        long sometimes = RecordedTrace.Id(recording.All("register").First(line => RecordedTrace.Text(line, "service")!.EndsWith(".Lamp", StringComparison.Ordinal)), "reg");
        List<bool> aliases = [.. recording.All("register").Where(line => RecordedTrace.Id(line, "reg") == sometimes).Select(line => line.TryGetProperty("alias", out _))];
        Assert.Equal([false, true, false], aliases);
    }

    [Fact]
    public void Layers_that_factories_build_are_layers()
    {
        RecordedTrace recording = Recorded(
            services => services.AddScoped<Beam>().AddScoped<IBeam>(sp => new Shutter(sp.GetRequiredService<Beam>()))
                .AddScoped(sp => new Log(sp.GetRequiredService<Beam>())),
            provider =>
            {
                using IServiceScope scope = provider.CreateScope();
                scope.ServiceProvider.GetRequiredService<IBeam>();
                scope.ServiceProvider.GetRequiredService<Log>();
            });
        Assert.Equal(RecordedTrace.Id(recording.Registered("Beam"), "reg"), RecordedTrace.Id(recording.Registered("IBeam"), "wraps"));
        Assert.False(recording.Registered("Log").TryGetProperty("wraps", out _));
    }

    [Fact]
    public void Closed_forms_are_recorded_with_what_they_were_given_and_their_disposal()
    {
        RecordedTrace recording = Recorded(
            services => services.AddSingleton<Beam>().AddScoped<Lamp>().AddScoped(typeof(IStore<>), typeof(Store<>)).AddScoped<Reader>(),
            provider =>
            {
                using IServiceScope scope = provider.CreateScope();
                scope.ServiceProvider.GetRequiredService<Reader>();
                Assert.Single(scope.ServiceProvider.GetServices<IStore<int>>());
            });
        JsonElement form = recording.All("register").Single(line => line.TryGetProperty("form_of", out _));
        Assert.Equal(RecordedTrace.Id(recording.Registered("IStore<>"), "reg"), RecordedTrace.Id(form, "form_of"));
        JsonElement store = recording.Made(form);
        long[] given = [.. store.GetProperty("with").EnumerateArray().Select(inst => inst.GetInt64())];
        Assert.Equal([RecordedTrace.Id(recording.Made(recording.Registered("Beam")), "inst"), RecordedTrace.Id(recording.Made(recording.Registered("Lamp")), "inst")], given);
        Assert.Equal(["begun", "done"], recording.Disposals(store));
        Assert.Contains(RecordedTrace.Id(store, "inst"), recording.Made(recording.Registered("Reader")).GetProperty("with").EnumerateArray().Select(inst => inst.GetInt64()));
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public void A_disposal_that_throws_is_recorded_as_failed(bool scoped)
    {
        Lamp.Disposed = 0;
        RecordedTrace recording = Recorded(
            services => services.Add(new ServiceDescriptor[]
            {
                new(typeof(Lamp), typeof(Lamp), ServiceLifetime.Singleton),
                new(typeof(Tower), typeof(Tower), scoped ? ServiceLifetime.Scoped : ServiceLifetime.Singleton),
            }),
            provider =>
            {
                IServiceScope scope = provider.CreateScope();
                scope.ServiceProvider.GetRequiredService<Lamp>();
                scope.ServiceProvider.GetRequiredService<Tower>();
                if (scoped)
                {
                    Assert.Throws<InvalidOperationException>(scope.Dispose);
                }
                else
                {
                    scope.Dispose();
                }
            });
        Assert.Equal(["failed"], recording.Disposals(recording.Made(recording.Registered("Tower"))));
        // Where the container goes on after a failure, the others are disposed; where it does not, they are not.
        Assert.Equal(Lamp.Disposed, recording.Disposals(recording.Made(recording.Registered("Lamp"))).Length);
    }

    [Fact]
    public void A_layer_that_asks_for_itself_is_recorded_before_the_stack_overflows()
    {
        int times = 0;
        RecordedTrace recording = Recorded(
            services => services.AddTransient<IBeam>(sp => ++times < 1000 ? new Shutter(sp.GetRequiredService<IBeam>()) : new Beam()),
            provider => provider.GetRequiredService<IBeam>());
        JsonElement fail = recording.All("fail").First();
        Assert.Equal("cycle", RecordedTrace.Text(fail, "why"));
        Assert.Equal(2, fail.GetProperty("path").GetArrayLength());
    }

    [Theory]
    [InlineData(ServiceLifetime.Singleton)]
    [InlineData(ServiceLifetime.Scoped)]
    [InlineData(ServiceLifetime.Transient)]
    public void Calls_on_chosen_services_are_recorded(ServiceLifetime lifetime)
    {
        Horn.Blown = 0;
        Horn.Gone = 0;
        RecordedTrace trace = RecordedTrace.Of(
            recorder =>
            {
                var services = new ServiceCollection();
                services.Add(new ServiceDescriptor(typeof(IHorn), typeof(Horn), lifetime));
                services.Add(new ServiceDescriptor(typeof(Horn), typeof(Horn), lifetime));
                services.AddScoped<Signal>();
                using RecordedServiceProvider provider = services.BuildRecordedServiceProvider(recorder);
                using IServiceScope scope = provider.CreateScope();
                Signal signal = scope.ServiceProvider.GetRequiredService<Signal>();
                Assert.Equal(3, signal.Horn.Blow(3));
                Assert.Equal("too long", Assert.Throws<InvalidOperationException>(() => signal.Horn.Blow(99)).Message);
                Assert.IsType<Horn>(scope.ServiceProvider.GetRequiredService<Horn>()).Blow(1);
            },
            typeof(IHorn));
        JsonElement horn = trace.Made(trace.Registered("IHorn"));
        JsonElement[] uses = [.. trace.All("use")];
        Assert.Equal(2, uses.Length); // not the one on the class
        Assert.All(uses, use => Assert.Equal(RecordedTrace.Id(horn, "inst"), RecordedTrace.Id(use, "inst")));
        Assert.All(uses, use => Assert.Equal(lifetime == ServiceLifetime.Singleton ? 0 : 1, RecordedTrace.Id(use, "scope")));
        Assert.Equal([RecordedTrace.Id(horn, "inst")], trace.Made(trace.Registered("Signal")).GetProperty("with").EnumerateArray().Select(inst => inst.GetInt64()));
        Assert.Equal(["done"], trace.Disposals(horn));
        Assert.Equal(3, Horn.Blown);
        Assert.Equal(2, Horn.Gone);
    }

    internal interface IHorn
    {
        int Blow(int times);
    }

    internal sealed class Horn : IHorn, IDisposable
    {
        internal static int Blown { get; set; }

        internal static int Gone { get; set; }

        public int Blow(int times)
        {
            Blown++;
            return times < 10 ? times : throw new InvalidOperationException("too long");
        }

        public void Dispose() => Gone++;
    }

    internal sealed class Signal(IHorn horn)
    {
        public IHorn Horn => horn;
    }

    internal interface IBeam;

    internal class Beam : IBeam;

    internal sealed class Shutter(IBeam inner) : IBeam
    {
        public IBeam Inner => inner;
    }

    internal sealed class Log(Beam beam)
    {
        public Beam Beam => beam;
    }

    internal class Lamp : IDisposable
    {
        internal static int Disposed { get; set; }

        public void Dispose() => Disposed++;
    }

    internal sealed class BrightLamp : Lamp;

    internal sealed class Tower : IDisposable
    {
        public void Dispose() => throw new InvalidOperationException("it leans");
    }

    internal sealed class Keeper(IServiceScopeFactory scopes)
    {
        internal static int Line { get; private set; }

        internal void Watch()
        {
            Line = RecordingTests.Line() + 1;
            using IServiceScope scope = scopes.CreateScope();
        }
    }

    internal interface IStore<T>;

    internal sealed class Store<T>(Beam beam, Lamp lamp) : IStore<T>, IDisposable
    {
        public Beam Beam => beam;

        public Lamp Lamp => lamp;

        public void Dispose()
        {
        }
    }

    internal sealed class Reader(IStore<int> store)
    {
        public IStore<int> Store => store;
    }

    internal sealed class Wick;
}

internal static class RecordingRegistrations
{
    internal static int WickLine { get; private set; }

    internal static void AddWicks(this IServiceCollection services)
    {
        WickLine = Here() + 1;
        services.AddTransient<RecordingTests.Wick>();
    }

    private static int Here([CallerLineNumber] int line = 0) => line;
}
