using Microsoft.Extensions.DependencyInjection;

namespace KeenLantern.Record.DependencyInjection;

/// <summary>Has a host build the default container, recorded.</summary>
/// <param name="recorder">The recorder.</param>
/// <param name="options">How the container checks its registrations.</param>
/// <param name="ownsRecorder">The recording ends when the container is disposed.</param>
public sealed class RecordedServiceProviderFactory(Recorder recorder, ServiceProviderOptions? options = null, bool ownsRecorder = false)
    : IServiceProviderFactory<IServiceCollection>
{
    /// <inheritdoc/>
    public IServiceCollection CreateBuilder(IServiceCollection services) => services;

    /// <inheritdoc/>
    public IServiceProvider CreateServiceProvider(IServiceCollection containerBuilder)
    {
        ArgumentNullException.ThrowIfNull(containerBuilder);
        return new RecordedServiceProvider(new Container(containerBuilder, options ?? new ServiceProviderOptions(), recorder), ownsRecorder);
    }
}

/// <summary>Builds recorded containers.</summary>
public static class RecordedServiceCollectionExtensions
{
    /// <summary>
    /// Builds the default container, recorded. It is used in the place of
    /// <see cref="ServiceCollectionContainerBuilderExtensions.BuildServiceProvider(IServiceCollection, ServiceProviderOptions)"/>.
    /// </summary>
    /// <param name="services">The registrations. They are not changed.</param>
    /// <param name="recorder">The recorder, which may record several containers.</param>
    /// <param name="options">How the container checks its registrations.</param>
    public static RecordedServiceProvider BuildRecordedServiceProvider(
        this IServiceCollection services, Recorder recorder, ServiceProviderOptions? options = null)
    {
        ArgumentNullException.ThrowIfNull(services);
        ArgumentNullException.ThrowIfNull(recorder);
        return (RecordedServiceProvider)new RecordedServiceProviderFactory(recorder, options).CreateServiceProvider(services);
    }
}
