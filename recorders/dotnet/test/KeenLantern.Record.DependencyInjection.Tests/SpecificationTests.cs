using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.DependencyInjection.Specification;

namespace KeenLantern.Record.DependencyInjection.Tests;

/// <summary>Holds the recorded container to the specification of the default one, while it records.</summary>
public class SpecificationTests : DependencyInjectionSpecificationTests
{
    protected override IServiceProvider CreateServiceProvider(IServiceCollection serviceCollection) =>
        serviceCollection.BuildRecordedServiceProvider(Recording.ToNowhere());
}

/// <summary>The same for services with keys.</summary>
public class KeyedSpecificationTests : KeyedDependencyInjectionSpecificationTests
{
    protected override IServiceProvider CreateServiceProvider(IServiceCollection collection) =>
        collection.BuildRecordedServiceProvider(Recording.ToNowhere());
}

/// <summary>The same while recording is off.</summary>
public class OffSpecificationTests : DependencyInjectionSpecificationTests
{
    protected override IServiceProvider CreateServiceProvider(IServiceCollection serviceCollection)
    {
        Recorder recorder = Recording.ToNowhere();
        recorder.Set(Setting.Off);
        return serviceCollection.BuildRecordedServiceProvider(recorder);
    }
}

internal static class Recording
{
    internal static Recorder ToNowhere() => new(new RecorderOptions
    {
        App = "specification",
        Output = Stream.Null,
        EndWithProcess = false,
        Problem = problem => throw new InvalidOperationException("recording has trouble", problem),
    });
}
