namespace KeenLantern.Record;

/// <summary>
/// A line of a trace, see the trace format. An event that was given to a recorder belongs to it, and is neither changed nor given
/// again. Members that are null, and ids that are 0, are not written.
/// </summary>
public abstract partial class TraceEvent
{
    /// <summary>The owner of an instance that no scope owns: it is written as <c>null</c>.</summary>
    public const long Nobody = -2;

    private protected TraceEvent()
    {
    }

    // What the recorder knows of it.
    internal long When { get; set; } // Recorder.Now at the time; 0: not yet known

    internal Session? Of { get; set; }

    internal LateName? LateName { get; set; }

    /// <summary>Writes the line, <paramref name="t"/> ns after the stream's start.</summary>
    internal abstract void Write(Line line, long t);

    /// <summary>About how many bytes it takes up, its texts included.</summary>
    internal abstract int Bytes { get; }

    internal TraceEvent Copy()
    {
        var copy = (TraceEvent)MemberwiseClone();
        copy.Of = null;
        return copy;
    }

    private protected static int LengthOf(string? text) => text is null ? 0 : 2 * Math.Min(text.Length, MaxText);

    private protected static int LengthOf<T>(IReadOnlyList<T>? list) => list is null ? 0 : 32 * list.Count;

    private protected static int LengthOf(IReadOnlyDictionary<string, string>? map) => map is null ? 0 : 64 * map.Count;
}

/// <summary>Another service that a registration answers for.</summary>
/// <param name="Service">The service.</param>
/// <param name="Key">Its key, null for none.</param>
public sealed record Also(string Service, string? Key = null);

/// <summary>A service that a registration's implementation needs.</summary>
/// <param name="Service">The service.</param>
/// <param name="Site">The parameter or member.</param>
/// <param name="Key">Its key, null for none.</param>
/// <param name="How">How it is handed out; null: to the constructor.</param>
/// <param name="All">All registrations of the service are needed.</param>
/// <param name="Optional">The implementation can do without it.</param>
/// <param name="Lazy">It is asked for later.</param>
public sealed record Need(
    string Service,
    string? Site = null,
    string? Key = null,
    How? How = null,
    bool All = false,
    bool Optional = false,
    bool Lazy = false);

/// <summary>An instance that was handed to a constructor.</summary>
/// <param name="Inst">The instance's id, 0 for one that is not recorded.</param>
/// <param name="Site">The parameter.</param>
/// <param name="Service">The service that was asked for.</param>
/// <param name="Key">Its key, null for none.</param>
/// <param name="Via">The registration that answered, where it is not the instance's own.</param>
/// <param name="Kept">The consumer keeps it.</param>
/// <param name="Unknown">The container does not say what it handed out.</param>
public sealed record Given(
    long Inst,
    string? Site = null,
    string? Service = null,
    string? Key = null,
    long Via = 0,
    bool Kept = true,
    bool Unknown = false)
{
    internal bool Plain => Site is null && Service is null && Key is null && Via == 0 && Kept && !Unknown;
}

/// <summary>The part of an application in which a registration applies as a layer.</summary>
public abstract record Part
{
    private Part()
    {
    }

    /// <summary>One container.</summary>
    /// <param name="Container">Its id.</param>
    public sealed record InContainer(long Container) : Part;

    /// <summary>One module.</summary>
    /// <param name="Module">Its name.</param>
    public sealed record InModule(string Module) : Part;

    /// <summary>Scopes of one kind.</summary>
    /// <param name="Kind">The kind.</param>
    public sealed record InScopes(string Kind) : Part;
}
