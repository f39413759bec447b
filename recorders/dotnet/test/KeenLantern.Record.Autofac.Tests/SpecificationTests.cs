using Autofac;
using Autofac.Extensions.DependencyInjection;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.DependencyInjection.Specification;

namespace KeenLantern.Record.Autofac.Tests;

/// <summary>What the framework asks of a container, of Autofac as it is recorded.</summary>
public class RecordedSpecificationTests : DependencyInjectionSpecificationTests
{
    protected override IServiceProvider CreateServiceProvider(IServiceCollection serviceCollection)
    {
        var builder = new ContainerBuilder();
        builder.Populate(serviceCollection);
        builder.RecordWith(new Recorder(new RecorderOptions { App = "specification", Output = Stream.Null, EndWithProcess = false }));
        return new AutofacServiceProvider(builder.Build());
    }
}
