using KeenLantern.Record.DependencyInjection;
using Microsoft.AspNetCore.Builder;
using Microsoft.Extensions.DependencyInjection;

namespace KeenLantern.Record.AspNetCore;

/// <summary>Records web applications.</summary>
public static class KeenLanternWebExtensions
{
    /// <summary>
    /// Records the application's container, and its requests by the patterns of their routes. The settings are those of
    /// <see cref="KeenLanternHostExtensions.AddKeenLantern{TBuilder}"/>.
    /// </summary>
    /// <exception cref="ArgumentException">A setting is wrong; the message says which.</exception>
    public static WebApplicationBuilder AddKeenLantern(this WebApplicationBuilder builder, Action<RecorderOptions>? configure = null)
    {
        ArgumentNullException.ThrowIfNull(builder);
        KeenLanternHostExtensions.Add(builder, configure, recorder => new Requests(recorder));
        return builder;
    }

    /// <summary>Returns what a host builds its recorded container by, where the application has its own recorder.</summary>
    /// <param name="recorder">The recorder.</param>
    /// <param name="options">How the container checks its registrations.</param>
    public static RecordedServiceProviderFactory ForRequests(this Recorder recorder, ServiceProviderOptions? options = null) =>
        new(recorder.WithRequests(), options);

    /// <summary>Names the scopes of requests by the patterns of their routes, whichever container makes them. It returns the recorder.</summary>
    public static Recorder WithRequests(this Recorder recorder)
    {
        ArgumentNullException.ThrowIfNull(recorder);
        recorder.Requests ??= new Requests(recorder);
        return recorder;
    }
}
