using System.Text.Json;
using Autofac;
using Autofac.Core;
using Autofac.Core.Registration;
using Autofac.Features.Indexed;
using Autofac.Features.OwnedInstances;
using KeenLantern.Record.Tests;
using Xunit;

namespace KeenLantern.Record.Autofac.Tests;

/// <summary>What a recording says of containers whose instances, layers, scopes and failures are known.</summary>
public class RecordingTests
{
    private static RecordedTrace Recorded(Action<ContainerBuilder> register, Action<IContainer> use) => RecordedTrace.Of(recorder =>
    {
        var builder = new ContainerBuilder();
        register(builder);
        using IContainer container = builder.RecordWith(recorder).Build();
        use(container);
    });

    private static long Inst(JsonElement make) => RecordedTrace.Id(make, "inst");

    private static List<long> Given(JsonElement make) => [.. Ids(make.GetProperty("with"))];

    private static IEnumerable<long> Ids(JsonElement with) =>
        with.EnumerateArray().SelectMany(one => one.ValueKind == JsonValueKind.Array ? Ids(one) : [one.GetInt64()]);

    [Fact]
    public void Components_are_registered_with_services_lifetime_key_and_place()
    {
        RecordedTrace trace = Recorded(
            builder =>
            {
                builder.RegisterType<Beam>().AsSelf().As<IBeam>().SingleInstance();
                builder.RegisterType<Lamp>().Keyed<Lamp>("red").InstancePerLifetimeScope();
                builder.RegisterInstance(new Tower());
                builder.Register(c => new Keeper(c.Resolve<Beam>(), null)).ExternallyOwned();
            },
            _ => { });
        JsonElement beam = trace.Registered("Beam");
        Assert.Equal("singleton", RecordedTrace.Text(beam, "lifetime"));
        Assert.EndsWith(".IBeam", RecordedTrace.Text(beam.GetProperty("also")[0], "service"), StringComparison.Ordinal);
        Assert.Contains("RecordingTests.cs:", RecordedTrace.Text(beam, "at"), StringComparison.Ordinal);
        Assert.Equal("scoped", RecordedTrace.Text(trace.Registered("Lamp", "red"), "lifetime"));
        Assert.Equal("external", RecordedTrace.Text(trace.Registered("Tower"), "lifetime"));
        Assert.Equal("transient", RecordedTrace.Text(trace.Registered("Keeper"), "lifetime"));
        Assert.Equal(["Beam", "Lamp", "Tower", "Keeper"], trace.All("register").Select(line => RecordedTrace.Text(line, "service")!.Split('.')[^1]));
    }

    [Fact]
    public void Decorators_wrap_one_another_and_what_they_decorate()
    {
        RecordedTrace trace = Recorded(
            builder =>
            {
                builder.RegisterType<Beam>().As<IBeam>().InstancePerLifetimeScope();
                builder.RegisterDecorator<Shutter, IBeam>();
                builder.RegisterDecorator<Filter, IBeam>(context => context.AppliedDecorators.Count == 1);
                builder.RegisterType<Watch>();
            },
            container =>
            {
                using ILifetimeScope scope = container.BeginLifetimeScope();
                Assert.IsType<Filter>(scope.Resolve<Watch>().Beam);
            });
        Dictionary<string, JsonElement> layers = trace.All("register").Where(line => line.TryGetProperty("impl", out _))
            .ToDictionary(line => RecordedTrace.Text(line, "impl")!.Split('.')[^1]);
        Assert.Equal(RecordedTrace.Id(layers["Beam"], "reg"), RecordedTrace.Id(layers["Shutter"], "wraps"));
        Assert.Equal(RecordedTrace.Id(layers["Shutter"], "reg"), RecordedTrace.Id(layers["Filter"], "wraps"));
        Assert.Equal([Inst(trace.Made(layers["Beam"]))], Given(trace.Made(layers["Shutter"])));
        Assert.Equal([Inst(trace.Made(layers["Shutter"]))], Given(trace.Made(layers["Filter"])));
        Assert.Equal([Inst(trace.Made(layers["Filter"]))], Given(trace.Made(layers["Watch"])));
        Assert.Equal("scoped", RecordedTrace.Text(layers["Filter"], "lifetime"));
    }

    [Fact]
    public void Adapters_hand_on_what_they_resolve()
    {
        RecordedTrace trace = Recorded(
            builder =>
            {
                builder.RegisterType<Beam>().AsSelf().As<IBeam>();
                builder.RegisterType<Other>().As<IBeam>();
                builder.RegisterType<Lamp>().Keyed<Lamp>("red").Keyed<Lamp>("green");
                builder.RegisterType<Fleet>().SingleInstance();
            },
            container =>
            {
                Fleet fleet = container.Resolve<Fleet>();
                fleet.Lazy.Value.ToString();
                fleet.Make().ToString();
                fleet.Lamps["red"].ToString();
                fleet.Owned.Dispose();
            });
        JsonElement fleet = trace.Made(trace.Registered("Fleet"));
        // All beams, as one list. The owned one is not kept; the others are built later.
        Assert.Equal(2, fleet.GetProperty("with").EnumerateArray().Single().GetArrayLength());
        Assert.Equal(4, trace.All("make").Count(make => RecordedTrace.Id(make, "reg") == RecordedTrace.Id(trace.Registered("Beam"), "reg")));
        Assert.Contains(trace.All("make"), make => RecordedTrace.Id(make, "reg") == RecordedTrace.Id(trace.Registered("Lamp", "red"), "reg"));
        List<long> closed = [.. trace.All("close").Select(close => RecordedTrace.Id(close, "scope"))];
        Assert.Equal(trace.All("open").Select(open => RecordedTrace.Id(open, "scope")).Append(0), closed);
        Assert.Contains(trace.All("open"), open => RecordedTrace.Text(open, "name")?.EndsWith(".Beam", StringComparison.Ordinal) == true);
    }

    [Fact]
    public void Instances_of_tagged_scopes_live_there()
    {
        RecordedTrace trace = Recorded(
            builder =>
            {
                builder.RegisterType<Lamp>().InstancePerMatchingLifetimeScope("watch");
                builder.RegisterType<Tower>().SingleInstance();
            },
            container =>
            {
                using ILifetimeScope watch = container.BeginLifetimeScope("watch");
                using ILifetimeScope inner = watch.BeginLifetimeScope();
                Assert.Same(inner.Resolve<Lamp>(), watch.Resolve<Lamp>());
                inner.Resolve<Tower>();
                Assert.Throws<DependencyResolutionException>(() => container.Resolve<Lamp>());
            });
        JsonElement[] opened = [.. trace.All("open")];
        Assert.Equal("watch", RecordedTrace.Text(opened[0], "name"));
        Assert.Equal(RecordedTrace.Id(opened[0], "scope"), RecordedTrace.Id(opened[1], "in"));
        JsonElement lamp = trace.Made(trace.Registered("Lamp"));
        Assert.Equal(RecordedTrace.Id(opened[0], "scope"), RecordedTrace.Id(lamp, "scope"));
        Assert.Equal(["done"], trace.Disposals(lamp));
        JsonElement tower = trace.Made(trace.Registered("Tower"));
        Assert.Equal(RecordedTrace.Id(opened[1], "scope"), RecordedTrace.Id(tower, "scope"));
        Assert.Equal(0, tower.GetProperty("owner").GetInt64());
        Assert.Equal("no-scope", RecordedTrace.Text(trace.All("fail").Single(), "why"));
    }

    [Fact]
    public void Factories_are_aliases_or_layers_where_they_act_as_such()
    {
        RecordedTrace trace = Recorded(
            builder =>
            {
                builder.RegisterType<Beam>().SingleInstance();
                builder.Register<IBeam>(c => c.Resolve<Beam>()).SingleInstance();
                builder.Register<IBeam>(c => new Shutter(c.Resolve<Beam>())).Named<IBeam>("shut");
            },
            container =>
            {
                container.Resolve<IBeam>();
                container.ResolveNamed<IBeam>("shut");
            });
        long beam = RecordedTrace.Id(trace.Registered("Beam"), "reg");
        Assert.Equal(beam, RecordedTrace.Id(trace.Registered("IBeam"), "alias"));
        Assert.Equal(beam, RecordedTrace.Id(trace.Registered("IBeam", "shut"), "wraps"));
    }

    [Fact]
    public void Failures_have_their_cause_and_path()
    {
        RecordedTrace trace = Recorded(
            builder =>
            {
                builder.RegisterType<Watch>();
                builder.RegisterType<Left>();
                builder.RegisterType<Right>();
                builder.Register<Lamp>(_ => throw new TimeoutException("no oil"));
            },
            container =>
            {
                Assert.Throws<DependencyResolutionException>(() => container.Resolve<Watch>());
                Assert.Throws<DependencyResolutionException>(() => container.Resolve<Left>());
                Assert.Throws<DependencyResolutionException>(() => container.Resolve<Lamp>());
                Assert.Throws<ComponentNotRegisteredException>(() => container.Resolve<Tower>());
            });
        JsonElement[] fails = [.. trace.All("fail")];
        Assert.Equal(["missing", "cycle", "error"], fails.Select(fail => RecordedTrace.Text(fail, "why")));
        Assert.EndsWith(".IBeam", RecordedTrace.Text(fails[0], "service"), StringComparison.Ordinal);
        Assert.Equal(3, fails[1].GetProperty("path").GetArrayLength());
        Assert.Equal("System.TimeoutException", RecordedTrace.Text(fails[2], "error"));
    }

    [Fact]
    public async Task Many_threads_resolve_as_without_the_recorder()
    {
        static async Task<(int Beams, int Lamps, int Disposed)> Run(Action<ContainerBuilder> record)
        {
            Counted.Clear();
            var builder = new ContainerBuilder();
            builder.RegisterType<CountedBeam>().SingleInstance();
            builder.RegisterType<CountedLamp>().InstancePerLifetimeScope();
            record(builder);
            await using (IContainer container = builder.Build())
            {
                await Parallel.ForEachAsync(Enumerable.Range(0, 2000), async (_, _) =>
                {
                    await using ILifetimeScope scope = container.BeginLifetimeScope();
                    Assert.Same(scope.Resolve<CountedLamp>(), scope.Resolve<CountedLamp>());
                    await Task.Yield();
                    scope.Resolve<CountedBeam>();
                });
            }

            return (Counted.Beams, Counted.Lamps, Counted.Disposed);
        }

        (int Beams, int Lamps, int Disposed) without = await Run(_ => { });
        using var to = new MemoryStream();
        using var recorder = new Recorder(new RecorderOptions { App = "threads", Output = to, EndWithProcess = false });
        Assert.Equal(without, await Run(builder => builder.RecordWith(recorder)));
        recorder.Dispose();
        var trace = new RecordedTrace(System.Text.Encoding.UTF8.GetString(to.ToArray()));
        Assert.Equal(without.Lamps + without.Beams, trace.All("make").Count());
        Assert.Equal(without.Disposed, trace.All("dispose").Count());
        Assert.Equal(2001, trace.All("close").Count());
    }

    private static class Counted
    {
        internal static int Beams;
        internal static int Lamps;
        internal static int Disposed;

        internal static void Clear() => Beams = Lamps = Disposed = 0;
    }

    internal sealed class CountedBeam
    {
        public CountedBeam() => Interlocked.Increment(ref Counted.Beams);
    }

    internal sealed class CountedLamp : IDisposable
    {
        public CountedLamp() => Interlocked.Increment(ref Counted.Lamps);

        public void Dispose() => Interlocked.Increment(ref Counted.Disposed);
    }

    internal interface IBeam;

    internal class Beam : IBeam;

    internal sealed class Other : IBeam;

    internal sealed class Shutter(IBeam inner) : IBeam
    {
        public IBeam Inner => inner;
    }

    internal sealed class Filter(IBeam inner) : IBeam
    {
        public IBeam Inner => inner;
    }

    internal sealed class Watch(IBeam beam)
    {
        public IBeam Beam => beam;
    }

    internal sealed class Lamp : IDisposable
    {
        public void Dispose()
        {
        }
    }

    internal sealed class Tower;

    internal sealed class Keeper(Beam beam, Lamp? lamp)
    {
        public Beam Beam => beam;

        public Lamp? Lamp => lamp;
    }

    internal sealed class Fleet(IEnumerable<IBeam> all, Lazy<Beam> lazy, Func<Beam> make, Owned<Beam> owned, IIndex<string, Lamp> lamps)
    {
        public IEnumerable<IBeam> All => all;

        public Lazy<Beam> Lazy => lazy;

        public Func<Beam> Make => make;

        public Owned<Beam> Owned => owned;

        public IIndex<string, Lamp> Lamps => lamps;
    }

    internal sealed class Left(Right right)
    {
        public Right Right => right;
    }

    internal sealed class Right(Left left)
    {
        public Left Left => left;
    }
}
