using System.Diagnostics;
using System.Runtime.CompilerServices;
using System.Text;
using System.Text.Json;
using Xunit;

namespace KeenLantern.Record.Tests;

public class RecorderTests
{
    private sealed class Buoy;

    private enum Tide
    {
        Ebb,
    }

    private readonly MemoryStream to = new();

    private Recorder Start(Action<RecorderOptions>? more = null)
    {
        var options = new RecorderOptions { App = "harbour", Output = to, FlushWait = TimeSpan.FromHours(1) };
        more?.Invoke(options);
        return new Recorder(options);
    }

    private List<JsonElement> Lines() =>
        [.. Encoding.UTF8.GetString(to.ToArray()).Split('\n', StringSplitOptions.RemoveEmptyEntries).Select(l => JsonDocument.Parse(l).RootElement)];

    private static string Ev(JsonElement line) => line.GetProperty("ev").GetString()!;

    private IEnumerable<string> Kinds() => Lines().Select(Ev);

    [Fact]
    public void Writes_what_happens_in_its_order()
    {
        using Recorder recorder = Start();
        long reg = recorder.Register(new RegisterEvent { Service = "Buoy", Lifetime = Lifetime.Scoped });
        long scope = recorder.Open(new OpenEvent { Kind = "request", Name = "GET /buoys" });
        var buoy = new Buoy();
        long inst = recorder.Make(new MakeEvent { Reg = reg, Scope = scope }, buoy);
        Assert.Equal(inst, recorder.IdOf(buoy));
        recorder.Disposed(buoy, inst, scope, failure: new InvalidOperationException("a secret"));
        recorder.Close(scope);
        recorder.Dispose();
        Assert.Equal(["hello", "register", "open", "make", "dispose", "close", "bye"], Kinds());
        Assert.Equal("System.InvalidOperationException", Lines()[4].GetProperty("error").GetString());
        Assert.DoesNotContain("a secret", Encoding.UTF8.GetString(to.ToArray()), StringComparison.Ordinal);
    }

    [Fact]
    public void Switched_on_in_mid_life_it_tells_what_is_registered_and_alive()
    {
        using Recorder recorder = Start(o => o.Setting = Setting.Off);
        long single = recorder.Register(new RegisterEvent { Service = "Buoy", Lifetime = Lifetime.Singleton });
        long scoped = recorder.Register(new RegisterEvent { Service = "Tide", Lifetime = Lifetime.Scoped });
        long alive = recorder.Make(new MakeEvent { Reg = single });
        long gone = recorder.Make(new MakeEvent { Reg = single });
        recorder.Disposed(null, gone, 0);
        Assert.Equal(Recorder.Unrecorded, recorder.Open(new OpenEvent()));
        Assert.Equal(0, recorder.Make(new MakeEvent { Reg = scoped, Scope = Recorder.Unrecorded }));
        recorder.Set(Setting.Everything);
        recorder.Disposed(null, alive, 0);
        recorder.Dispose();
        Assert.Equal(["hello", "register", "register", "make", "dispose", "bye"], Kinds());
        Assert.True(Lines()[3].GetProperty("t").GetInt64() < 0, "it was made before the stream began");
        Assert.Equal(alive, Lines()[3].GetProperty("inst").GetInt64());
    }

    [Fact]
    public void A_share_of_the_scopes_has_its_weight()
    {
        using Recorder recorder = Start(o => o.Setting = new Setting { Share = 0.25 });
        for (int n = 0; n < 4000; n++)
        {
            recorder.Close(recorder.Open(new OpenEvent { Kind = "request" }));
        }

        recorder.Dispose();
        List<JsonElement> opened = [.. Lines().Where(l => Ev(l) == "open")];
        Assert.InRange(opened.Count, 800, 1200); // 7 standard deviations
        Assert.All(opened, l => Assert.Equal(4, l.GetProperty("weight").GetInt64()));
        Assert.Equal(opened.Count, Kinds().Count(k => k == "close"));
    }

    [Fact]
    public void A_limit_ends_the_stream()
    {
        using Recorder recorder = Start(o => o.Setting = new Setting { Bytes = 2000 });
        for (int n = 0; n < 500; n++)
        {
            recorder.Close(recorder.Open(new OpenEvent { Kind = "request" }));
        }

        Assert.True(recorder.Flush(TimeSpan.FromSeconds(10)));
        Assert.True(SpinWait.SpinUntil(() => !recorder.IsOn, TimeSpan.FromSeconds(10)));
        recorder.Dispose();
        Assert.Equal("bye", Kinds().Last());
        Assert.Equal("recording reached its limit", Lines()[^1].GetProperty("why").GetString());
        Assert.InRange(to.Length, 2000, 2400);
    }

    // The writer is held by a stream that takes nothing, so that notes can only wait or be dropped.
    [Fact]
    public void What_does_not_fit_is_dropped_by_whole_scopes_and_counted()
    {
        using var held = new Held(to);
        using Recorder recorder = Start(o =>
        {
            o.Output = held;
            o.Memory = 256 << 10;
            o.BatchSize = 1024;
        });
        long calls = 0;
        for (int n = 0; n < 20_000; n++)
        {
            long scope = recorder.Open(new OpenEvent { Kind = "request", Name = "GET /buoys" });
            recorder.Make(new MakeEvent { Scope = scope, Impl = "Buoy" });
            recorder.Close(scope);
            calls += 3;
        }

        held.Go();
        recorder.Dispose();
        Totals totals = recorder.Totals;
        long gaps = Lines().Where(l => Ev(l) == "gap").Sum(l => l.GetProperty("lost").GetInt64());
        Assert.True(totals.Lost > 0);
        Assert.Equal(totals.Lost, gaps);
        Assert.Equal(calls, Kinds().Count(k => k is "open" or "make" or "close") + gaps);
        HashSet<long> open = [.. Lines().Where(l => Ev(l) == "open").Select(l => l.GetProperty("scope").GetInt64())];
        Assert.All(Lines().Where(l => Ev(l) == "make"), l => Assert.Contains(l.GetProperty("scope").GetInt64(), open));
    }

    [Fact]
    public void It_keeps_nothing_alive_and_tells_what_was_collected()
    {
        using Recorder recorder = Start();
        long reg = recorder.Register(new RegisterEvent { Service = "Buoy", Lifetime = Lifetime.Transient, Disposable = true });
        long inst = Made(recorder, reg);
        Assert.True(SpinWait.SpinUntil(
            () =>
            {
                GC.Collect();
                GC.WaitForPendingFinalizers();
                recorder.Flush(TimeSpan.FromSeconds(1));
                return recorder.Totals.Events >= 4;
            },
            TimeSpan.FromSeconds(20)));
        recorder.Dispose();
        JsonElement forget = Assert.Single(Lines(), l => Ev(l) == "forget");
        Assert.Equal(inst, forget.GetProperty("inst").GetInt64());
    }

    [MethodImpl(MethodImplOptions.NoInlining)]
    private static long Made(Recorder recorder, long reg) => recorder.Make(new MakeEvent { Reg = reg, Owner = TraceEvent.Nobody }, new Buoy());

    [Fact]
    public async Task The_scope_follows_asynchronous_work()
    {
        using Recorder recorder = Start();
        using Activity activity = new Activity("tide").SetIdFormat(ActivityIdFormat.W3C).Start();
        await Task.WhenAll(Enumerable.Range(0, 8).Select(n => recorder.RunAsync("job", "night watch", async () =>
        {
            long mine = recorder.Scope;
            await Task.Delay(5 + n);
            Assert.Equal(mine, recorder.Scope);
            await recorder.RunAsync("step", "look", async () =>
            {
                await Task.Yield();
                Assert.NotEqual(mine, recorder.Scope);
            });
            Assert.Equal(mine, recorder.Scope);
        })));
        Assert.Equal(0, recorder.Scope);
        recorder.Dispose();
        Assert.Equal(16, Kinds().Count(k => k == "open"));
        Assert.Equal(8, Lines().Count(l => Ev(l) == "open" && l.TryGetProperty("in", out _)));
        Assert.All(Lines().Where(l => Ev(l) == "open"), l => Assert.Equal(activity.TraceId.ToHexString(), l.GetProperty("trace").GetString()));
    }

    [Fact]
    public void Many_threads_lose_nothing()
    {
        using Recorder recorder = Start();
        Parallel.For(0, 8, _ =>
        {
            for (int n = 0; n < 500; n++)
            {
                long scope = recorder.Open(new OpenEvent { Kind = "request" });
                recorder.Make(new MakeEvent { Scope = scope, Impl = "Buoy" });
                recorder.Close(scope);
            }
        });
        recorder.Dispose();
        long gaps = Lines().Where(l => Ev(l) == "gap").Sum(l => l.GetProperty("lost").GetInt64());
        Assert.Equal(12_000, Kinds().Count(k => k is "open" or "make" or "close") + gaps);
    }

    [Fact]
    public void Keys_of_any_type_are_told_apart()
    {
        using Recorder recorder = Start();
        object one = new Buoy();
        Assert.Equal("gauge", recorder.KeyText("gauge"));
        Assert.Equal("(text) (int) 1", recorder.KeyText("(int) 1"));
        Assert.Equal("(int) 1", recorder.KeyText(1));
        Assert.Equal("(null)", recorder.KeyText(null));
        Assert.Equal("(KeenLantern.Record.Tests.RecorderTests.Tide) Ebb", recorder.KeyText(Tide.Ebb));
        Assert.Equal("(type) System.Collections.Generic.List<string>", recorder.KeyText(typeof(List<string>)));
        Assert.Equal(recorder.KeyText(one), recorder.KeyText(one));
        Assert.NotEqual(recorder.KeyText(one), recorder.KeyText(new Buoy()));
    }

    [Theory]
    [InlineData(typeof(int?), "System.Nullable<int>")]
    [InlineData(typeof(Dictionary<string, int[]>), "System.Collections.Generic.Dictionary<string, int[]>")]
    [InlineData(typeof(Dictionary<,>), "System.Collections.Generic.Dictionary<,>")]
    [InlineData(typeof(List<int>.Enumerator), "System.Collections.Generic.List.Enumerator<int>")]
    [InlineData(typeof(int[,]), "int[,]")]
    public void Types_have_the_names_of_the_language(Type type, string name) => Assert.Equal(name, TypeNames.Of(type));

    [Fact]
    public void Wrong_settings_say_what_to_do()
    {
        Assert.Contains("App is empty", Assert.Throws<ArgumentException>(() => Start(o => o.App = " ")).Message, StringComparison.Ordinal);
        Assert.Contains("one of", Assert.Throws<ArgumentException>(() => Start(o => o.File = "a.jsonl")).Message, StringComparison.Ordinal);
        string there = Path.GetTempFileName();
        Exception taken = Assert.Throws<IOException>(() => Start(o => (o.Output, o.File) = (null, there)));
        Assert.Contains("choose another name", taken.Message, StringComparison.Ordinal);
        File.Delete(there);
    }

    /// <summary>A stream that accepts nothing until it is allowed to.</summary>
    private sealed class Held(Stream to) : MemoryStream
    {
        private readonly ManualResetEventSlim go = new();

        internal void Go() => go.Set();

        public override void Write(ReadOnlySpan<byte> buffer)
        {
            go.Wait();
            to.Write(buffer);
        }

        protected override void Dispose(bool disposing)
        {
            go.Dispose();
            base.Dispose(disposing);
        }
    }
}
