using System.Collections.Concurrent;
using System.Diagnostics.CodeAnalysis;
using System.Reflection;
using System.Reflection.Metadata;
using System.Reflection.Metadata.Ecma335;
using System.Reflection.PortableExecutable;

namespace KeenLantern.Record.Source;

/// <summary>The source lines of an assembly's methods, by its portable symbols: embedded, or in the file beside it.</summary>
internal sealed class Symbols : IDisposable
{
    private const int Most = 256; // assemblies whose symbols stay open

    private static readonly ConcurrentDictionary<Assembly, Symbols?> Opened = new();

    private readonly PEReader code;
    private readonly MetadataReaderProvider provider;
    private readonly MetadataReader reader;

    private Symbols(PEReader code, MetadataReaderProvider provider)
    {
        this.code = code;
        this.provider = provider;
        reader = provider.GetMetadataReader();
    }

    internal PEReader Code => code;

    /// <summary>Returns the symbols of an assembly; null where it has none that can be read.</summary>
    internal static Symbols? Of(Assembly assembly)
    {
        if (Opened.TryGetValue(assembly, out Symbols? known))
        {
            return known;
        }

        Symbols? opened = assembly.IsDynamic || assembly.IsCollectible ? null : Open(FileOf(assembly));
        if (Opened.Count >= Most || !Opened.TryAdd(assembly, opened))
        {
            opened?.Dispose();
            return Opened.GetValueOrDefault(assembly);
        }

        return opened;
    }

    [UnconditionalSuppressMessage("SingleFile", "IL3000", Justification = "An application in a single file has no places.")]
    private static string FileOf(Assembly assembly) => assembly.Location;

    private static Symbols? Open(string file)
    {
        PEReader? code = null;
        try
        {
            if (file.Length == 0 || !File.Exists(file))
            {
                return null;
            }

            code = new PEReader(File.OpenRead(file));
            if (code.HasMetadata && code.TryOpenAssociatedPortablePdb(
                file, path => File.Exists(path) ? File.OpenRead(path) : null, out MetadataReaderProvider? provider, out _) && provider is not null)
            {
                return new Symbols(code, provider);
            }
        }
        catch (Exception e) when (e is BadImageFormatException or IOException or UnauthorizedAccessException or InvalidOperationException)
        {
            // Symbols of another format, or half written.
        }

        code?.Dispose();
        return null;
    }

    /// <summary>Returns the place of an instruction, as <c>Harbour/Program.cs:41</c>; null where it has none.</summary>
    /// <param name="method">The method's metadata token.</param>
    /// <param name="offset">The instruction's offset in bytes.</param>
    internal string? PlaceOf(int method, int offset)
    {
        try
        {
            EntityHandle handle = MetadataTokens.EntityHandle(method);
            if (handle.Kind != HandleKind.MethodDefinition)
            {
                return null;
            }

            SequencePoint? found = null;
            foreach (SequencePoint point in reader.GetMethodDebugInformation(((MethodDefinitionHandle)handle).ToDebugInformationHandle()).GetSequencePoints())
            {
                if (point.IsHidden)
                {
                    continue;
                }

                if (point.Offset > offset && found is not null)
                {
                    break;
                }

                found = point;
            }

            return found is { } at ? Short(reader.GetString(reader.GetDocument(at.Document).Name)) + ":" + at.StartLine : null;
        }
        catch (Exception e) when (e is BadImageFormatException or ArgumentException)
        {
            return null;
        }
    }

    // A file's name with its folder: the folders above differ between machines.
    private static string Short(string path)
    {
        string[] parts = path.Split('/', '\\');
        return parts.Length < 3 ? path : parts[^2] + "/" + parts[^1];
    }

    public void Dispose()
    {
        provider.Dispose();
        code.Dispose();
    }
}
