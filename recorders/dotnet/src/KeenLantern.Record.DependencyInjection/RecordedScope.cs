using Microsoft.Extensions.DependencyInjection;

namespace KeenLantern.Record.DependencyInjection;

/// <summary>A scope of a recorded container, and its provider, as the container's own scopes are both. The root makes scopes.</summary>
internal sealed class RecordedScope : IServiceScope, IServiceProvider, IKeyedServiceProvider, IServiceScopeFactory, IAsyncDisposable
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

    public IServiceScope CreateScope() => Of.CreateScope();

    public void Dispose()
    {
        try
        {
            scope?.Dispose();
        }
        finally
        {
            Closed();
        }
    }

    public async ValueTask DisposeAsync()
    {
        try
        {
            if (scope is IAsyncDisposable asynchronous)
            {
                await asynchronous.DisposeAsync().ConfigureAwait(false);
            }
        }
        finally
        {
            Closed();
        }
    }

    private void Closed()
    {
        if (scope is not null && Interlocked.Exchange(ref disposed, 1) == 0)
        {
            Of.Recorder.Close(Id);
        }
    }
}
