using System.Globalization;
using System.Reflection;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace KeenLantern.Record.DependencyInjection;

/// <summary>Records applications with a host.</summary>
public static class KeenLanternHostExtensions
{
    /// <summary>
    /// Records the host's container, where a service or a file is given: by <paramref name="configure"/>, or in the environment by
    /// <c>KEENLANTERN_SERVICE</c>, with <c>KEENLANTERN_TOKEN</c>, <c>KEENLANTERN_APP</c>, <c>KEENLANTERN_ENVIRONMENT</c>,
    /// <c>KEENLANTERN_VERSION</c>, <c>KEENLANTERN_SHARE</c>, <c>KEENLANTERN_OFF</c> and <c>KEENLANTERN_HIDE</c>. It may stand before or
    /// after other registrations. Otherwise nothing is changed.
    /// </summary>
    /// <exception cref="ArgumentException">A setting is wrong; the message says which.</exception>
    public static TBuilder AddKeenLantern<TBuilder>(this TBuilder builder, Action<RecorderOptions>? configure = null)
        where TBuilder : IHostApplicationBuilder
    {
        Add(builder, configure, null);
        return builder;
    }

    /// <summary>Adds it; <paramref name="requests"/> returns the requests that a recorder records.</summary>
    internal static void Add(IHostApplicationBuilder builder, Action<RecorderOptions>? configure, Func<Recorder, IRequests>? requests)
    {
        ArgumentNullException.ThrowIfNull(builder);
        IsAdded = true;
        RecorderOptions options = FromEnvironment(builder.Environment);
        configure?.Invoke(options);
        if (options.Service is null && options.File is null && options.Output is null)
        {
            return;
        }

        // As the host's own container checks its registrations.
        bool validate = builder.Environment.IsDevelopment();
        var recorder = new Recorder(options);
        recorder.Requests = requests?.Invoke(recorder);
        builder.ConfigureContainer(new RecordedServiceProviderFactory(
            recorder,
            new ServiceProviderOptions { ValidateScopes = validate, ValidateOnBuild = validate },
            ownsRecorder: true));
    }

    /// <summary>Whether the application adds the recorder itself.</summary>
    internal static bool IsAdded { get; private set; }

    /// <summary>Returns the settings in the environment.</summary>
    /// <exception cref="ArgumentException">One is wrong; the message says which.</exception>
    internal static RecorderOptions FromEnvironment(IHostEnvironment host)
    {
        static string? Of(string name) => Environment.GetEnvironmentVariable("KEENLANTERN_" + name) is { Length: > 0 } text ? text : null;
        var options = new RecorderOptions
        {
            App = Of("APP") ?? host.ApplicationName,
            Environment = Of("ENVIRONMENT") ?? host.EnvironmentName,
            Version = Of("VERSION") ?? Assembly.GetEntryAssembly()?.GetCustomAttribute<AssemblyInformationalVersionAttribute>()?.InformationalVersion,
            Token = Of("TOKEN"),
            HideUnregistered = Of("HIDE") is not null,
        };
        if (Of("SERVICE") is { } service)
        {
            options.Service = Uri.TryCreate(service, UriKind.Absolute, out Uri? address)
                ? address
                : throw new ArgumentException($"KEENLANTERN_SERVICE is '{service}'; set an address such as http://lantern:7460");
        }

        if (Of("SHARE") is { } share)
        {
            options.Setting = double.TryParse(share, CultureInfo.InvariantCulture, out double part) && part is > 0 and <= 1
                ? new Setting { Share = part }
                : throw new ArgumentException($"KEENLANTERN_SHARE is '{share}'; set a number over 0, and 1 at most");
        }

        if (Of("OFF") is not null)
        {
            options.Setting = Setting.Off;
        }

        return options;
    }
}
