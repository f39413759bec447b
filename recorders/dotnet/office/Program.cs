// Runs the office under real requests, with a mistake, and records it:
//
//     dotnet KeenLantern.Office.dll run --service http://127.0.0.1:7460 [--container NAME] [--mistake NAME] [--requests N]
//     dotnet KeenLantern.Office.dll serve --recording none|off|on|nowhere --service … [--container NAME]   (until its input ends)
//     dotnet KeenLantern.Office.dll list
using System.Globalization;
using System.Text.Json;
using Autofac;
using Autofac.Extensions.DependencyInjection;
using KeenLantern.Record;
using KeenLantern.Record.AspNetCore;
using KeenLantern.Record.Autofac;
using Saltmarsh;

string Option(string name, string otherwise)
{
    int at = Array.IndexOf(args, "--" + name);
    return at >= 0 && at + 1 < args.Length ? args[at + 1] : otherwise;
}

if (args.FirstOrDefault() == "list")
{
    foreach ((string name, string says) in Mistakes.All)
    {
        Console.WriteLine($"{name,-20} {says}");
    }

    return 0;
}

var mistake = new Mistake(Option("mistake", "none"));
string container = Option("container", "default");
bool serves = args.FirstOrDefault() == "serve";
if (!(serves || args.FirstOrDefault() == "run") || !(mistake.Is("none") || Mistakes.All.ContainsKey(mistake.Name)) || container is not ("default" or "scrutor" or "autofac"))
{
    Console.Error.WriteLine("usage: KeenLantern.Office run --service URL [--container default|scrutor|autofac] [--mistake NAME] [--requests N] | KeenLantern.Office serve --service URL --recording none|off|on|nowhere | KeenLantern.Office list");
    return 2;
}

string output = Option("output", "");
string recording = Option("recording", "on");
Recorder? recorder = recording == "none" ? null : new Recorder(new RecorderOptions
{
    App = "harbour-office-dotnet",
    Version = Option("version", "1.0.0"),
    Environment = "production",
    Output = recording == "nowhere" ? Stream.Null : null,
    File = output.Length > 0 ? output : null,
    Service = output.Length > 0 || recording == "nowhere" ? null : new Uri(Option("service", "http://127.0.0.1:7460")),
    Setting = recording == "off" ? Setting.Off : Setting.Everything,
});
WebApplicationBuilder builder = WebApplication.CreateBuilder(new WebApplicationOptions { EnvironmentName = "Production" });
if (container == "autofac")
{
    recorder?.WithRequests();
    builder.Host.UseServiceProviderFactory(new AutofacServiceProviderFactory(office => _ = recorder is null ? office : office.RecordWith(recorder)));
    builder.Host.ConfigureContainer<ContainerBuilder>(office => office.RegisterModule(new OfficeModule(mistake)));
}
else
{
    if (recorder is not null)
    {
        builder.Host.UseServiceProviderFactory(recorder.ForRequests());
    }

    builder.Services.AddOffice(mistake, layersByScrutor: container == "scrutor");
}

builder.Logging.ClearProviders();
builder.WebHost.UseUrls("http://127.0.0.1:0");

WebApplication office = builder.Build();
office.MapGet("/pilots", (PilotRoster roster) => roster.On);
office.MapGet("/tides/{gauge}", (string gauge, ITides tides) => tides.Height(gauge));
office.MapPost("/arrivals", (string ship, ArrivalDesk desk) => desk.Take(ship));
office.MapPost("/tugs", (HttpContext request) =>
{
    try
    {
        return request.RequestServices.GetRequiredService<TugDispatcher>().Send();
    }
    catch (InvalidOperationException)
    {
        return "no pilot is free"; // the office answers, whatever happens
    }
});
await office.StartAsync();
if (serves)
{
    Console.WriteLine(office.Urls.First());
    await Console.In.ReadToEndAsync();
    await office.DisposeAsync();
    recorder?.Dispose();
    return 0;
}

await Drive(office, int.Parse(Option("requests", "320"), CultureInfo.InvariantCulture));
string? stream = recorder?.Stream;
await office.StopAsync();
await office.DisposeAsync();
recorder?.Close(TimeSpan.FromSeconds(10));
Totals totals = recorder?.Totals ?? default;
Console.WriteLine(JsonSerializer.Serialize(new { stream, events = totals.Events, lost = totals.Lost }));
return 0;

static async Task Drive(WebApplication office, int requests)
{
    string[] ships = ["Marsh Warbler", "Grey Seal", "Sandpiper", "Old Samphire", "Sea Lavender"];
    string[] gauges = ["outer-bar", "lock-gate", "reed-island"];
    using var client = new HttpClient { BaseAddress = new Uri(office.Urls.First()) };
    var work = new List<Task>();
    for (int n = 0; n < requests; n++)
    {
        string ship = ships[n % ships.Length];
        (HttpMethod method, string path) = (n % 4) switch
        {
            0 => (HttpMethod.Get, "/pilots"),
            1 => (HttpMethod.Post, "/arrivals?ship=" + Uri.EscapeDataString(ship)),
            2 => (HttpMethod.Get, "/tides/" + gauges[n % 3]),
            _ => (HttpMethod.Post, "/tugs"),
        };
        work.Add(Ask(client, method, path));
        if (n % 10 == 0)
        {
            office.Services.GetRequiredService<RadioDesk>().Hear(ship);
        }

        if (n % 40 == 0)
        {
            office.Services.GetRequiredService<NightJob>().Run();
        }

        if (work.Count >= 8)
        {
            await Task.WhenAll(work);
            work.Clear();
        }
    }

    await Task.WhenAll(work);
}

static async Task Ask(HttpClient client, HttpMethod method, string path)
{
    using var request = new HttpRequestMessage(method, path);
    using HttpResponseMessage answer = await client.SendAsync(request);
    answer.EnsureSuccessStatusCode();
}
