using System.Reflection;
using System.Runtime.Loader;
using KeenLantern.Record.Start;

/// <summary>What the runtime calls before the application's Main, where DOTNET_STARTUP_HOOKS names this assembly.</summary>
internal static class StartupHook
{
    /// <summary>Waits for the application to build a host. It throws nothing, whatever process it was started in.</summary>
    public static void Initialize()
    {
        if (string.IsNullOrEmpty(Environment.GetEnvironmentVariable("KEENLANTERN_SERVICE")))
        {
            return;
        }

        try
        {
            string folder = Path.GetDirectoryName(typeof(StartupHook).Assembly.Location) ?? "";
            // What the application brings itself is found first. The framework's assemblies are not in the folder.
            AssemblyLoadContext.Default.Resolving += (context, name) =>
            {
                string file = Path.Combine(folder, name.Name + ".dll");
                return File.Exists(file) ? context.LoadFromAssemblyPath(file) : null;
            };
            Begin();
        }
        catch (Exception e)
        {
            Console.Error.WriteLine("recording for Keen Lantern: " + e.Message);
        }
    }

    // Apart, since it needs the assemblies beside this one.
    [System.Runtime.CompilerServices.MethodImpl(System.Runtime.CompilerServices.MethodImplOptions.NoInlining)]
    private static void Begin() => Hosts.Watch();
}
