using Microsoft.Extensions.DependencyInjection;

namespace KeenLantern.Record.DependencyInjection;

/// <summary>The default container, recorded. Disposing it disposes what it holds, as the container does.</summary>
public sealed class RecordedServiceProvider : IServiceProvider, IKeyedServiceProvider, ISupportRequiredService, IDisposable, IAsyncDisposable
{
    private readonly Container container;
    private readonly bool ownsRecorder;
    private int disposed;

    internal RecordedServiceProvider(Container container, bool ownsRecorder)
    {
        this.container = container;
        this.ownsRecorder = ownsRecorder;
    }

    /// <summary>The container's own provider.</summary>
    internal ServiceProvider Real => container.Real;

    /// <inheritdoc/>
    public object? GetService(Type serviceType) => container.Root.GetService(serviceType);

    /// <inheritdoc/>
    public object GetRequiredService(Type serviceType) => container.Root.GetRequiredService(serviceType);

    /// <inheritdoc/>
    public object? GetKeyedService(Type serviceType, object? serviceKey) => container.Root.GetKeyedService(serviceType, serviceKey);

    /// <inheritdoc/>
    public object GetRequiredKeyedService(Type serviceType, object? serviceKey) =>
        container.Root.GetRequiredKeyedService(serviceType, serviceKey);

    /// <inheritdoc/>
    public void Dispose()
    {
        bool first = First();
        Exception? failure = null;
        try
        {
            container.Real.Dispose();
        }
        catch (Exception e)
        {
            failure = e;
            throw;
        }
        finally
        {
            Closed(first, failure);
        }
    }

    /// <inheritdoc/>
    public async ValueTask DisposeAsync()
    {
        bool first = First();
        Exception? failure = null;
        try
        {
            await container.Real.DisposeAsync().ConfigureAwait(false);
        }
        catch (Exception e)
        {
            failure = e;
            throw;
        }
        finally
        {
            Closed(first, failure);
        }
    }

    // A host is disposed by the container that it disposes: the inner call ends before the container has.
    private bool First() => Interlocked.Exchange(ref disposed, 1) == 0;

    private void Closed(bool first, Exception? failure)
    {
        if (!first)
        {
            return;
        }

        container.Closed(failure);
        if (ownsRecorder)
        {
            container.Recorder.Dispose();
        }
    }
}
