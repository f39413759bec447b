using System.Collections.Concurrent;
using System.Runtime.CompilerServices;

namespace KeenLantern.Record;

/// <summary>Which object is which instance. It keeps no object alive, and collects those that the runtime collected.</summary>
internal sealed class Instances(int most)
{
    /// <summary>About what it takes to remember one.</summary>
    internal const int Bytes = 160;

    private readonly ConditionalWeakTable<object, Known> known = [];
    private readonly ConcurrentQueue<long> collected = new();
    private int size;

    internal bool Full => Volatile.Read(ref size) >= most;

    /// <summary>Stores which instance an object is; <paramref name="tell"/>: its collection is an event.</summary>
    internal void Know(object instance, long inst, long reg, bool tell)
    {
        if (known.TryGetValue(instance, out Known? was))
        {
            was.Tell = false;
        }

        Interlocked.Increment(ref size);
        known.AddOrUpdate(instance, new Known(this, inst, reg, tell));
    }

    /// <summary>Returns the instance that an object is, 0 where it is not known.</summary>
    internal long Of(object? instance) => instance is not null && known.TryGetValue(instance, out Known? it) ? it.Inst : 0;

    /// <summary>Returns the instance and the registration that an object is.</summary>
    internal Identity IdentityOf(object instance) => known.TryGetValue(instance, out Known? it) ? new Identity(it.Inst, it.Reg) : default;

    /// <summary>The collection of an object that was disposed is no event.</summary>
    internal void Ended(object instance)
    {
        if (known.TryGetValue(instance, out Known? it))
        {
            it.Tell = false;
        }
    }

    internal bool TryTake(out long inst) => collected.TryDequeue(out inst);

    // The table drops its value when the key is collected: the value's finalizer reports that.
    private sealed class Known(Instances of, long inst, long reg, bool tell)
    {
        internal long Inst => inst;

        internal long Reg => reg;

        internal bool Tell { get; set; } = tell;

        ~Known()
        {
            Interlocked.Decrement(ref of.size);
            if (Tell)
            {
                of.collected.Enqueue(inst);
            }
        }
    }
}
