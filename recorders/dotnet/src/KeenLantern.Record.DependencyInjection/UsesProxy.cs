using System.Diagnostics;
using System.Reflection;
using System.Runtime.ExceptionServices;

namespace KeenLantern.Record.DependencyInjection;

/// <summary>A proxy for an instance where its interface is asked for: it records the calls.</summary>
/// <remarks>The runtime makes a class of it for each interface, which is why it is not sealed.</remarks>
internal class UsesProxy : DispatchProxy
{
    private Recorder? recorder;
    private long inst;
    private long home;

    /// <summary>The instance.</summary>
    protected object Target { get; private set; } = null!;

    /// <summary>Returns a proxy for an instance. Disposing the proxy disposes the instance.</summary>
    internal static object Of(object target, Type service, Recorder recorder, long inst, long home)
    {
        Type kind = target switch
        {
            IDisposable and IAsyncDisposable => typeof(DisposableInBothWays),
            IDisposable => typeof(Disposable),
            IAsyncDisposable => typeof(AsyncDisposable),
            _ => typeof(UsesProxy),
        };
        var proxy = (UsesProxy)Create(service, kind);
        proxy.Target = target;
        proxy.recorder = recorder;
        proxy.inst = inst;
        proxy.home = home;
        return proxy;
    }

    protected override object? Invoke(MethodInfo? targetMethod, object?[]? args)
    {
        long began = Stopwatch.GetTimestamp();
        try
        {
            return targetMethod!.Invoke(Target, args);
        }
        catch (TargetInvocationException e) when (e.InnerException is not null)
        {
            ExceptionDispatchInfo.Throw(e.InnerException);
            throw;
        }
        finally
        {
            Type? of = targetMethod!.DeclaringType;
            if (of != typeof(IDisposable) && of != typeof(IAsyncDisposable))
            {
                long here = recorder!.Here;
                recorder.Use(new UseEvent
                {
                    Inst = inst,
                    Scope = here == 0 ? home : here,
                    Ns = Recorder.Nanoseconds(Stopwatch.GetTimestamp() - began),
                    Site = targetMethod.Name,
                });
            }
        }
    }

    private class Disposable : UsesProxy, IDisposable
    {
        public void Dispose() => ((IDisposable)Target).Dispose();
    }

    private class AsyncDisposable : UsesProxy, IAsyncDisposable
    {
        public ValueTask DisposeAsync() => ((IAsyncDisposable)Target).DisposeAsync();
    }

    private class DisposableInBothWays : UsesProxy, IDisposable, IAsyncDisposable
    {
        public void Dispose() => ((IDisposable)Target).Dispose();

        public ValueTask DisposeAsync() => ((IAsyncDisposable)Target).DisposeAsync();
    }
}
