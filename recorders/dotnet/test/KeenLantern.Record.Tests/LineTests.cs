using System.Reflection;
using System.Runtime.CompilerServices;
using System.Text;
using System.Text.Json;
using Xunit;

namespace KeenLantern.Record.Tests;

/// <summary>Holds the line writer to the vectors of all languages: calls in, lines out, byte for byte.</summary>
public class LineTests
{
    private static readonly Dictionary<string, JsonElement> Vectors =
        JsonDocument.Parse(File.ReadAllText(Path.Combine(Folder(), "../../../../testdata/recorder/lines.json")))
            .RootElement.EnumerateArray().ToDictionary(v => v.GetProperty("name").GetString()!);

    private static string Folder([CallerFilePath] string file = "") => Path.GetDirectoryName(file)!;

    // A string of .NET cannot hold bytes that are no text.
    public static TheoryData<string> Names() =>
        new(Vectors.Where(v => !v.Value.TryGetProperty("texts", out JsonElement t) || !t.GetRawText().Contains("\"bytes\"", StringComparison.Ordinal))
            .Select(v => v.Key));

    [Theory]
    [MemberData(nameof(Names))]
    public void Writes_what_the_vector_says(string name)
    {
        JsonElement vector = Vectors[name];
        JsonElement call = vector.GetProperty("event");
        Type type = typeof(TraceEvent).Assembly.GetType($"KeenLantern.Record.{Pascal(call.GetProperty("ev").GetString()!)}Event", true)!;
        object note = Activator.CreateInstance(type)!;
        foreach (JsonProperty member in call.EnumerateObject().Where(m => m.Name is not ("ev" or "t" or "format")))
        {
            PropertyInfo property = type.GetProperty(Pascal(member.Name))!;
            property.SetValue(note, Value(property.PropertyType, member.Name, member.Value));
        }

        if (vector.TryGetProperty("texts", out JsonElement texts))
        {
            foreach (JsonProperty text in texts.EnumerateObject())
            {
                type.GetProperty(Pascal(text.Name))!.SetValue(note, Text(text.Value));
            }
        }

        var line = new Line(4);
        ((TraceEvent)note).Write(line, call.GetProperty("t").GetInt64());
        Assert.Equal(vector.GetProperty("line").GetString(), Encoding.UTF8.GetString(line.Written.Span));
    }

    [Fact]
    public void There_are_vectors_of_every_kind()
    {
        IEnumerable<string> kinds = Vectors.Values.Select(v => Pascal(v.GetProperty("event").GetProperty("ev").GetString()!) + "Event");
        IEnumerable<string> types = typeof(TraceEvent).Assembly.GetTypes().Where(t => t.BaseType == typeof(TraceEvent)).Select(t => t.Name);
        Assert.Equal(types.Order(), kinds.Distinct().Order());
    }

    private static string Pascal(string name) =>
        string.Concat(name.Split('_', '-').Select(part => char.ToUpperInvariant(part[0]) + part[1..]));

    private static string Text(JsonElement text)
    {
        if (text.TryGetProperty("repeat", out JsonElement repeat))
        {
            string after = text.TryGetProperty("after", out JsonElement end) ? end.GetString()! : "";
            return string.Concat(Enumerable.Repeat(repeat.GetString(), text.GetProperty("times").GetInt32())) + after;
        }

        return new string([.. text.GetProperty("utf16").EnumerateArray().Select(unit => (char)unit.GetInt32())]);
    }

    private static object? Value(Type type, string member, JsonElement value)
    {
        type = Nullable.GetUnderlyingType(type) ?? type;
        return value.ValueKind switch
        {
            JsonValueKind.Null => TraceEvent.Nobody,
            JsonValueKind.True or JsonValueKind.False => value.GetBoolean(),
            JsonValueKind.Number => value.GetInt64(),
            JsonValueKind.String when type.IsEnum => Enum.Parse(type, Pascal(value.GetString()!)),
            JsonValueKind.String => value.GetString(),
            JsonValueKind.Object when type == typeof(Part) => PartOf(value),
            JsonValueKind.Object => value.EnumerateObject().ToDictionary(e => e.Name, e => e.Value.GetString()!),
            _ => member switch
            {
                "also" => List<Also>(value, one => new Also(one.GetProperty("service").GetString()!, Of(one, "key"))),
                "needs" => List<Need>(value, NeedOf),
                "with" => List<object?>(value, GivenOf),
                _ => List<string>(value, one => one.GetString()!),
            },
        };
    }

    private static List<T> List<T>(JsonElement list, Func<JsonElement, T> each) => [.. list.EnumerateArray().Select(each)];

    private static string? Of(JsonElement one, string member) => one.TryGetProperty(member, out JsonElement text) ? text.GetString() : null;

    private static bool Is(JsonElement one, string member, bool otherwise = false) =>
        one.TryGetProperty(member, out JsonElement flag) ? flag.GetBoolean() : otherwise;

    private static Part PartOf(JsonElement part) =>
        part.TryGetProperty("container", out JsonElement container) ? new Part.InContainer(container.GetInt64())
        : part.TryGetProperty("module", out JsonElement module) ? new Part.InModule(module.GetString()!)
        : new Part.InScopes(part.GetProperty("scope").GetString()!);

    private static Need NeedOf(JsonElement need) => new(
        need.GetProperty("service").GetString()!,
        Of(need, "site"),
        Of(need, "key"),
        Of(need, "how") is { } how ? Enum.Parse<How>(Pascal(how)) : null,
        Is(need, "all"),
        Is(need, "optional"),
        Is(need, "lazy"));

    private static object? GivenOf(JsonElement given) => given.ValueKind switch
    {
        JsonValueKind.Null => null,
        JsonValueKind.Number => given.GetInt64(),
        JsonValueKind.Array => List<object?>(given, GivenOf),
        _ => new Given(
            given.TryGetProperty("inst", out JsonElement inst) ? inst.GetInt64() : 0,
            Of(given, "site"),
            Of(given, "service"),
            Of(given, "key"),
            given.TryGetProperty("via", out JsonElement via) ? via.GetInt64() : 0,
            Is(given, "kept", otherwise: true),
            Is(given, "unknown")),
    };
}
