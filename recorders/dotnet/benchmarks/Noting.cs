using System.Diagnostics;
using System.Globalization;
using KeenLantern.Record;
using KeenLantern.Record.DependencyInjection;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;
using Microsoft.Extensions.Logging.Abstractions;
using Microsoft.Extensions.Logging.Console;

namespace KeenLantern.Benchmarks;

/// <summary>Times noting an event against a line of a structured log with the same fields, which goes nowhere.</summary>
internal static class Noting
{
    private const int Times = 20_000; // fewer than wait in memory at most: nothing is dropped
    private const int Rounds = 40;

    internal static void Measure()
    {
        using var loggers = new ServiceCollection().AddLogging(logging => logging.AddJsonConsole()).BuildServiceProvider();
        ConsoleFormatter formatter = loggers.GetServices<ConsoleFormatter>().Single(one => one.Name == ConsoleFormatterNames.Json);
        ILogger logger = new Nowhere(formatter);
        using var recorder = new Recorder(new RecorderOptions { App = "noting", Output = Stream.Null, Memory = 64 << 20 });
        using RecordedServiceProvider provider = new ServiceCollection().AddSingleton<Tower>().AddScoped<Lamp>().BuildRecordedServiceProvider(recorder);
        using IServiceScope scope = provider.CreateScope();
        IServiceProvider of = scope.ServiceProvider;
        using ServiceProvider plain = new ServiceCollection().AddSingleton<Tower>().AddScoped<Lamp>().BuildServiceProvider();
        using IServiceScope plainScope = plain.CreateScope();
        IServiceProvider plainOf = plainScope.ServiceProvider;

        (string Name, Action Do)[] kinds =
        [
            ("a log line", () => logger.LogInformation("{ev} {inst} {scope} {service}", "give", 12L, 34L, "Saltmarsh.TideModel")),
            ("noting a use", () => recorder.Use(new UseEvent { Inst = 1, Scope = 1, Ns = 1200 })),
            ("a singleton handed out, recorded", () => of.GetService(typeof(Tower))),
            ("a singleton handed out, without", () => plainOf.GetService(typeof(Tower))),
        ];
        var took = kinds.Select(_ => new List<double>()).ToArray();
        var bytes = new double[kinds.Length];
        for (int round = -5; round < Rounds; round++)
        {
            for (int n = 0; n < kinds.Length; n++)
            {
                recorder.Flush(TimeSpan.FromSeconds(5));
                long allocated = GC.GetAllocatedBytesForCurrentThread();
                long began = Stopwatch.GetTimestamp();
                for (int time = 0; time < Times; time++)
                {
                    kinds[n].Do();
                }

                double each = Stopwatch.GetElapsedTime(began).TotalNanoseconds / Times;
                if (round >= 0)
                {
                    took[n].Add(each);
                    bytes[n] = (double)(GC.GetAllocatedBytesForCurrentThread() - allocated) / Times;
                }
            }
        }

        for (int n = 0; n < kinds.Length; n++)
        {
            double part = took[n].Zip(took[0], (a, b) => a / b).Order().ElementAt(Rounds / 2) * 100;
            Console.WriteLine(string.Create(
                CultureInfo.InvariantCulture,
                $"{kinds[n].Name,-34} {took[n].Order().ElementAt(Rounds / 2),7:0} ns, {part,6:0.0} % of a log line, {bytes[n],5:0} bytes allocated"));
        }

        Console.WriteLine($"lost: {recorder.Totals.Lost}");
    }

    // Formats a line, and writes it nowhere.
    private sealed class Nowhere(ConsoleFormatter formatter) : ILogger
    {
        public IDisposable? BeginScope<TState>(TState state)
            where TState : notnull => null;

        public bool IsEnabled(LogLevel logLevel) => true;

        public void Log<TState>(LogLevel logLevel, EventId eventId, TState state, Exception? exception, Func<TState, Exception?, string> format)
        {
            var entry = new LogEntry<TState>(logLevel, "noting", eventId, state, exception, format);
            formatter.Write(in entry, null, TextWriter.Null);
        }
    }

    private sealed class Tower;

    private sealed class Lamp;
}
