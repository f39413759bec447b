using System.Globalization;
using System.Runtime.CompilerServices;

namespace KeenLantern.Record;

/// <summary>Writes keys of any type.</summary>
internal sealed class Keys
{
    private readonly ConditionalWeakTable<object, object> numbers = []; // by identity: an object's own equality may be anything
    private int count;

    /// <summary>
    /// Returns how a trace writes a key: a text as it is, anything else as its type in parentheses and its value, so that keys that
    /// differ never look alike. An object is numbered in the order in which it is met: its ToString is never called.
    /// </summary>
    internal string Text(object? key)
    {
        switch (key)
        {
            case null:
                return "(null)";
            case string text:
                return text.StartsWith('(') ? "(text) " + text : text;
            case Type type:
                return "(type) " + TypeNames.Of(type);
            case Enum member:
                return $"({TypeNames.Of(member.GetType())}) {member:G}";
            case bool or char or sbyte or byte or short or ushort or int or uint or long or ulong or nint or nuint or float or double
                or decimal or Guid or DateTime or DateTimeOffset or DateOnly or TimeOnly or TimeSpan:
                return $"({TypeNames.Of(key.GetType())}) {Convert.ToString(key, CultureInfo.InvariantCulture)}";
        }

        object number = numbers.GetValue(key, _ => Interlocked.Increment(ref count));
        return $"({TypeNames.Of(key.GetType())}) #{number}";
    }
}
