using System.Diagnostics;
using Microsoft.Extensions.DependencyInjection;

namespace KeenLantern.Record.DependencyInjection;

/// <summary>A scope of a recorded container, and its provider, as the container's own scopes are both. The root makes scopes.</summary>
internal sealed class RecordedScope : IServiceScope, IServiceProvider, IKeyedServiceProvider, ISupportRequiredService, IServiceScopeFactory, IAsyncDisposable
{
    private readonly IServiceScope? scope;
    private Identities? known;
    private Marker? latest;
    private Marker? pending;
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

    /// <summary>The request that it is the scope of; null for others.</summary>
    internal IRequest? Request { get; init; }

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

    // The container's own providers leave this to an extension method. Here it distinguishes required from optional services.
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
        Exception? failure = null;
        try
        {
            scope?.Dispose();
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

    public async ValueTask DisposeAsync()
    {
        bool first = First();
        Exception? failure = null;
        try
        {
            if (scope is IAsyncDisposable asynchronous)
            {
                await asynchronous.DisposeAsync().ConfigureAwait(false);
            }
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

    private bool First() => Interlocked.Exchange(ref disposed, 1) == 0;

    private void Closed(bool first, Exception? failure)
    {
        if (first && scope is not null)
        {
            Ended(failure);
            Of.Recorder.Close(Id);
        }
    }

    /// <summary>Remembers which instance an object is that the container keeps until the scope ends.</summary>
    internal void Remember(object instance, Identity identity)
    {
        Identities all = known ?? Interlocked.CompareExchange(ref known, new Identities(), null) ?? known;
        lock (all)
        {
            all.Add(instance, identity);
        }
    }

    /// <summary>Returns which instance an object of this scope is.</summary>
    internal Identity Known(object instance)
    {
        if (known is not { } all)
        {
            return default;
        }

        lock (all)
        {
            return all.Of(instance);
        }
    }

    /// <summary>Remembers what follows the disposal of an instance of this scope.</summary>
    internal void Follow(Marker marker)
    {
        Marker? was;
        do
        {
            was = marker.Earlier = latest;
        }
        while (Interlocked.CompareExchange(ref latest, marker, was) != was);
    }

    /// <summary>
    /// Records that an earlier disposal is done which had begun, since the container goes on; <paramref name="begun"/> is the one that
    /// begins now, null for none.
    /// </summary>
    internal void GoesOn(Marker? begun) => Interlocked.Exchange(ref pending, begun)?.Done();

    /// <summary>Records what the disposal of this scope has left: disposals that have begun are done, unless one failed.</summary>
    internal void Ended(Exception? failure)
    {
        Marker? marker = Interlocked.Exchange(ref latest, null);
        HashSet<Type> threw = failure is null ? [] : TypesIn(failure);
        bool told = false;
        for (; marker is not null; marker = marker.Earlier)
        {
            if (failure is not null && !told)
            {
                told = marker.Failed(failure, threw);
            }
            else if (marker.Begun)
            {
                marker.Done();
            }
        }
    }

    // The types whose methods the exception went through. A method that is asynchronous runs in a type within.
    private static HashSet<Type> TypesIn(Exception failure)
    {
        var types = new HashSet<Type>();
        foreach (StackFrame frame in new StackTrace(failure, false).GetFrames())
        {
            for (Type? type = frame.GetMethod()?.DeclaringType; type is not null; type = type.DeclaringType)
            {
                types.Add(type);
            }
        }

        return types;
    }
}

/// <summary>The factory of scopes that a consumer was given by its constructor: it shows who opens them.</summary>
internal sealed class RecordedScopeFactory(Container of, Node consumer) : IServiceScopeFactory
{
    internal Node Consumer => consumer;

    /// <summary>The consumer's id, once it is built.</summary>
    internal long Inst { get; set; }

    public IServiceScope CreateScope() => of.CreateScope(this);
}
