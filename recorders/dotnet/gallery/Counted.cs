using System.Collections.Concurrent;

namespace Gallery;

/// <summary>Counts the instances of each class, apart from the recorder.</summary>
internal static class Counts
{
    public static ConcurrentDictionary<string, int> Made { get; } = new();

    public static ConcurrentDictionary<string, int> Disposed { get; } = new();
}

/// <summary>A part that is counted when it is constructed.</summary>
internal abstract class Counted
{
    protected Counted() => Counts.Made.AddOrUpdate(GetType().Name, 1, (_, n) => n + 1);
}

/// <summary>A part that is counted when it is disposed, too.</summary>
internal abstract class CountedDisposable : Counted, IDisposable
{
    public virtual void Dispose() => Counts.Disposed.AddOrUpdate(GetType().Name, 1, (_, n) => n + 1);
}
