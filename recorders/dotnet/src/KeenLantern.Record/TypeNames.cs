using System.Collections.Concurrent;
using System.Text;

namespace KeenLantern.Record;

/// <summary>How a trace writes the names of types.</summary>
public static class TypeNames
{
    private const int Most = 1 << 16; // types made at run time are without bound

    private static readonly ConcurrentDictionary<Type, string> Known = new();

    private static readonly Dictionary<Type, string> Words = new()
    {
        [typeof(bool)] = "bool",
        [typeof(char)] = "char",
        [typeof(byte)] = "byte",
        [typeof(sbyte)] = "sbyte",
        [typeof(short)] = "short",
        [typeof(ushort)] = "ushort",
        [typeof(int)] = "int",
        [typeof(uint)] = "uint",
        [typeof(long)] = "long",
        [typeof(ulong)] = "ulong",
        [typeof(float)] = "float",
        [typeof(double)] = "double",
        [typeof(decimal)] = "decimal",
        [typeof(string)] = "string",
        [typeof(object)] = "object",
    };

    /// <summary>
    /// Returns a type's name as C# writes it, with its namespace: <c>Harbour.Cache&lt;Harbour.Tide&gt;</c>; an open generic without
    /// its parameters: <c>Harbour.Cache&lt;&gt;</c>.
    /// </summary>
    public static string Of(Type type)
    {
        ArgumentNullException.ThrowIfNull(type);
        if (Known.TryGetValue(type, out string? name))
        {
            return name;
        }

        var text = new StringBuilder();
        Write(text, type, 0);
        name = text.ToString();
        if (Known.Count < Most && !type.IsCollectible)
        {
            Known.TryAdd(type, name);
        }

        return name;
    }

    private static void Write(StringBuilder to, Type type, int depth)
    {
        if (Words.TryGetValue(type, out string? word))
        {
            to.Append(word);
            return;
        }

        if (type.IsArray)
        {
            Write(to, type.GetElementType()!, depth);
            to.Append('[').Append(',', type.GetArrayRank() - 1).Append(']');
            return;
        }

        if (type.IsGenericParameter || depth > 16)
        {
            to.Append(type.Name);
            return;
        }

        Type[] arguments = type.GetGenericArguments();
        if (type.DeclaringType is { } around)
        {
            // A nested type has the arguments of what is around it as well: they are written once, at the end.
            WriteSimple(to, around);
            to.Append('.');
        }
        else if (!string.IsNullOrEmpty(type.Namespace))
        {
            to.Append(type.Namespace).Append('.');
        }

        to.Append(Bare(type.Name));
        if (arguments.Length == 0)
        {
            return;
        }

        to.Append('<');
        if (type.IsGenericTypeDefinition)
        {
            to.Append(',', arguments.Length - 1);
        }
        else
        {
            for (int n = 0; n < arguments.Length; n++)
            {
                to.Append(n == 0 ? "" : ", ");
                Write(to, arguments[n], depth + 1);
            }
        }

        to.Append('>');
    }

    private static void WriteSimple(StringBuilder to, Type type)
    {
        if (type.DeclaringType is { } around)
        {
            WriteSimple(to, around);
            to.Append('.');
        }
        else if (!string.IsNullOrEmpty(type.Namespace))
        {
            to.Append(type.Namespace).Append('.');
        }

        to.Append(Bare(type.Name));
    }

    private static string Bare(string name)
    {
        int tick = name.IndexOf('`', StringComparison.Ordinal);
        return tick < 0 ? name : name[..tick];
    }
}
