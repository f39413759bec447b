namespace KeenLantern.Record.DependencyInjection;

/// <summary>What a thread resolves and constructs at the moment: both are done on one thread, from their beginning to their end.</summary>
internal sealed class Work
{
    [ThreadStatic]
    private static Work? mine;

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

    internal void Leave(Frame frame)
    {
        Building = frame.Around;
        Innermost = frame.Outer;
        if (Innermost is null && Depth == 0)
        {
            Fresh.Clear();
        }
    }
}

/// <summary>A construction, and the services that it has resolved so far.</summary>
internal sealed class Frame(Node node, Frame? around, Frame? outer)
{
    internal Node Node => node;

    internal Frame? Around => around;

    /// <summary>The construction that waits for this one.</summary>
    internal Frame? Outer => outer;

    internal int Depth { get; } = outer is null ? 1 : outer.Depth + 1;

    internal List<object?>? Asked { get; set; }

    /// <summary>The instances that a factory was handed.</summary>
    internal List<(object Instance, Identity Identity)>? Objects { get; set; }
}
