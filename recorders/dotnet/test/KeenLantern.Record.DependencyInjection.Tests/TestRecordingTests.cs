using KeenLantern.Record.Testing;
using Microsoft.Extensions.DependencyInjection;
using Xunit;

namespace KeenLantern.Record.DependencyInjection.Tests;

/// <summary>Runs the command: <c>make build</c> makes it.</summary>
public class TestRecordingTests
{
    private static TestRecording Record(Func<TestRecording> recording)
    {
        TestRecording record = recording();
        using RecordedServiceProvider provider = new ServiceCollection().AddScoped<Lamp>().AddSingleton<Tower>()
            .BuildRecordedServiceProvider(record.Recorder);
        using IServiceScope scope = provider.CreateScope();
        scope.ServiceProvider.GetRequiredService<Tower>();
        return record;
    }

    [Fact]
    public void A_captive_fails_the_test_with_its_text()
    {
        FoundException found = Assert.Throws<FoundException>(Record(() => new TestRecording("lighthouse")).Dispose);
        Assert.StartsWith("1 finding in ", found.Message, StringComparison.Ordinal);
        Assert.Contains("captive", found.Message, StringComparison.Ordinal);
        Assert.Contains("TestRecordingTests.Tower", found.Message, StringComparison.Ordinal);
        Assert.Contains("TestRecordingTests.cs:", found.Message, StringComparison.Ordinal);
        string id = found.Message.Split('\n').First(line => line.StartsWith("error", StringComparison.OrdinalIgnoreCase)).Split(' ')[^1];
        Record(() => new TestRecording("lighthouse") { Accepted = [id] }).Dispose();
    }

    [Fact]
    public void A_sound_test_passes()
    {
        using var recording = new TestRecording { FailOn = "note" };
        using RecordedServiceProvider provider = new ServiceCollection().AddScoped<Lamp>().BuildRecordedServiceProvider(recording.Recorder);
        using IServiceScope scope = provider.CreateScope();
        scope.ServiceProvider.GetRequiredService<Lamp>();
    }

    internal sealed class Lamp;

    internal sealed class Tower(Lamp lamp)
    {
        public Lamp Lamp => lamp;
    }
}
