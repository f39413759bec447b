using System.Diagnostics;
using System.Globalization;

namespace KeenLantern.Benchmarks;

/// <summary>
/// Times requests of the office, without the recorder, with recording off and with recording on: each in a separate process, one request
/// after the other in turns, so that what else runs on the machine falls on all of them. A second office without the recorder shows what the
/// measure itself is worth.
/// </summary>
internal static class Office
{
    private const int Blocks = 20;
    private const int Requests = 1000; // of each, in a block

    private static readonly string[] Paths = ["/pilots", "/tides/outer-bar", "/arrivals?ship=Sandpiper", "/tugs"];

    internal static async Task Measure(string container, string service)
    {
        (string Name, string Recording)[] kinds = [("without", "none"), ("without, again", "none"), ("off", "off"), ("on, nowhere", "nowhere"), ("on, to a service", "on")];
        var offices = new List<Running>();
        foreach ((string name, string recording) in kinds)
        {
            offices.Add(await Running.Start(name, container, recording, service));
        }

        for (int block = -5; block < Blocks; block++) // the first ones warm up
        {
            for (int n = 0; n < Requests; n++)
            {
                for (int of = 0; of < offices.Count; of++)
                {
                    await offices[(of + n) % offices.Count].Ask(n);
                }
            }

            offices.ForEach(office => office.End(block >= 0));
        }

        Console.WriteLine($"{container}: {Blocks} blocks of {Requests} requests each");
        foreach (Running office in offices)
        {
            office.Report(offices[0]);
            await office.Stop();
        }
    }

    private sealed class Running(string name, Process process, HttpClient client)
    {
        private readonly List<double> took = [];
        private readonly List<double> medians = [];
        private readonly List<double> ends = [];

        internal static async Task<Running> Start(string name, string container, string recording, string service)
        {
            string office = Path.Combine(AppContext.BaseDirectory, "../../../../office/bin/Release/net10.0/KeenLantern.Office.dll");
            var process = Process.Start(new ProcessStartInfo("dotnet", [office, "serve", "--container", container, "--recording", recording, "--service", service])
            {
                RedirectStandardInput = true,
                RedirectStandardOutput = true,
            })!;
            string address = await process.StandardOutput.ReadLineAsync() ?? throw new InvalidOperationException("the office did not start");
            return new Running(name, process, new HttpClient { BaseAddress = new Uri(address) });
        }

        internal async Task Ask(int n)
        {
            string path = Paths[n % Paths.Length];
            long began = Stopwatch.GetTimestamp();
            using var request = new HttpRequestMessage(n % 4 < 2 ? HttpMethod.Get : HttpMethod.Post, path);
            using HttpResponseMessage answer = await client.SendAsync(request);
            await answer.Content.ReadAsByteArrayAsync();
            took.Add(Stopwatch.GetElapsedTime(began).TotalMicroseconds);
            answer.EnsureSuccessStatusCode();
        }

        internal void End(bool counts)
        {
            took.Sort();
            if (counts)
            {
                medians.Add(took[took.Count / 2]);
                ends.Add(took[took.Count * 99 / 100]);
            }

            took.Clear();
        }

        // Ratios of the same block, of which the median is taken.
        internal void Report(Running baseline) => Console.WriteLine(string.Create(
            CultureInfo.InvariantCulture,
            $"{name,-16} median {Middle(medians),6:0} µs, {Over(medians, baseline.medians):+0.0;-0.0} %; 99th percentile {Middle(ends),6:0} µs, {Over(ends, baseline.ends):+0.0;-0.0} %"));

        private static double Over(List<double> these, List<double> those) => (Middle([.. these.Zip(those, (a, b) => a / b)]) - 1) * 100;

        private static double Middle(List<double> values) => values.Order().ElementAt(values.Count / 2);

        internal async Task Stop()
        {
            process.StandardInput.Close();
            await process.WaitForExitAsync();
            process.Dispose();
        }
    }
}
