namespace KeenLantern.Record.DependencyInjection;

/// <summary>What a thread resolves and constructs at the moment: both are done on one thread, from their beginning to their end.</summary>
internal sealed class Work
{
    private const int Kept = 64; // constructions within one another that are kept for the next ones

    [ThreadStatic]
    private static Work? mine;

    private Frame? first;

    internal static Work Mine => mine ??= new Work();

    /// <summary>The construction that runs; null while the container resolves something for it.</summary>
    internal Frame? Building { get; set; }

    /// <summary>The innermost construction.</summary>
    internal Frame? Innermost { get; set; }

    /// <summary>The scope for which a singleton is built.</summary>
    internal RecordedScope? Asking { get; set; }

    /// <summary>The scope that resolves.</summary>
    internal RecordedScope? Current { get; set; }

    /// <summary>How many resolutions run within one another.</summary>
    internal int Depth { get; set; }

    /// <summary>The transients that were built since the outermost resolution began. The container does not keep them either.</summary>
    internal Identities Fresh { get; } = new();

    /// <summary>Begins a construction within those that run.</summary>
    internal Frame Enter(Node node)
    {
        Frame? outer = Innermost;
        Frame frame = outer is null ? first ??= new Frame() : outer.Inner ??= new Frame { Outer = outer, Depth = outer.Depth + 1 };
        frame.Begin(node, Building);
        return Building = Innermost = frame;
    }

    internal void Leave(Frame frame)
    {
        Building = frame.Around;
        Innermost = frame.Outer;
        if (frame.Depth == Kept)
        {
            frame.Inner = null; // a recursion was that deep
        }

        frame.End();
        if (Innermost is null && Depth == 0)
        {
            Fresh.Clear();
        }
    }
}

/// <summary>A construction, and the services that it has resolved so far. It is used again for the next one at its depth.</summary>
internal sealed class Frame
{
    internal Node Node { get; private set; } = null!;

    internal Frame? Around { get; private set; }

    /// <summary>The construction that waits for this one.</summary>
    internal Frame? Outer { get; init; }

    /// <summary>The frame for a construction within this one.</summary>
    internal Frame? Inner { get; set; }

    internal int Depth { get; init; } = 1;

    internal List<object?>? Asked { get; set; }

    /// <summary>The instances that a factory was handed.</summary>
    internal List<(object Instance, Identity Identity)>? Objects { get; set; }

    internal void Begin(Node node, Frame? around)
    {
        Node = node;
        Around = around;
    }

    internal void End()
    {
        Around = null;
        Asked = null; // the event may have it
        Objects = null;
    }
}
