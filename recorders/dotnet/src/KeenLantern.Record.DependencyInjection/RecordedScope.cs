using Microsoft.Extensions.DependencyInjection;

namespace KeenLantern.Record.DependencyInjection;

/// <summary>A scope of a recorded container, and its provider, as the container's own scopes are both. The root makes scopes.</summary>
internal sealed class RecordedScope : IServiceScope, IServiceProvider, IKeyedServiceProvider, ISupportRequiredService, IServiceScopeFactory, IAsyncDisposable
{
    private readonly IServiceScope? scope;
    private int disposed;

    internal RecordedScope(Container of, IServiceProvider real, IServiceScope? scope, long id)
    {
        Of = of;
        Real = real;
        this.scope = scope;
        Id = id;
    }

    internal Container Of { get; }

    /// <summary>The container's own.</summary>
    internal IServiceProvider Real { get; }

    internal long Id { get; }

    /// <summary>What answers: for the root, the provider, which validates what is asked of it.</summary>
    internal IServiceProvider Provider => ReferenceEquals(this, Of.Root) ? Of.Real : Real;

    /// <summary>What the application sees.</summary>
    internal IServiceProvider AsProvider => this;

    public IServiceProvider ServiceProvider => this;

    public object? GetService(Type serviceType)
    {
        ArgumentNullException.ThrowIfNull(serviceType);
        return Of.Get(this, serviceType, null, required: false);
    }

    // The container's own providers leave this to an extension method. Here it tells what has to be there from what may be absent.
    public object GetRequiredService(Type serviceType)
    {
        ArgumentNullException.ThrowIfNull(serviceType);
        return Of.Get(this, serviceType, null, required: true)!;
    }

    public object? GetKeyedService(Type serviceType, object? serviceKey)
    {
        ArgumentNullException.ThrowIfNull(serviceType);
        return Of.Get(this, serviceType, serviceKey, required: false);
    }

    public object GetRequiredKeyedService(Type serviceType, object? serviceKey)
    {
        ArgumentNullException.ThrowIfNull(serviceType);
        return Of.Get(this, serviceType, serviceKey, required: true)!;
    }

    public IServiceScope CreateScope() => Of.CreateScope(null);

    public void Dispose()
    {
        bool first = First();
        try
        {
            scope?.Dispose();
        }
        finally
        {
            Closed(first);
        }
    }

    public async ValueTask DisposeAsync()
    {
        bool first = First();
        try
        {
            if (scope is IAsyncDisposable asynchronous)
            {
                await asynchronous.DisposeAsync().ConfigureAwait(false);
            }
        }
        finally
        {
            Closed(first);
        }
    }

    private bool First() => Interlocked.Exchange(ref disposed, 1) == 0;

    private void Closed(bool first)
    {
        if (first && scope is not null)
        {
            Of.Recorder.Close(Id);
        }
    }
}

/// <summary>The factory of scopes that a consumer was given by its constructor: it tells who opens them.</summary>
internal sealed class RecordedScopeFactory(Container of, Node consumer) : IServiceScopeFactory
{
    internal Node Consumer => consumer;

    /// <summary>The consumer's id, once it is built.</summary>
    internal long Inst { get; set; }

    public IServiceScope CreateScope() => of.CreateScope(this);
}
