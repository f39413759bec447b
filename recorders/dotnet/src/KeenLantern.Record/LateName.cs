namespace KeenLantern.Record;

/// <summary>The name of a scope that is known only after the scope has begun, such as the route of a request.</summary>
public sealed class LateName
{
    private readonly object setting = new();
    private volatile bool settled;

    internal string? Name { get; private set; }

    internal bool Settled => settled;

    /// <summary>Sets the name, null for none. The first call counts; one that comes seconds after the scope began is too late.</summary>
    public void Settle(string? name)
    {
        lock (setting)
        {
            if (!settled)
            {
                Name = name;
                settled = true;
            }
        }
    }
}
