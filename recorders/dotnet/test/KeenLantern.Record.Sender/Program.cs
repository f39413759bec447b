// Records three hundred scopes, delivers them to the service that is named within the seconds that are named for a batch, says when
// all calls are made, and prints what became of it as JSON.
using System.Globalization;
using System.Text.Json;
using KeenLantern.Record;

var recorder = new Recorder(new RecorderOptions
{
    App = "harbour",
    Service = new Uri(args[0]),
    Alone = true,
    FlushWait = TimeSpan.FromMilliseconds(1),
    BatchSize = 2048,
    Timeout = TimeSpan.FromSeconds(double.Parse(args[1], CultureInfo.InvariantCulture)),
    Problem = _ => { },
});
long reg = recorder.Register(new RegisterEvent { Service = "TideSource", Lifetime = Lifetime.Scoped });
for (int n = 0; n < 300; n++)
{
    long scope = recorder.Open(new OpenEvent { Kind = "request", Name = $"GET /tides/{n % 7}" });
    recorder.Make(new MakeEvent { Reg = reg, Scope = scope });
    recorder.Close(scope);
    if (n % 20 == 0)
    {
        Thread.Sleep(2); // for several batches
    }
}

Console.WriteLine("made");
string error = "";
try
{
    recorder.Close(TimeSpan.FromSeconds(40));
}
catch (IOException e)
{
    error = e.Message;
}

Totals totals = recorder.Totals;
Console.WriteLine(JsonSerializer.Serialize(new { totals.Events, totals.Lost, Error = error }));
