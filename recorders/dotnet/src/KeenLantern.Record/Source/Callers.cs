using System.Collections.Concurrent;
using System.Diagnostics;
using System.Diagnostics.CodeAnalysis;
using System.Reflection;
using System.Runtime.CompilerServices;

namespace KeenLantern.Record.Source;

/// <summary>Where in the application's source something happens.</summary>
internal static class Callers
{
    private const int Most = 1 << 12; // places that are kept

    private static readonly string[] Recorders =
    [
        "KeenLantern.Record", "KeenLantern.Record.AspNetCore", "KeenLantern.Record.Autofac", "KeenLantern.Record.DependencyInjection",
        "KeenLantern.Record.Start", "KeenLantern.Record.Testing",
    ];

    private static readonly ConcurrentDictionary<(MethodBase, int), string?> Places = new();
    private static readonly ConcurrentDictionary<Assembly, bool> Frameworks = new();

    /// <summary>Reports whether an assembly is a part of the framework, of a container or of the recorder, by its name.</summary>
    internal static bool IsFramework(Assembly assembly) => Frameworks.GetOrAdd(assembly, static a =>
        a.GetName().Name is not { } name ||
        name.StartsWith("Microsoft.", StringComparison.Ordinal) ||
        name.StartsWith("System.", StringComparison.Ordinal) ||
        name is "Autofac" || name.StartsWith("Autofac.", StringComparison.Ordinal) || Array.IndexOf(Recorders, name) >= 0);

    /// <summary>Returns the place of the application's code that called; null where none is on the stack. It takes some ten µs.</summary>
    [UnconditionalSuppressMessage("Trimming", "IL2026", Justification = "Where methods were trimmed, there is no place.")]
    internal static string? Here()
    {
        if (!RuntimeFeature.IsDynamicCodeSupported)
        {
            return null; // compiled ahead of time: methods have no tokens by which symbols know them
        }

        foreach (StackFrame frame in new StackTrace(1, false).GetFrames())
        {
            // Libraries come without symbols: what calls them is the application's.
            if (frame.GetMethod() is { } method && method.DeclaringType is { } type && !IsFramework(type.Assembly) &&
                PlaceOf(method, frame.GetILOffset()) is { } place)
            {
                return place;
            }
        }

        return null;
    }

    /// <summary>Returns the place of the code of a lambda; null for other methods, whose place is not where they are given.</summary>
    internal static string? OfLambda(Delegate function) =>
        RuntimeFeature.IsDynamicCodeSupported && function.Method.Name.StartsWith('<') && function.Method.DeclaringType is { } type && !IsFramework(type.Assembly) ? PlaceOf(function.Method, 0) : null;

    private static string? PlaceOf(MethodBase method, int offset)
    {
        if (Places.TryGetValue((method, offset), out string? known))
        {
            return known;
        }

        string? place = method.Module.Assembly is { IsDynamic: false } assembly && method.MetadataToken != 0
            ? Symbols.Of(assembly)?.PlaceOf(method.MetadataToken, Math.Max(offset, 0))
            : null;
        if (Places.Count < Most)
        {
            Places.TryAdd((method, offset), place);
        }

        return place;
    }
}
