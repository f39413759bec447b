using System.Buffers;
using System.Buffers.Text;
using System.Text;

namespace KeenLantern.Record;

/// <summary>Writes lines of a trace into memory, as UTF-8. It belongs to one thread.</summary>
internal sealed class Line(int capacity)
{
    // JSON escapes nothing else: a reader takes every other character as it is.
    private static readonly SearchValues<char> Plain = SearchValues.Create(
        Enumerable.Range(0x20, 0x5f).Select(c => (char)c).Where(c => c is not ('"' or '\\')).ToArray());

    private byte[] bytes = new byte[capacity];

    /// <summary>How many bytes are written; a smaller number takes back what was written last.</summary>
    internal int Size { get; set; }

    internal ReadOnlyMemory<byte> Written => bytes.AsMemory(0, Size);

    internal void Begin(ReadOnlySpan<byte> begins, long t)
    {
        Raw(begins);
        Number(t);
    }

    internal void End() => Raw("}\n"u8);

    internal void Add(ReadOnlySpan<byte> member, string value)
    {
        Raw(member);
        Quoted(value);
    }

    internal void Add(ReadOnlySpan<byte> member, long value)
    {
        Raw(member);
        if (value == TraceEvent.Nobody)
        {
            Raw("null"u8);
        }
        else
        {
            Number(value);
        }
    }

    internal void Add(ReadOnlySpan<byte> member, bool value)
    {
        Raw(member);
        Raw(value ? "true"u8 : "false"u8);
    }

    internal void Add(ReadOnlySpan<byte> member, double value)
    {
        Raw(member);
        Room(32);
        Utf8Formatter.TryFormat(value, bytes.AsSpan(Size), out int written);
        Size += written;
    }

    internal void Add(ReadOnlySpan<byte> member, object flow)
    {
        Raw(member);
        if (flow is long or int)
        {
            Number(Convert.ToInt64(flow, null));
        }
        else
        {
            Quoted(flow.ToString() ?? "");
        }
    }

    internal void Add(ReadOnlySpan<byte> member, IReadOnlyList<string> texts)
    {
        Raw(member);
        Separated(texts, static (line, text) => line.Quoted(text));
    }

    internal void Add(ReadOnlySpan<byte> member, IReadOnlyDictionary<string, string> labels)
    {
        Raw(member);
        Raw("{"u8);
        bool first = true;
        // In the order of the bytes of their names.
        foreach ((byte[] _, string name) in labels.Keys.Select(name => (Encoding.UTF8.GetBytes(name), name)).Order(ByBytes))
        {
            if (!first)
            {
                Raw(","u8);
            }

            first = false;
            Quoted(name);
            Raw(":"u8);
            Quoted(labels[name]);
        }

        Raw("}"u8);
    }

    private static readonly Comparer<(byte[] Bytes, string)> ByBytes =
        Comparer<(byte[] Bytes, string)>.Create((a, b) => a.Bytes.AsSpan().SequenceCompareTo(b.Bytes));

    internal void Add(ReadOnlySpan<byte> member, IReadOnlyList<Also> list)
    {
        Raw(member);
        Separated(list, static (line, one) =>
        {
            line.Add("{\"service\":"u8, one.Service);
            line.Optional(",\"key\":"u8, one.Key);
            line.Raw("}"u8);
        });
    }

    internal void Add(ReadOnlySpan<byte> member, IReadOnlyList<Need> list)
    {
        Raw(member);
        Separated(list, static (line, need) =>
        {
            line.Add("{\"service\":"u8, need.Service);
            line.Optional(",\"site\":"u8, need.Site);
            line.Optional(",\"key\":"u8, need.Key);
            line.Optional(",\"how\":"u8, need.How is { } how ? Word.Of(how) : null);
            line.Raw(need.All ? ",\"all\":true"u8 : default);
            line.Raw(need.Optional ? ",\"optional\":true"u8 : default);
            line.Raw(need.Lazy ? ",\"lazy\":true"u8 : default);
            line.Raw("}"u8);
        });
    }

    internal void Add(ReadOnlySpan<byte> member, IReadOnlyList<object?> with)
    {
        Raw(member);
        if (with is not InstanceIds ids)
        {
            Separated(with, static (line, given) => line.Given(given));
            return;
        }

        Raw("["u8);
        for (int n = 0; n < ids.Count; n++)
        {
            Raw(n == 0 ? default : ","u8);
            Number(ids.Span[n]);
        }

        Raw("]"u8);
    }

    private void Given(object? given)
    {
        switch (given)
        {
            case null:
                Raw("null"u8);
                break;
            case long or int:
                Number(Convert.ToInt64(given, null));
                break;
            case IReadOnlyList<object?> several:
                Separated(several, static (line, one) => line.Given(one));
                break;
            case Given { Plain: true } plain:
                Number(plain.Inst);
                break;
            case Given one:
                Add("{\"inst\":"u8, one.Inst);
                Optional(",\"site\":"u8, one.Site);
                Optional(",\"service\":"u8, one.Service);
                Optional(",\"key\":"u8, one.Key);
                if (one.Via != 0)
                {
                    Add(",\"via\":"u8, one.Via);
                }

                Raw(one.Kept ? default : ",\"kept\":false"u8);
                Raw(one.Unknown ? ",\"unknown\":true"u8 : default);
                Raw("}"u8);
                break;
            default:
                throw new ArgumentException($"an instance is given by its id or as Given, not as {given.GetType()}", nameof(given));
        }
    }

    internal void Add(ReadOnlySpan<byte> member, Part part)
    {
        Raw(member);
        switch (part)
        {
            case Part.InContainer it:
                Add("{\"container\":"u8, it.Container);
                break;
            case Part.InModule it:
                Add("{\"module\":"u8, it.Module);
                break;
            case Part.InScopes it:
                Add("{\"scope\":"u8, it.Kind);
                break;
        }

        Raw("}"u8);
    }

    private void Optional(ReadOnlySpan<byte> member, string? value)
    {
        if (value is not null)
        {
            Add(member, value);
        }
    }

    private void Separated<T>(IReadOnlyList<T> list, Action<Line, T> each)
    {
        Raw("["u8);
        for (int n = 0; n < list.Count; n++)
        {
            if (n > 0)
            {
                Raw(","u8);
            }

            each(this, list[n]);
        }

        Raw("]"u8);
    }

    private void Number(long value)
    {
        Room(20);
        Utf8Formatter.TryFormat(value, bytes.AsSpan(Size), out int written);
        Size += written;
    }

    // A JSON string of a text, cut behind MaxText bytes of UTF-8 on a character's edge. Half of a surrogate pair is U+FFFD.
    private void Quoted(string text)
    {
        // Six bytes for a character are the most: of one that is escaped.
        Room(2 + (6 * Math.Min(text.Length, TraceEvent.MaxText)));
        bytes[Size++] = (byte)'"';
        ReadOnlySpan<char> rest = text;
        int left = TraceEvent.MaxText;
        while (!rest.IsEmpty && left > 0)
        {
            int plain = rest.IndexOfAnyExcept(Plain);
            plain = Math.Min(plain < 0 ? rest.Length : plain, left);
            if (plain > 0)
            {
                Size += Encoding.UTF8.GetBytes(rest[..plain], bytes.AsSpan(Size));
                left -= plain;
                rest = rest[plain..];
                continue;
            }

            Rune.DecodeFromUtf16(rest, out Rune character, out int units); // U+FFFD of half a pair
            if ((left -= character.Utf8SequenceLength) < 0)
            {
                break;
            }

            rest = rest[units..];
            if (character.IsAscii && (character.Value < 0x20 || character.Value is '"' or '\\'))
            {
                Escaped((byte)character.Value);
            }
            else
            {
                Size += character.EncodeToUtf8(bytes.AsSpan(Size));
            }
        }

        bytes[Size++] = (byte)'"';
    }

    private void Escaped(byte c)
    {
        bytes[Size++] = (byte)'\\';
        switch (c)
        {
            case (byte)'"' or (byte)'\\':
                bytes[Size++] = c;
                break;
            case (byte)'\n':
                bytes[Size++] = (byte)'n';
                break;
            case (byte)'\t':
                bytes[Size++] = (byte)'t';
                break;
            default:
                Raw("u00"u8);
                bytes[Size++] = "0123456789abcdef"u8[c >> 4];
                bytes[Size++] = "0123456789abcdef"u8[c & 15];
                break;
        }
    }

    internal void Raw(ReadOnlySpan<byte> text)
    {
        Room(text.Length);
        text.CopyTo(bytes.AsSpan(Size));
        Size += text.Length;
    }

    private void Room(int more)
    {
        if (Size + more > bytes.Length)
        {
            Array.Resize(ref bytes, Math.Max(Size + more, 2 * bytes.Length));
        }
    }
}
