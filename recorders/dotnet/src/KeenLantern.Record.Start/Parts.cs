using Autofac;
using KeenLantern.Record.AspNetCore;
using KeenLantern.Record.Autofac;

namespace KeenLantern.Record.Start;

/// <summary>What needs the web framework, which not every application has.</summary>
internal static class Web
{
    internal static void Name(Recorder recorder) => recorder.WithRequests();
}

/// <summary>What needs Autofac, which not every application has.</summary>
internal static class Autofacs
{
    internal static void Record(object builder, Func<Recorder> recorder)
    {
        if (builder is ContainerBuilder autofac)
        {
            autofac.RecordWith(recorder());
        }
    }
}
