using System.Collections;

namespace KeenLantern.Record;

/// <summary>The ids of the instances that an instance was given: a list that allocates no object for each.</summary>
internal sealed class InstanceIds(int capacity) : IReadOnlyList<object?>
{
    private readonly long[] ids = capacity == 0 ? [] : new long[capacity];
    private int count;

    internal static InstanceIds None { get; } = new(0);

    internal ReadOnlySpan<long> Span => ids.AsSpan(0, count);

    public int Count => count;

    public object? this[int index] => Span[index];

    internal void Add(long inst) => ids[count++] = inst;

    public IEnumerator<object?> GetEnumerator()
    {
        for (int n = 0; n < count; n++)
        {
            yield return ids[n];
        }
    }

    IEnumerator IEnumerable.GetEnumerator() => GetEnumerator();
}
