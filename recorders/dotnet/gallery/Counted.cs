using System.Collections.Concurrent;

namespace Gallery;

/// <summary>Counts the instances of each class, apart from the recorder.</summary>
internal static class Counts
{
    public static ConcurrentDictionary<string, int> Made { get; } = new();

    public static ConcurrentDictionary<string, int> Disposed { get; } = new();

    public static string NameOf(Type type) =>
        type.IsGenericType ? $"{type.Name.Split('`')[0]}<{string.Join(", ", type.GenericTypeArguments.Select(one => one.FullName))}>" : type.Name;
}

/// <summary>A part that is counted when it is constructed.</summary>
internal abstract class Counted
{
    protected Counted() => Counts.Made.AddOrUpdate(Counts.NameOf(GetType()), 1, (_, n) => n + 1);
}

/// <summary>A part that is counted when it is disposed, too.</summary>
internal abstract class CountedDisposable : Counted, IDisposable
{
    public virtual void Dispose() => Counts.Disposed.AddOrUpdate(Counts.NameOf(GetType()), 1, (_, n) => n + 1);
}
