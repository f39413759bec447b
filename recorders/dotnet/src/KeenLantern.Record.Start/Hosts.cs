using System.Diagnostics;
using System.Runtime.CompilerServices;
using KeenLantern.Record.DependencyInjection;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;

namespace KeenLantern.Record.Start;

/// <summary>Records the container of each host that is built, by the event that hosts write before they are.</summary>
internal sealed class Hosts : IObserver<DiagnosticListener>, IObserver<KeyValuePair<string, object?>>
{
    private const string Building = "HostBuilding";

    private Hosts()
    {
    }

    internal static void Watch() => DiagnosticListener.AllListeners.Subscribe(new Hosts());

    public void OnNext(DiagnosticListener value)
    {
        if (value.Name == "Microsoft.Extensions.Hosting")
        {
            value.Subscribe(this, name => name == Building);
        }
    }

    public void OnNext(KeyValuePair<string, object?> value)
    {
        if (value.Key != Building || value.Value is not IHostBuilder host || KeenLanternHostExtensions.IsAdded)
        {
            return;
        }

        try
        {
            Record(host);
        }
        catch (Exception e)
        {
            Console.Error.WriteLine("recording for Keen Lantern: " + e.Message);
        }
    }

    public void OnCompleted()
    {
    }

    public void OnError(Exception error)
    {
    }

    private static void Record(IHostBuilder host)
    {
        switch (OtherContainer())
        {
            case null:
                host.UseServiceProviderFactory(FactoryOf);
                break;
            case "Autofac.Extensions.DependencyInjection":
                // Whatever the container is built by, if it is not Autofac after all.
                host.ConfigureContainer<object>((context, builder) => RecordAutofac(builder, context));
                break;
            case string other:
                Console.Error.WriteLine($"recording for Keen Lantern: not recorded, since {other} may replace the default container");
                break;
        }
    }

    private static IServiceProviderFactory<IServiceCollection> FactoryOf(HostBuilderContext context)
    {
        ServiceProviderOptions options = OptionsOf(context);
        try
        {
            return new RecordedServiceProviderFactory(RecorderOf(context), options, ownsRecorder: true);
        }
        catch (Exception e)
        {
            Console.Error.WriteLine("recording for Keen Lantern: " + e.Message); // such as a wrong setting
            return new DefaultServiceProviderFactory(options);
        }
    }

    // An application that has loaded a library which replaces the default container keeps it.
    private static string? OtherContainer() => AppDomain.CurrentDomain.GetAssemblies()
        .Select(assembly => assembly.GetName().Name)
        .FirstOrDefault(name => name is not null &&
            (name.EndsWith(".Extensions.DependencyInjection", StringComparison.Ordinal) || name.EndsWith(".Microsoft.DependencyInjection", StringComparison.Ordinal)) &&
            !name.StartsWith("Microsoft.", StringComparison.Ordinal));

    [MethodImpl(MethodImplOptions.NoInlining)]
    private static void RecordAutofac(object builder, HostBuilderContext context)
    {
        try
        {
            Autofacs.Record(builder, () => RecorderOf(context));
        }
        catch (Exception e)
        {
            Console.Error.WriteLine("recording for Keen Lantern: " + e.Message);
        }
    }

    // As the host's own container checks its registrations.
    private static ServiceProviderOptions OptionsOf(HostBuilderContext context)
    {
        bool validate = context.HostingEnvironment.IsDevelopment();
        return new ServiceProviderOptions { ValidateScopes = validate, ValidateOnBuild = validate };
    }

    private static Recorder RecorderOf(HostBuilderContext context)
    {
        var recorder = new Recorder(KeenLanternHostExtensions.FromEnvironment(context.HostingEnvironment));
        string assemblies = AppContext.GetData("TRUSTED_PLATFORM_ASSEMBLIES") as string ?? "";
        if (assemblies.Contains("Microsoft.AspNetCore.Routing.dll", StringComparison.Ordinal))
        {
            Web.Name(recorder);
        }

        return recorder;
    }
}
