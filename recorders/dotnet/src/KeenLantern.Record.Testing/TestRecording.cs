using System.ComponentModel;
using System.Diagnostics;
using System.Runtime.CompilerServices;

namespace KeenLantern.Record.Testing;

/// <summary>
/// Records a test, or the tests of a class, and checks the recording with <c>keenlantern check</c> when it is disposed: a finding fails the
/// test, with the finding's text. It serves any test framework: in xunit, as a field that the class disposes, or as a class fixture.
/// </summary>
/// <remarks>
/// The command is the one that the environment variable <c>KEENLANTERN_COMMAND</c> names, <c>keenlantern</c> on the path otherwise.
/// </remarks>
public sealed class TestRecording : IDisposable
{
    private static readonly string[] Severities = ["note", "warning", "error"];
    private static int recordings;

    private bool ended;

    /// <summary>Starts recording.</summary>
    /// <param name="app">The application's name in the recording, which its findings and its contract are known by.</param>
    /// <param name="file">The file in which this is called: the recording is named after it.</param>
    public TestRecording(string app = "tests", [CallerFilePath] string file = "")
    {
        string folder = Path.Combine(AppContext.BaseDirectory, "keenlantern");
        Directory.CreateDirectory(folder);
        string name = file.Length == 0 ? app : Path.GetFileNameWithoutExtension(file);
        Trace = Path.Combine(folder, $"{name}.{Environment.ProcessId}.{Interlocked.Increment(ref recordings)}.ndjson.gz");
        File.Delete(Trace);
        Recorder = new Recorder(new RecorderOptions { App = app, Environment = "test", File = Trace, EndWithProcess = false });
    }

    /// <summary>What records: a container is built with it.</summary>
    public Recorder Recorder { get; }

    /// <summary>The file with the recording.</summary>
    public string Trace { get; }

    /// <summary>Findings of this severity or a worse one fail the test: error, warning or note.</summary>
    public string FailOn { get; init; } = "error";

    /// <summary>The ids of findings that are accepted.</summary>
    public IReadOnlyCollection<string> Accepted { get; init; } = [];

    /// <summary>
    /// A contract's file: a broken clause fails the test, and findings that the contract accepts do not. Null for none.
    /// </summary>
    public string? Contract { get; init; }

    /// <summary>Ends the recording and checks it.</summary>
    /// <exception cref="FoundException">There are findings; the message has their text.</exception>
    /// <exception cref="InvalidOperationException">The recording cannot be checked; the message says why.</exception>
    public void Dispose()
    {
        if (ended)
        {
            return;
        }

        ended = true;
        Recorder.Close(TimeSpan.FromSeconds(10));
        int least = Array.IndexOf(Severities, FailOn);
        // Which findings there are: severity, rule and id; the rest may go over several lines.
        HashSet<string> failing = [.. Run("csv").Split('\n').Skip(1)
            .Select(line => line.Split(',', 4))
            .Where(fields => fields.Length == 4 && fields[2].Length == 12 && Array.IndexOf(Severities, fields[0]) >= least && !Accepted.Contains(fields[2]))
            .Select(fields => fields[2])];
        if (failing.Count > 0)
        {
            IEnumerable<string> texts = Run("text").Split("\n\n").Select(part => part.Trim())
                .Where(part => failing.Any(id => part.Split('\n')[0].EndsWith(id, StringComparison.Ordinal)));
            throw new FoundException($"{(failing.Count == 1 ? "1 finding" : failing.Count + " findings")} in {Trace}:\n\n{string.Join("\n\n", texts)}");
        }
    }

    private string Run(string format)
    {
        string command = Environment.GetEnvironmentVariable("KEENLANTERN_COMMAND") is { Length: > 0 } named ? named : "keenlantern";
        var start = new ProcessStartInfo(command, ["check", Trace, "--format", format, "--fail-on", "never"])
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        if (Contract is not null)
        {
            start.ArgumentList.Add("--contract");
            start.ArgumentList.Add(Contract);
        }

        try
        {
            using Process process = Process.Start(start)!;
            Task<string> trouble = process.StandardError.ReadToEndAsync();
            string text = process.StandardOutput.ReadToEnd();
            process.WaitForExit();
            // 1: the contract is broken, which is among the findings.
            return process.ExitCode == 0 || (process.ExitCode == 1 && Contract is not null)
                ? text
                : throw new InvalidOperationException($"check the recording {Trace}: {trouble.GetAwaiter().GetResult()}{text}");
        }
        catch (Win32Exception e)
        {
            throw new InvalidOperationException(
                $"check the recording {Trace}: there is no command {command}; install keenlantern, or name it in KEENLANTERN_COMMAND", e);
        }
    }
}

/// <summary>A test's recording has findings.</summary>
public sealed class FoundException : Exception
{
    /// <summary>Has no text.</summary>
    public FoundException()
    {
    }

    /// <summary>Has the text of findings.</summary>
    public FoundException(string message)
        : base(message)
    {
    }

    /// <summary>Has the text of findings, and a cause.</summary>
    public FoundException(string message, Exception innerException)
        : base(message, innerException)
    {
    }
}
