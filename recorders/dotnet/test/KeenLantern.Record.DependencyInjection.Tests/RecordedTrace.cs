using System.Text;
using System.Text.Json;

namespace KeenLantern.Record.Tests;

/// <summary>The lines of a recording.</summary>
internal sealed class RecordedTrace
{
    private readonly List<JsonElement> lines;

    internal RecordedTrace(string text) =>
        lines = [.. text.Split('\n', StringSplitOptions.RemoveEmptyEntries).Select(line => JsonDocument.Parse(line).RootElement)];

    /// <summary>Returns the trace of some work.</summary>
    internal static RecordedTrace Of(Action<Recorder> work, params Type[] uses)
    {
        using var to = new MemoryStream();
        using var recorder = new Recorder(new RecorderOptions { App = "recorded", Output = to, EndWithProcess = false, Uses = [.. uses] });
        work(recorder);
        recorder.Dispose();
        return new RecordedTrace(Encoding.UTF8.GetString(to.ToArray()));
    }

    /// <summary>The lines of a kind.</summary>
    internal IEnumerable<JsonElement> All(string ev) => lines.Where(line => Text(line, "ev") == ev);

    /// <summary>The last line that registers a service of the given name, without its namespaces.</summary>
    internal JsonElement Registered(string service, string? key = null) =>
        All("register").Last(line => Text(line, "service")!.EndsWith("." + service, StringComparison.Ordinal) && Text(line, "key") == key);

    /// <summary>The only instance of a registration.</summary>
    internal JsonElement Made(JsonElement registration) => All("make").Single(line => Id(line, "reg") == Id(registration, "reg"));

    /// <summary>The states of an instance's disposal, in order.</summary>
    internal string[] Disposals(JsonElement make) =>
        [.. All("dispose").Where(line => Id(line, "inst") == Id(make, "inst")).Select(line => Text(line, "state") ?? "done")];

    internal static string? Text(JsonElement line, string field) => line.TryGetProperty(field, out JsonElement value) ? value.GetString() : null;

    internal static long Id(JsonElement line, string field) => line.TryGetProperty(field, out JsonElement value) ? value.GetInt64() : 0;
}
