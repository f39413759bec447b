using System.Collections.Concurrent;
using System.Diagnostics.Tracing;
using System.Globalization;
using System.Text;
using System.Text.Json;
using Microsoft.Extensions.DependencyInjection;
using Xunit;

namespace KeenLantern.Record.DependencyInjection.Tests;

/// <summary>The container's own event source is an independent reading of what it did.</summary>
public class EventSourceTests
{
    [Fact]
    public void Scopes_and_disposals_are_those_that_the_container_counts()
    {
        using var listener = new Listener();
        using var to = new MemoryStream();
        using var recorder = new Recorder(new RecorderOptions { App = "counted", Output = to, EndWithProcess = false });
        int hash;
        using (RecordedServiceProvider provider = new ServiceCollection().AddScoped<Lamp>().AddTransient<Wick>().AddSingleton<Tower>()
            .BuildRecordedServiceProvider(recorder))
        {
            hash = provider.Real.GetHashCode();
            for (int n = 0; n < 25; n++)
            {
                using IServiceScope scope = provider.CreateScope();
                scope.ServiceProvider.GetRequiredService<Tower>();
                for (int more = 0; more < n % 3; more++)
                {
                    scope.ServiceProvider.GetRequiredService<Lamp>();
                    scope.ServiceProvider.GetRequiredService<Wick>();
                }
            }
        }

        recorder.Dispose();
        List<JsonElement> lines = [.. Encoding.UTF8.GetString(to.ToArray()).Split('\n', StringSplitOptions.RemoveEmptyEntries)
            .Select(line => JsonDocument.Parse(line).RootElement)];
        int Count(string ev) => lines.Count(line => line.GetProperty("ev").GetString() == ev);

        List<int> disposed = [.. listener.Scopes.Where(scope => scope.Provider == hash).Select(scope => scope.Disposables)];
        Assert.Equal(25 + 1, disposed.Count); // the root is one
        Assert.Equal(disposed.Count, Count("close"));
        // Each disposable instance has a marker of the recorder's before it.
        Assert.Equal(disposed.Sum(), 2 * Count("dispose"));
        Assert.Equal(Count("make"), Count("dispose"));
    }

    private sealed class Lamp(Wick wick) : IDisposable
    {
        public Wick Wick => wick;

        public void Dispose()
        {
        }
    }

    private sealed class Wick : IDisposable
    {
        public void Dispose()
        {
        }
    }

    private sealed class Tower : IDisposable
    {
        public void Dispose()
        {
        }
    }

    private sealed class Listener : EventListener
    {
        internal ConcurrentQueue<(int Provider, int Disposables)> Scopes { get; } = new();

        protected override void OnEventSourceCreated(EventSource eventSource)
        {
            if (eventSource.Name == "Microsoft-Extensions-DependencyInjection")
            {
                EnableEvents(eventSource, EventLevel.Verbose);
            }
        }

        protected override void OnEventWritten(EventWrittenEventArgs eventData)
        {
            if (eventData.EventName == "ScopeDisposed")
            {
                Scopes.Enqueue((Number(eventData, "serviceProviderHashCode"), Number(eventData, "disposableServices")));
            }
        }

        private static int Number(EventWrittenEventArgs of, string name) =>
            Convert.ToInt32(of.Payload![of.PayloadNames!.IndexOf(name)], CultureInfo.InvariantCulture);
    }
}
