using System.Text.Json;

namespace KeenLantern.Record;

/// <summary>Reports the recorder's state to the service in a loop, and applies its orders. It uses no thread while it waits.</summary>
internal sealed class Orders(Recorder recorder, RecorderOptions options)
{
    private static readonly TimeSpan FirstWait = TimeSpan.FromSeconds(1);
    private static readonly TimeSpan LastWait = TimeSpan.FromSeconds(30);

    private readonly string id = Guid.NewGuid().ToString();
    private readonly CancellationTokenSource ended = new();

    internal void Start()
    {
        using AsyncFlowControl _ = ExecutionContext.SuppressFlow();
        Task.Run(AskAsync);
    }

    internal void End() => ended.Cancel();

    private async Task AskAsync()
    {
        using var exchange = new Exchange(options.Service!, options.Token);
        long seen = 0;
        TimeSpan wait = FirstWait;
        while (!ended.IsCancellationRequested)
        {
            long asked = Environment.TickCount64;
            bool news = false;
            bool answered = false;
            try
            {
                (long version, Setting setting) = await AskAsync(exchange, seen).ConfigureAwait(false);
                answered = true;
                news = version > 0 && version != seen;
                // A service that lost its orders, or another one in its place, counts from the start again.
                seen = version;
                if (news)
                {
                    recorder.Set(setting);
                }
            }
            catch (Exception)
            {
                // It is asked again; delivery reports a service that does not answer.
            }

            if (news || (answered && Environment.TickCount64 - asked >= 20_000))
            {
                wait = FirstWait;
                continue;
            }

            try
            {
                await Task.Delay(TimeSpan.FromMilliseconds(ToService.Jitter(wait.TotalMilliseconds)), ended.Token).ConfigureAwait(false);
            }
            catch (OperationCanceledException)
            {
                return;
            }

            wait = TimeSpan.FromTicks(Math.Min(2 * wait.Ticks, LastWait.Ticks));
        }
    }

    private async Task<(long Version, Setting Setting)> AskAsync(Exchange exchange, long knows)
    {
        Totals totals = recorder.Totals;
        Setting setting = recorder.Setting;
        var body = new Line(512);
        body.Begin("{\"knows\":"u8, knows);
        body.Add(",\"version\":"u8, options.Version ?? "");
        body.Add(",\"environment\":"u8, options.Environment ?? "");
        body.Add(",\"stream\":"u8, recorder.Stream);
        body.Add(",\"on\":"u8, setting.On);
        body.Add(",\"share\":"u8, setting.On ? setting.Share : 0.0);
        body.Add(",\"events\":"u8, totals.Events);
        body.Add(",\"lost\":"u8, totals.Lost);
        body.End();
        Exchange.Answer answer = await exchange.PutAsync(
            $"/api/v1/applications/{Uri.EscapeDataString(options.App)}/recorders/{id}",
            body.Written,
            "application/json",
            packed: false,
            TimeSpan.FromSeconds(60),
            64 << 10,
            ended.Token).ConfigureAwait(false);
        answer.OfService();
        JsonElement said = Exchange.Object(answer.Body) ?? throw new IOException("the answer is no JSON object");
        bool on = said.TryGetProperty("on", out JsonElement flag) && flag.ValueKind == JsonValueKind.True;
        double share = Number(said, "share");
        return ((long)Number(said, "version"), new Setting
        {
            On = on,
            Share = share is > 0 and <= 1 ? share : 1,
            Time = TimeSpan.FromTicks(Math.Max(0, (long)(Number(said, "for_ns") / 100))),
            Bytes = Math.Max(0, (long)Number(said, "bytes")),
        });
    }

    private static double Number(JsonElement said, string name) =>
        said.TryGetProperty(name, out JsonElement value) && value.TryGetDouble(out double number) ? number : 0;
}
