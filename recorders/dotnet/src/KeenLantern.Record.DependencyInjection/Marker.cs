namespace KeenLantern.Record.DependencyInjection;

/// <summary>The container disposes it right after an instance, or right before, and so reports the instance's disposal.</summary>
internal sealed class Marker(Recorder recorder) : IDisposable
{
    private object? instance;
    private long inst;
    private RecordedScope? scope;
    private bool pooled;
    private bool before;
    private bool begun;

    /// <summary>The one that was captured earlier in the same scope.</summary>
    internal Marker? Earlier { get; set; }

    internal void Set(object instance, long inst, RecordedScope scope, bool pooled, bool before)
    {
        this.instance = instance;
        this.inst = inst;
        this.scope = scope;
        this.pooled = pooled;
        this.before = before;
    }

    public void Dispose()
    {
        bool begins = before && instance is not null && !begun;
        scope?.GoesOn(begins ? this : null);
        if (begins)
        {
            begun = true;
            recorder.Disposing(inst, Math.Max(scope!.Id, 0));
        }
        else
        {
            Done();
        }
    }

    /// <summary>Records that the instance was disposed, unless that was recorded.</summary>
    internal void Done()
    {
        if (instance is null)
        {
            return;
        }

        if (pooled)
        {
            recorder.Returned(inst, Math.Max(scope!.Id, 0));
        }
        else
        {
            // What ends with a scope is known there alone.
            recorder.Disposed(ReferenceEquals(scope, scope!.Of.Root) ? instance : null, inst, Math.Max(scope.Id, 0));
        }

        instance = null;
    }

    /// <summary>Whether the disposal of what the container built by itself has begun, and is not recorded as done.</summary>
    internal bool Begun => begun && instance is not null;

    /// <summary>Records that the instance's disposal threw, where one of the frames of the exception is a method of its type.</summary>
    internal bool Failed(Exception failure, IReadOnlySet<Type> threw)
    {
        if (instance is null || !Threw(instance.GetType(), threw))
        {
            return false;
        }

        recorder.Disposed(null, inst, Math.Max(scope!.Id, 0), failure: failure);
        instance = null;
        return true;
    }

    private static bool Threw(Type? type, IReadOnlySet<Type> threw)
    {
        for (; type is not null && type != typeof(object); type = type.BaseType)
        {
            if (threw.Contains(type.IsConstructedGenericType ? type.GetGenericTypeDefinition() : type))
            {
                return true;
            }
        }

        return false;
    }
}
