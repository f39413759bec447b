using Autofac;

namespace KeenLantern.Record.Autofac;

/// <summary>Records containers of Autofac.</summary>
public static class RecordingExtensions
{
    /// <summary>
    /// Records the container that is built. It may stand before or after other registrations. What nested lifetime scopes register for
    /// themselves is not recorded.
    /// </summary>
    /// <param name="builder">The builder of the container.</param>
    /// <param name="recorder">The recorder, which may record several containers.</param>
    public static ContainerBuilder RecordWith(this ContainerBuilder builder, Recorder recorder)
    {
        ArgumentNullException.ThrowIfNull(builder);
        ArgumentNullException.ThrowIfNull(recorder);
        _ = new RecordedContainer(builder, recorder);
        return builder;
    }
}
