namespace KeenLantern.Record;

/// <summary>The services and keys that were asked for and are not registered. They may be data, and without bound.</summary>
internal sealed class Unregistered(bool hide)
{
    internal const string Placeholder = "(not registered)";
    private const int Most = 256;

    private readonly HashSet<(string, string?)> seen = [];

    /// <summary>Leaves the names of a failure as they are, or puts the placeholder there: for the key, where it has one.</summary>
    internal void Name(FailEvent fail)
    {
        lock (seen)
        {
            (string, string?) asked = (Short(fail.Service), fail.Key is null ? null : Short(fail.Key));
            if (!hide && (seen.Contains(asked) || (seen.Count < Most && seen.Add(asked))))
            {
                return;
            }
        }

        if (fail.Key is not null)
        {
            fail.Key = Placeholder;
        }
        else
        {
            fail.Service = Placeholder;
        }
    }

    private static string Short(string name) => name.Length <= TraceEvent.MaxText ? name : name[..TraceEvent.MaxText];
}
